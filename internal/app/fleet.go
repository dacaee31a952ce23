package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/order"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/engine"
	"fernrelay/internal/fleet"
	"fernrelay/internal/project"
	"fernrelay/internal/workspace"
)

// FleetRequest says how this machine takes part in a fleet run.
type FleetRequest struct {
	fleet.Options
	Run     string
	Machine string // its name; empty for that of the host
	Lease   time.Duration
	Again   string // as in fleet.Work
	Mixed   bool   // allow another source than that of the run

	Joined func(m *fleet.Member) // called once this machine is one of the run
}

// FleetRun is what this machine did in a fleet run.
type FleetRun struct {
	Run      *run.Run // its own tests; nil if it came after the end
	Machine  string
	Manifest *fleet.Manifest // as the run ended, or as this machine left it
}

// RunFleet joins a fleet run, or begins it, and runs batches of it until it ends. Events of this machine's tests go to the
// sink. The error [fleet.OverError] says that the run had ended before.
func (a *App) RunFleet(ctx context.Context, q Request, f FleetRequest, sink run.Sink) (*FleetRun, error) {
	conn, err := fleet.Dial(ctx, f.Options)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	started := project.TrackedOrigin(ctx, a.Project.Dir)
	self := fleet.Machine{Name: f.Machine, Workers: q.Workers}
	if self.Name == "" {
		self.Name = HostName()
	}
	member, err := conn.Join(ctx, f.Run, self, fleet.Work{Project: a.Project.Name, Meta: a.meta(q, a.history.Source(ctx)), Mixed: f.Mixed,
		Tests: q.Tests, Bare: q.bareGroups(), Shared: a.Project.Shared, Lease: f.Lease, Again: f.Again, WithNeeds: a.WithNeeds, Lookup: a.Catalog.Lookup,
		Schedule: func(tests []catalog.Test, workers int, times *history.Times) (*schedule.Schedule, error) {
			return a.fleetSchedule(q, tests, workers, times)
		}})
	if err != nil {
		return nil, err
	}
	if f.Joined != nil {
		f.Joined(member)
	}
	if q.Control == nil {
		q.Control = &Control{}
	}
	ran := run.New()
	record := member.Record(func(e run.Event) {
		ran.Apply(e)
		sink(e)
	})
	job := a.job(q, member.Schedule(), member)
	job.Lease = member.Lease()
	err = engine.Run(ctx, job, record)
	if now := project.TrackedOrigin(context.WithoutCancel(ctx), a.Project.Dir); started.Differs(now) {
		a.sourcesChanged(member, started, now, f.Mixed, record)
	}
	manifest, leaveErr := member.Leave(ctx, err != nil || q.Control.Finishing())
	if err = errors.Join(err, leaveErr); err != nil && ctx.Err() == nil {
		return &FleetRun{Run: ran, Machine: member.Name(), Manifest: manifest}, err
	}
	return &FleetRun{Run: ran, Machine: member.Name(), Manifest: manifest}, nil
}

// sourcesChanged reports that the sources of this machine changed while it took part, so that its results are of two: as an error of
// the run unless mixed allows it.
func (a *App) sourcesChanged(member *fleet.Member, started, now run.Source, mixed bool, record run.Sink) {
	batches := member.Schedule().Batches
	switch {
	case mixed:
		member.SetSource(now)
	case len(batches) > 0:
		t := &batches[0].Tests[0]
		record(run.Event{Event: run.Finished, Entry: true, ID: catalog.ID(t.Suite, t.Group, run.ProcessEntry), Outcome: run.Errored, At: time.Now(), Seconds: run.Took(0),
			Failure: run.Failure{Message: fmt.Sprintf("the sources on %s changed while it took part, from %s to %s, so that its results are of either", member.Name(), started, now)}})
	}
}

// fleetSchedule plans the tests of a fleet run for about as many workers. Times of the station go before those of this
// request.
func (a *App) fleetSchedule(q Request, tests []catalog.Test, workers int, times *history.Times) (*schedule.Schedule, error) {
	if times != nil {
		tests = expect(tests, *times)
	}
	settled, err := order.Settle(tests)
	if err != nil {
		return nil, err
	}
	q.Tests, q.Workers, q.Worker = settled, workers, nil
	return a.Schedule(q), nil
}

