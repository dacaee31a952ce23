package app

import (
	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/core/split"
)

// Slowest returns the slowest of some tests, their groups and files, at most n of each, and how much earlier a run
// on the project's workers would end without each.
func (a *App) Slowest(p *history.Past, tests []catalog.Test, n int) (*history.Slowness, error) {
	fleet := split.Fleet{Shards: a.Workers()}
	study, err := a.Split(tests, "", fleet, true)
	if err != nil {
		return nil, err
	}
	return p.Slowest(tests, n, fleet.Shards, func(without []int) float64 { return study.Without(without).Plan(split.Quick).Finish }), nil
}

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
