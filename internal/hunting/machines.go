package hunting

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/engine"
	"fernrelay/internal/fleet"
	"fernrelay/internal/project"
)

// machineHunt has machines of a fleet run trials.
type machineHunt struct {
	*fleet.Hunt
	mu   sync.Mutex
	seen map[string]*machineTrial // by the trial's order
}

// machineTrial is what identical trials came to on each machine.
type machineTrial struct {
	trial hunt.Trial
	on    map[string]*hunt.Times
}

// differs reports whether the trials had different outcomes.
func (m *machineTrial) differs() bool {
	bad, good := false, false
	for _, times := range m.on {
		bad, good = bad || times.Failed > 0, good || times.Failed < times.Runs
	}
	return bad && good
}

// offerHunt offers the trials of hunts at a station, and serves them here, too, so that they end without other machines. The
// returned function ends that.
func (a Hunting) offerHunt(ctx context.Context, f app.FleetRequest, local *engine.Pool, workers int) (*machineHunt, func() error, error) {
	conn, err := fleet.Dial(ctx, f.Options)
	if err != nil {
		return nil, nil, err
	}
	self := fleet.Machine{Name: app.HostName(), Workers: workers}
	offered, err := conn.OfferHunt(ctx, f.Run, self, fleet.Work{Project: a.Project.Name, Meta: run.Meta{Source: a.History().Source(ctx)}, Lease: f.Lease})
	if err != nil {
		conn.Close()
		return nil, nil, err
	}
	serving, stop := context.WithCancel(ctx)
	served := make(chan error, 1)
	go func() { served <- conn.ServeHunt(serving, offered.Manifest(), self, a.trialOn(local)) }()
	return &machineHunt{Hunt: offered, seen: map[string]*machineTrial{}}, func() error {
		defer conn.Close()
		err := offered.End(context.WithoutCancel(ctx))
		stop()
		return errors.Join(err, <-served)
	}, nil
}

// ServeHunt runs trials of a hunt that another machine offers, until its verdict.
func (a Hunting) ServeHunt(ctx context.Context, f app.FleetRequest, m *fleet.Manifest, workers int) error {
	conn, err := fleet.Dial(ctx, f.Options)
	if err != nil {
		return err
	}
	defer conn.Close()
	if source := project.Origin(ctx, a.Project.Dir); !fleet.SameRevision(source.Revision, m.Revision) || source.Content != m.Content || m.Project != a.Project.Name {
		return fmt.Errorf("this machine may not serve the hunt %s: it is of the project %s at %s, and this is %s at %s", m.Run, m.Project, m.Source(), a.Project.Name, source)
	}
	pool, err := a.newPool(a.Adapters)
	if err != nil {
		return err
	}
	if err := pool.Prepare(ctx, workers); err != nil {
		return errors.Join(err, pool.Close())
	}
	name := f.Machine
	if name == "" {
		name = app.HostName()
	}
	err = conn.ServeHunt(ctx, m, fleet.Machine{Name: name, Workers: workers}, a.trialOn(pool))
	return errors.Join(err, pool.Close())
}

// trialOn returns a function that runs trials on a pool. It prepares the tests of each, and tests that this checkout does not
// have are an error.
func (a Hunting) trialOn(pool *engine.Pool) func(ctx context.Context, t fleet.Trial) (run.Outcome, float64, error) {
	var mu sync.Mutex
	prepared := map[string]bool{} // by ID
	return func(ctx context.Context, t fleet.Trial) (run.Outcome, float64, error) {
		order := a.trialOrder(t.Order, t.Serial)
		if len(order) != len(t.Order) {
			return "", 0, fmt.Errorf("this checkout does not have all tests of the trial: %d of %d", len(order), len(t.Order))
		}
		mu.Lock()
		var fresh []*catalog.Test
		for i := range order {
			if !prepared[order[i].ID] {
				fresh = append(fresh, &order[i])
			}
		}
		err := a.prepareTests(ctx, fresh, func(string) {})
		for _, test := range fresh {
			prepared[test.ID] = err == nil
		}
		mu.Unlock()
		if err != nil {
			return "", 0, err
		}
		return pool.Try(ctx, engine.Trial{Order: order, Times: t.Times})
	}
}

// try runs a trial on some machine, and notes where it ran.
func (m *machineHunt) try(ctx context.Context, t hunt.Trial) (run.Outcome, float64, error) {
	r, err := m.Try(ctx, fleet.Trial{Order: t.Order, Times: t.Times, Serial: t.Serial})
	if err != nil {
		return "", 0, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.seen[t.Sum] == nil {
		m.seen[t.Sum] = &machineTrial{t, map[string]*hunt.Times{}}
	}
	times := m.seen[t.Sum].on[r.Machine]
	if times == nil {
		times = &hunt.Times{}
		m.seen[t.Sum].on[r.Machine] = times
	}
	times.Runs++
	if r.Outcome.Bad() {
		times.Failed++
	}
	return r.Outcome, r.Seconds, nil
}

// surely is how often a trial must have had the same outcome on a machine to be called dependent on it.
const surely = 3

// again is how many more times a trial runs that differs, side by side, to see whether the machine decides.
const again = 16

// dependent repeats a trial that differed, and returns the machines on which it always fails, and those on which it never does.
// Both are empty unless each machine is consistent and they differ.
func (m *machineHunt) dependent(ctx context.Context) (fails, passes []string, err error) {
	m.mu.Lock()
	var differ *machineTrial
	for _, sum := range slices.Sorted(maps.Keys(m.seen)) {
		if m.seen[sum].differs() {
			differ = m.seen[sum]
		}
	}
	m.mu.Unlock()
	if differ == nil || len(differ.on) < 2 {
		return nil, nil, nil
	}
	errs := make([]error, again)
	var wg sync.WaitGroup
	for i := range errs {
		wg.Go(func() { _, _, errs[i] = m.try(ctx, differ.trial) })
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		return nil, nil, err
	}
	fails, passes = differ.sides()
	return fails, passes, nil
}

// sides returns the machines on which the trials always fail and never do, none unless each machine is consistent.
func (m *machineTrial) sides() (bad, good []string) {
	for _, name := range slices.Sorted(maps.Keys(m.on)) {
		switch times := m.on[name]; {
		case times.Failed > 0 && times.Failed < times.Runs:
			return nil, nil
		case times.Runs < surely:
		case times.Failed > 0:
			bad = append(bad, name)
		default:
			good = append(good, name)
		}
	}
	if len(bad) == 0 || len(good) == 0 {
		return nil, nil
	}
	return bad, good
}
