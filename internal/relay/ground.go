package relay

import (
	"context"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/outcome"
	"fernrelay/internal/adapter"
)

// ground is where hunts run their trials: a seat for each worker.
type ground struct {
	relay *Relay
	slots *adapter.Slots
	seats chan *seat
	quiet sync.RWMutex // held whole by a trial beside which no other may run
}

// seat is a slot with its sessions; one trial sits in it at a time.
type seat struct {
	slot     adapter.Slot
	used     bool
	sessions map[string]adapter.Session // by suite
}

// ground prepares seats for so many workers.
func (r *Relay) ground(ctx context.Context, workers int) (*ground, error) {
	slots, err := r.setup().Open()
	if err != nil {
		return nil, err
	}
	g := &ground{relay: r, slots: slots, seats: make(chan *seat, workers)}
	for n := 1; n <= workers && err == nil; n++ {
		s := &seat{sessions: map[string]adapter.Session{}}
		if s.slot, err = slots.Slot(n); err == nil {
			err = r.setup().Begin(ctx, s.slot)
		}
		g.seats <- s
	}
	if err != nil {
		g.close()
		return nil, err
	}
	return g, nil
}

func (g *ground) close() {
	for range len(g.seats) {
		s := <-g.seats
		for _, session := range s.sessions {
			_ = session.Close() // its processes are gone either way
		}
		_ = g.relay.setup().End(s.slot) // the findings stand, whatever is left behind
	}
	_ = g.slots.Close()
}

// trial runs an order in a fresh state and gives the outcome of the victim,
// which comes last, and the seconds it took in all. quietly keeps all other trials away.
func (g *ground) trial(ctx context.Context, t hunt.Trial, quietly bool) (outcome.Outcome, float64, error) {
	if len(t.Beside) > 0 {
		g.quiet.Lock()
		defer g.quiet.Unlock()
		return g.overlap(ctx, t)
	}
	if quietly {
		g.quiet.Lock()
		defer g.quiet.Unlock()
	} else {
		g.quiet.RLock()
		defer g.quiet.RUnlock()
	}
	s := <-g.seats
	defer func() { g.seats <- s }()
	if err := g.fresh(ctx, s); err != nil {
		return "", 0, err
	}
	began := time.Now()
	o, err := s.again(ctx, g.relay, t)
	return o, time.Since(began).Seconds(), err
}

// overlap runs the victim on one seat while others run on another, again and again, until
// the victim is bad or has run often enough.
func (g *ground) overlap(ctx context.Context, t hunt.Trial) (outcome.Outcome, float64, error) {
	if cap(g.seats) < 2 {
		return "", 0, fmt.Errorf("%s failed while tests of another worker ran: to try that, a hunt takes two workers (--workers 2)", t.Order[len(t.Order)-1])
	}
	mine, other := <-g.seats, <-g.seats
	defer func() { g.seats <- mine; g.seats <- other }()
	for _, s := range []*seat{mine, other} {
		if err := g.fresh(ctx, s); err != nil {
			return "", 0, err
		}
	}
	began := time.Now()
	beside, stop := context.WithCancel(ctx)
	var wg sync.WaitGroup
	wg.Go(func() {
		for beside.Err() == nil {
			if _, err := other.run(beside, g.relay, t.Beside); err != nil {
				return // it was stopped, or is of no more use; then the victim goes on alone
			}
		}
	})
	o, err := mine.again(ctx, g.relay, t)
	stop()
	wg.Wait()
	return o, time.Since(began).Seconds(), err
}

// again runs a trial's order until the victim is bad or has run as often as it says.
func (s *seat) again(ctx context.Context, r *Relay, t hunt.Trial) (came outcome.Outcome, err error) {
	for n := range t.Times {
		if n > 0 {
			if err := s.reset(ctx); err != nil {
				return came, err
			}
		}
		if came, err = s.run(ctx, r, t.Order); err != nil || came.Bad() {
			break
		}
	}
	return came, err
}

// fresh gives a seat the state that a new worker would find: new processes, an empty
// folder for temporary files, and what the project cleans and prepares.
func (g *ground) fresh(ctx context.Context, s *seat) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if !s.used {
		s.used = true
		return nil
	}
	if err := s.reset(ctx); err != nil {
		return err
	}
	setup := g.relay.setup()
	if len(setup.Clean)+len(setup.Prepare) > 0 {
		if err := setup.End(s.slot); err != nil {
			return err
		}
	}
	if !s.lives(g.relay) {
		if err := emptyFolder(s.slot.Temp); err != nil {
			return err
		}
	}
	return setup.Begin(ctx, s.slot)
}

// lives reports whether a process may live on in the seat, which then keeps its own files.
func (s *seat) lives(r *Relay) bool {
	for suite := range s.sessions {
		if r.adapters[suite].Scope() == adapter.ScopeWorker {
			return true
		}
	}
	return false
}

func emptyFolder(dir string) error {
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	return os.MkdirAll(dir, 0o755)
}

func (s *seat) reset(ctx context.Context) error {
	for _, session := range s.sessions {
		if err := session.Reset(ctx); err != nil {
			return err
		}
	}
	return nil
}

// run runs an order, suite by suite as it says, and gives the outcome of its last test.
func (s *seat) run(ctx context.Context, r *Relay, order []string) (outcome.Outcome, error) {
	came := outcome.Lost
	for tests := r.testsOf(order); len(tests) > 0; {
		n := slices.IndexFunc(tests, func(t catalog.Test) bool { return t.Suite != tests[0].Suite })
		if n < 0 {
			n = len(tests)
		}
		session, err := s.session(ctx, r, tests[0].Suite)
		if err != nil {
			return came, err
		}
		err = session.Run(ctx, tests[:n], func(e outcome.Event) {
			if e.Event == outcome.Finished && e.ID == order[len(order)-1] {
				came = e.Outcome
			}
		})
		if err != nil {
			return came, err
		}
		tests = tests[n:]
	}
	return came, nil
}

func (s *seat) session(ctx context.Context, r *Relay, suite string) (adapter.Session, error) {
	if session := s.sessions[suite]; session != nil {
		return session, nil
	}
	session, err := r.adapters[suite].Open(ctx, s.slot)
	if err == nil {
		s.sessions[suite] = session
	}
	return session, err
}

// testsOf gives the tests of some IDs, as far as they are still there.
func (r *Relay) testsOf(ids []string) []catalog.Test {
	tests := make([]catalog.Test, 0, len(ids))
	for _, id := range ids {
		if t, ok := r.Catalog.Lookup(id); ok {
			tests = append(tests, *t)
		}
	}
	return tests
}
