package app

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
	"fernrelay/core/quarantine"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/core/split"
	"fernrelay/internal/engine"
	"fernrelay/internal/processors"
	"fernrelay/internal/service"
	"fernrelay/internal/workspace"
)

// Control steers a run while it goes on.
type Control = engine.Control

// A Request says what to run and how.
type Request struct {
	Pick    string              // as it is kept with the run
	Tests   []catalog.Test      // in the order to run
	InOrder bool                // keep to that order; otherwise long groups may go first
	Bare    map[string][]string // by suite: groups of the pick without tests to run, which are built, too
	Workers int
	Worker  map[string]int // by ID: the only worker that runs it, if that is planned
	Shard   *run.Planned   // the shard of a plan that this is, if it is one

	Schedule *schedule.Schedule // as App.Schedule returns it; nil to build it
	Before   *run.Run           // of the killed run that this one resumes: what it had come to
	Mixed    string             // in words, that what it resumes is of another source; "" if it is not
	Planned  float64            // seconds that a plan expects; 0 if there is none
	Together catalog.Level      // what never runs side by side; empty for what each suite says
	First    map[string]int     // by ID, from 1: the rank of tests that go before others

	StopAfter int             // after this many bad outcomes no more tests start; 0 for no limit
	Retries   int             // how often a bad test runs again at most
	Limit     time.Duration   // of one test; 0 for that of its suite
	Shared    *service.Set    // the services that crossings share; nil for none
	Offset    int             // is added to the numbers of slots, so that runs side by side share none
	Strict    bool            // tests whose service this machine does not have are errored; otherwise skipped
	Control   *Control        // steers the run; may be nil
	Preparing func(string)    // called with what is being prepared; may be nil
	Whole     func() *run.Run // waits until the sink has folded the whole run, and returns it; nil for a sink that folds nothing
	Order     string          // the rule of the order, as it is kept with the run
	Trial     bool            // it reproduces a failure: no history counts it

	parted bool // the parts of groups run as a plan for this machine has them
	meta   run.Meta
}

// NewRequest returns a request to run tests. Tests that wait for others follow them, and the rule lone is
// obeyed. The error names tests that wait for each other in a circle.
func (a *App) NewRequest(pick string, tests []catalog.Test, workers int) (Request, error) {
	if err := a.checkWhole(tests); err != nil {
		return Request{}, err
	}
	settled, err := order.Settle(quarantine.Last(workspace.Lone(tests)))
	bare, bareErr := a.Bare(pick)
	if bareErr != nil {
		bare = nil // the pick is only the name of what runs, or was refused before
	}
	return Request{Pick: pick, Tests: settled, Bare: bare, Workers: workers, Trial: slices.ContainsFunc(settled, inPart)}, err
}

// Empty reports whether the request has nothing to run or to build.
func (q Request) Empty() bool { return len(q.Tests) == 0 && len(q.Bare) == 0 }

// bareGroups returns the groups without tests to run as suite:group.
func (q Request) bareGroups() []string {
	var names []string
	for _, suite := range slices.Sorted(maps.Keys(q.Bare)) {
		for _, group := range q.Bare[suite] {
			names = append(names, suite+":"+group)
		}
	}
	return names
}

// inPart reports whether only some steps of a test run, so that its outcome and time are not those of the test.
func inPart(t catalog.Test) bool { return len(t.Asks().Steps) > 0 }

// PlanRequest returns a request to run a plan of tests: each shard on a worker of its own, in the planned order.
// If not all shards may run at once, all workers take what the shards hold from the first to the last.
func (a *App) PlanRequest(pick string, tests []catalog.Test, p split.Plan, f split.Fleet) (Request, error) {
	if err := a.CheckDivisible(tests, "be planned"); err != nil {
		return Request{}, err
	}
	at, worker := make(map[string]int, len(tests)), make(map[string]int, len(tests))
	for _, s := range p.Shards {
		for _, id := range s.Tests() {
			at[id], worker[id] = len(at), s.Number
		}
	}
	ordered := slices.Clone(tests)
	slices.SortStableFunc(ordered, func(a, b catalog.Test) int { return at[a.ID] - at[b.ID] })
	q, err := a.NewRequest(pick, ordered, f.AtOnce())
	q.InOrder, q.Planned = true, p.Finish
	if f.AtOnce() == f.Shards {
		q.Worker, q.parted = worker, f.Resources != nil
	}
	return q, err
}

