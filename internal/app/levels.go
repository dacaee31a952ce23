package app

import (
	"fernrelay/core/run"
	"fernrelay/core/schedule"
)

// TrialLevels finds out how finely the tests of a request may run side by side, with up to a number of runs of each level.
// do runs a request.
func (a *App) TrialLevels(q Request, times int, do func(q Request, what string) (*run.Run, error)) (*schedule.LevelTrial, error) {
	if err := a.CheckDivisible(q.Tests, "run side by side"); err != nil {
		return nil, err
	}
	return schedule.TrialLevels(q.Tests, q.Workers, times, func(l schedule.LevelRun) (*run.Run, error) {
		one := q
		one.Workers, one.Together, one.InOrder = l.Workers, l.Together, l.InOrder || q.InOrder
		if l.First != nil {
			one.First = l.First
		}
		return do(one, l.What)
	})
}
