package relay

import (
	"cmp"
	"fmt"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/ledger"
)

// Split makes tests ready to be split. Where the shards are workers of this
// machine, its resources are never held by too many at once; shards on several
// machines keep apart only what the project says that all machines share.
func (r *Relay) Split(tests []catalog.Test, together split.Together, f split.Fleet, here bool) (*split.Study, error) {
	if !here {
		return split.NewStudy(tests, together, f, r.Project.Shared...)
	}
	f.Resources = map[string]int{}
	for i := range tests {
		for _, name := range tests[i].Rules.Holds {
			f.Resources[name] = max(1, r.Project.Resources[name])
		}
	}
	return split.NewStudy(tests, together, f)
}

// ReadyPlan makes a request of a whole plan of tests: each shard is run by a worker
// of its own, in the planned order. Where only some may run at once, as many workers
// take what the shards hold from the first to the last.
func (r *Relay) ReadyPlan(text string, tests []catalog.Test, p split.Plan, f split.Fleet) (Request, error) {
	at, worker := make(map[string]int, len(tests)), make(map[string]int, len(tests))
	for _, s := range p.Shards {
		for _, id := range s.Tests() {
			at[id], worker[id] = len(at), s.Number
		}
	}
	ordered := slices.Clone(tests)
	slices.SortStableFunc(ordered, func(a, b catalog.Test) int { return at[a.ID] - at[b.ID] })
	q, err := r.Ready(text, ordered, f.AtOnce())
	q.InOrder, q.Planned = true, p.Finish
	if f.AtOnce() == f.Shards {
		q.Worker = worker
	}
	return q, err
}

// Together is what never runs side by side where nothing else is asked for: as the
// suites say, or groups where they differ.
func (r *Relay) Together() split.Together {
	level := split.Group
	for i, s := range r.Project.Suites {
		switch {
		case i == 0:
			level = s.Together
		case level != s.Together:
			return split.Group
		}
	}
	return cmp.Or(level, split.Group)
}

// Planned is how long a request should take in seconds, without building: as its
// plan says, or as one would say that is made for it; 0 where too little is known.
func (r *Relay) Planned(q Request) float64 {
	if q.Planned > 0 {
		return q.Planned
	}
	study, err := r.Split(q.Tests, cmp.Or(q.Together, r.Together()), split.Fleet{Shards: q.Workers}, true)
	if err != nil {
		return 0 // the run says so
	}
	plan := study.Plan(split.Quick)
	if plan.Unknown > len(q.Tests)/2 {
		return 0
	}
	return plan.Finish
}

// ReadyReplay makes a request that repeats a run of the ledger, 0 for the latest:
// every test on the worker that had it, in the order in which that worker began
// them; with a worker above 0 only what that one had. gone counts tests of the run
// that the project has no more.
func (r *Relay) ReadyReplay(number, worker int) (q Request, gone int, err error) {
	kept, ran, err := r.run(number)
	if err != nil {
		return q, 0, err
	}
	if worker > kept.Workers {
		return q, 0, fmt.Errorf("run %d had %d workers: there is no worker %d", kept.Number, kept.Workers, worker)
	}
	if kept.Source != "" && !slices.ContainsFunc(ran.Results, func(r *run.Result) bool { return r.Worker > 0 }) {
		return q, 0, fmt.Errorf("run %d was imported from %s, which does not say what ran where: it cannot be repeated", kept.Number, kept.Source)
	}
	var tests []catalog.Test
	on := map[string]int{}
	for _, result := range ran.Results { // in the order in which they began
		if worker > 0 && result.Worker != worker {
			continue
		}
		t, ok := r.Catalog.Lookup(result.ID)
		if !ok {
			gone++
			continue
		}
		tests = append(tests, *t)
		on[t.ID] = result.Worker // 0 for one that never began
		if worker > 0 {
			on[t.ID] = 1
		}
	}
	workers := kept.Workers
	if worker > 0 {
		workers = 1
	}
	if len(tests) == 0 {
		return q, gone, fmt.Errorf("run %d has no test that the project still has", kept.Number)
	}
	q, err = r.Ready(kept.Pick, tests, workers)
	q.InOrder, q.Worker, q.Order = true, on, fmt.Sprint("of run ", kept.Number)
	return q, gone, err
}

// run gives a run of the ledger, the latest for 0.
func (r *Relay) run(number int) (*ledger.RunRecord, *run.Run, error) {
	kept := r.ledger()
	if kept == nil {
		return nil, nil, ledger.ErrNoRun
	}
	if number == 0 {
		return kept.Last()
	}
	return kept.Run(number)
}