// ReplayRequest returns a request to repeat a run of the ledger, found by the name that a person uses: every test on
// the worker that had it, in the order in which that worker began them. With a worker above 0 it repeats only what that one
// ran. gone counts tests of the run that the project no longer has.
func (a *App) ReplayRequest(name string, worker int) (q Request, gone int, err error) {
	record, ran, err := a.Ledger().Find(name)
	if err != nil {
		return q, 0, err
	}
	if worker > record.Workers {
		return q, 0, fmt.Errorf("run %d had %d workers: there is no worker %d", record.Number, record.Workers, worker)
	}
	if record.Imported != "" && !slices.ContainsFunc(ran.Results, func(r *run.Result) bool { return r.Worker > 0 }) {
		return q, 0, fmt.Errorf("run %d was imported from %s, which does not say what ran where: it cannot be repeated", record.Number, record.Imported)
	}
	var tests []catalog.Test
	on := map[string]int{}
	for _, result := range ran.Results { // in the order in which they began
		if worker > 0 && result.Worker != worker {
			continue
		}
		t, ok := a.Catalog.Lookup(result.ID)
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
	workers := record.Workers
	if worker > 0 {
		workers = 1
	}
	if len(tests) == 0 {
		return q, gone, fmt.Errorf("run %d has no test that the project still has", record.Number)
	}
	if err := a.CheckDivisible(tests, "run in the order of another run"); err != nil {
		return q, gone, err
	}
	q, err = a.NewRequest(record.Pick, tests, workers)
	q.InOrder, q.Worker, q.Order = true, on, fmt.Sprint("of run ", record.Number)
	return q, gone, err
}

// Schedule returns the schedule of a request. It is built once per run, and shared with those who follow it.
func (a *App) Schedule(q Request) *schedule.Schedule {
	options := schedule.Options{Undivided: a.Undivided(), Resources: a.Project.Resources, Lasting: map[string]bool{}, Workers: q.Workers, InOrder: q.InOrder, Worker: q.Worker, Parted: q.parted, First: q.First, Together: q.Together}
	for suite, adapt := range a.Adapters {
		options.Lasting[suite] = adapt.Scope() == catalog.SuiteLevel
	}
	return schedule.New(q.Tests, options)
}

// Planned returns the seconds that a request should take without building: those of its plan, or of one
// made for it, or 0 if too little is known. unused says which workers have nothing to run and why.
func (a *App) Planned(q Request) (seconds float64, unused string) {
	if q.Planned > 0 {
		return q.Planned, ""
	}
	study, err := a.Split(q.Tests, q.Together, split.Fleet{Shards: q.Workers}, true)
	if err != nil {
		return 0, "" // the run reports it
	}
	plan := study.Plan(split.Quick)
	if a.CheckDivisible(q.Tests, "be divided") == nil {
		unused = study.Unused(plan, "worker")
	}
	if plan.Unknown > len(q.Tests)/2 {
		return 0, unused
	}
	s := q.Schedule
	if s == nil {
		s = a.Schedule(q)
	}
	return s.Finish(q.Workers, processors.Count()), unused
}

// AloneSeconds returns how long one worker took for the tests of a request when it last ran them, from the first test on;
// 0 if the ledger has no such run.
func (a *App) AloneSeconds(q Request) float64 {
	record, err := a.Ledger().OneWorker(q.Pick)
	if err != nil || record.Tests() != len(q.Tests) || record.Counts[run.Lost] > 0 {
		return 0
	}
	return record.Wall()
}