// expect returns tests with times that others measured. What others do not know, and the costs of beginning a batch, stay as
// they are.
func expect(tests []catalog.Test, times history.Times) []catalog.Test {
	times.Setups = map[string]float64{}
	own := history.ByID{}
	for i := range tests {
		t := &tests[i]
		times.Setups[t.GroupName()] = t.Setup
		if t.Known && t.SkipReason == "" {
			own[t.ID] = history.Time{Seconds: t.Expected, Spread: t.Spread, Share: t.Share}
		}
	}
	times.Tests = history.FirstOf{times.Tests, own}
	tests = slices.Clone(tests)
	history.Expect(tests, times)
	return tests
}

// FleetForecast returns what a fleet run of some tests would take with the machines of the latest one in the ledger, nil if
// there is none.
func (a *App) FleetForecast(tests []catalog.Test) *schedule.FleetForecast {
	runs, err := a.Ledger().List()
	if err != nil {
		return nil // the next to read the ledger reports it
	}
	for _, k := range slices.Backward(runs) {
		if len(k.Places) == 0 || k.Imported != "" {
			continue
		}
		f := &schedule.FleetForecast{Run: k.Number, Workers: len(k.Places)}
		for _, p := range k.Places {
			if !slices.Contains(f.Machines, p.Machine) {
				f.Machines = append(f.Machines, p.Machine)
			}
		}
		settled, err := order.Settle(workspace.Lone(tests))
		if err != nil {
			return nil // the run reports it
		}
		f.Seconds = a.Schedule(Request{Tests: settled, Workers: f.Workers}).Finish(f.Workers, 0)
		return f
	}
	return nil
}

// HostName returns the name of this computer.
func HostName() string {
	name, err := os.Hostname()
	if err != nil || name == "" {
		return "unnamed"
	}
	return name
}

// FollowFleet follows a fleet run until it ends. Tests that the project does not have are known by their ID only.
func (a *App) FollowFleet(ctx context.Context, conn *fleet.Conn, id string, to fleet.Follower) error {
	to.Find = func(id string) (catalog.Test, bool) {
		t, ok := a.Catalog.Lookup(id)
		if !ok {
			return catalog.Test{}, false
		}
		return *t, true
	}
	return conn.Follow(ctx, id, to)
}

// WatchFleet follows a fleet run until it ends, and then brings it into the ledger, where it has the returned number.
func (a *App) WatchFleet(ctx context.Context, station fleet.Options, id string, to fleet.Follower) (number int, err error) {
	conn, err := fleet.Dial(ctx, station)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	if err := a.FollowFleet(ctx, conn, id, to); err != nil {
		return 0, err
	}
	pulled, err := a.history.PullFleet(ctx, conn)
	for _, p := range pulled {
		if p.Result.Manifest.Run == id {
			return p.Number, err
		}
	}
	return 0, err
}

// Pulled is a fleet run that PullFleet has kept.
type Pulled struct {
	Number int // in the ledger
	Result *fleet.Result
}

// PullFleet keeps the fleet runs of this project that have ended and that the ledger lacks, with where and in which order each
// test ran.
func (h *History) PullFleet(ctx context.Context, conn *fleet.Conn) ([]Pulled, error) {
	runs, err := conn.Runs(ctx)
	if err != nil {
		return nil, err
	}
	var pulled []Pulled
	for _, m := range runs {
		if m.Project != h.Project.Name || m.State != fleet.Ended || m.IsHunt() {
			continue
		}
		known, err := h.Ledger().HasJournal(fleetJournal(m))
		if err != nil {
			return pulled, err
		}
		if known {
			continue
		}
		result, err := conn.Collect(ctx, m.Run)
		if err != nil {
			return pulled, err
		}
		retention := h.Project.Retention
		number, err := h.store.Keep(*FleetRecord(result), result.Run, retention.Runs, retention.Days)
		if err != nil {
			return pulled, fmt.Errorf("the fleet run %s cannot be kept: %w", m.Run, err)
		}
		pulled = append(pulled, Pulled{number, result})
	}
	return pulled, nil
}

// fleetJournal names a fleet run in the ledger, so that it is not kept twice.
func fleetJournal(m *fleet.Manifest) string { return "fleet-" + m.Plan }

// FleetRecord returns the record of a fleet run.
func FleetRecord(r *fleet.Result) *run.Record {
	m := r.Manifest
	var names []string
	for _, machine := range r.Machines {
		names = append(names, machine.Name)
	}
	meta := m.Meta
	meta.Workers, meta.Machine = len(r.Run.Places), fmt.Sprintf("fleet run %s, attempt %d: %s", m.Run, m.Attempt, strings.Join(names, ", "))
	return &run.Record{Began: m.Began, Ended: r.Run.Ended, Counts: r.Run.Counts, Work: r.Run.Work, Places: r.Run.Places, Meta: meta, Journal: fleetJournal(m)}
}
