package app

import (
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/split"
)

// Split prepares tests to be split, as the workspace does. Shards on machines of their own first take the time that
// machines take to start, unless f says which.
func (a *App) Split(tests []catalog.Test, together catalog.Level, f split.Fleet, here bool) (*split.Study, error) {
	if !here {
		if err := a.CheckDivisible(tests, "be divided among shards"); err != nil {
			return nil, err
		}
	}
	if !here && f.Start == 0 {
		f.Start = a.machineStart()
	}
	return a.Workspace.Split(tests, together, f, here)
}

// runsStarted is how many of the latest runs teach how long machines take to start, and leastStart what is worth planning for,
// in seconds.
const (
	runsStarted = 20
	leastStart  = 1
)

// machineStart returns the seconds that a machine takes before its first test: what fern.toml says, or the median of
// the latest runs, 0 if that is less than leastStart.
func (a *App) machineStart() float64 {
	if a.Project.Start > 0 {
		return a.Project.Start.Seconds()
	}
	runs, err := a.Ledger().List()
	if err != nil {
		return 0 // the next to read the ledger reports it
	}
	var starts []float64
	for _, r := range slices.Backward(runs) {
		if !r.Trial && r.Prepared > 0 && len(starts) < runsStarted {
			starts = append(starts, r.Prepared)
		}
	}
	if len(starts) == 0 {
		return 0
	}
	slices.Sort(starts)
	if median := starts[len(starts)/2]; median >= leastStart {
		return median
	}
	return 0
}

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
