package relay

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/outcome"
	"fernrelay/internal/adapter"
	"fernrelay/internal/ledger"
)

// Progress is how far the hunt of one victim has come.
type Progress struct {
	Victim  string // its ID
	Making  string // what is made ready before the first trial, of all victims
	Records []hunt.Record
	Finding hunt.Finding // its Verdict is empty before the end
	Err     error        // what kept the hunt from its end, or from naming the state
}

// Victims gives the tests that were bad in the latest run.
func (r *Relay) Victims() ([]catalog.Test, error) {
	_, run, err := r.Last()
	if errors.Is(err, ledger.ErrNoRun) {
		return nil, errors.New("nothing has run here yet, so there is no failure to hunt: run the tests first, or name a test")
	}
	if err != nil {
		return nil, err
	}
	var victims []catalog.Test
	for _, res := range run.Troubled() {
		if t, ok := r.Catalog.Lookup(res.ID); ok {
			victims = append(victims, *t)
		}
	}
	return victims, nil
}

// Hunt hunts each victim, as many at a time as there are workers, and tells of
// every step. It gives the findings in the order of the victims; when ctx ends,
// those that were reached.
func (r *Relay) Hunt(ctx context.Context, victims []catalog.Test, workers int, tell func(Progress)) ([]hunt.Finding, error) {
	temp, err := os.MkdirTemp("", "fern-relay-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(temp)
	g := &ground{relay: r, seats: make(chan *seat, workers)}
	for n := 1; n <= workers; n++ {
		slot, err := r.setup().Slot(temp, n)
		if err != nil {
			return nil, err
		}
		g.seats <- &seat{slot: slot, sessions: map[string]adapter.Session{}}
	}
	defer g.close()
	if err := g.begin(ctx); err != nil {
		return nil, err
	}
	var mu sync.Mutex
	making := func(what string) {
		mu.Lock()
		defer mu.Unlock()
		for _, v := range victims {
			tell(Progress{Victim: v.ID, Making: what})
		}
	}
	chases, err := g.prepare(ctx, victims, making)
	if err != nil {
		return nil, err
	}
	found := make([]hunt.Finding, len(chases))
	failures := make([]error, len(chases))
	var wg sync.WaitGroup
	for i, c := range chases {
		wg.Go(func() {
			found[i], failures[i] = g.hunt(ctx, c, func(p Progress) {
				mu.Lock()
				defer mu.Unlock()
				tell(p)
			})
		})
	}
	wg.Wait()
	found = slices.DeleteFunc(found, func(f hunt.Finding) bool { return f.Verdict == "" })
	return found, errors.Join(failures...)
}

// ground is where hunts run their trials: a seat for each worker.
type ground struct {
	relay *Relay
	seats chan *seat
}

// seat is a slot with its sessions; one trial sits in it at a time.
type seat struct {
	slot     adapter.Slot
	sessions map[string]adapter.Session
}

// begin prepares all seats.
func (g *ground) begin(ctx context.Context) error {
	for range cap(g.seats) {
		s := <-g.seats
		err := g.relay.setup().Begin(ctx, s.slot)
		g.seats <- s
		if err != nil {
			return err
		}
	}
	return nil
}

func (g *ground) close() {
	for range cap(g.seats) {
		s := <-g.seats
		for _, session := range s.sessions {
			_ = session.Close() // its processes are gone either way
		}
		_ = g.relay.setup().End(s.slot) // the findings stand, whatever is left behind
	}
	adapter.Sweep()
}

// chase is a victim and the tests that can have spoiled it: those that ran before
// it in reach of it, and the rest of those in its reach.
type chase struct {
	victim       catalog.Test
	before, rest []string // IDs
	past         []hunt.Past
}

// pastRuns is how many earlier runs are looked at to tell whom to suspect.
const pastRuns = 20

// past gives what ran before a victim in earlier runs, and what came of it.
func (g *ground) past(victim catalog.Test) ([]hunt.Past, error) {
	kept := g.relay.ledger()
	if kept == nil {
		return nil, nil
	}
	companies, err := kept.Companies(victim.ID, g.scope(victim) == adapter.ScopeGroup, pastRuns)
	past := make([]hunt.Past, len(companies))
	for i, c := range companies {
		past[i] = hunt.Past{Bad: c.Outcome.Bad() || c.Outcome == outcome.Owed, Before: c.Before}
	}
	return past, err
}

// prepare finds the company of each victim, and makes ready the tests of every
// place where one may be spoiled.
func (g *ground) prepare(ctx context.Context, victims []catalog.Test, making func(what string)) ([]chase, error) {
	chases := make([]chase, len(victims))
	needed := map[string][]*catalog.Test{}
	seen := map[string]bool{}
	runs := map[int]*outcome.Run{}
	for i, v := range victims {
		before, rest, err := g.company(v, runs)
		if err != nil {
			return nil, err
		}
		past, err := g.past(v)
		if err != nil {
			return nil, err
		}
		chases[i] = chase{v, ids(before), ids(rest), past}
		for _, t := range slices.Concat(before, rest, []catalog.Test{v}) {
			if !seen[t.ID] {
				seen[t.ID] = true
				needed[t.Suite] = append(needed[t.Suite], &t)
			}
		}
	}
	for suite, tests := range needed {
		if err := g.relay.adapters[suite].Prepare(ctx, tests, making); err != nil {
			return nil, err
		}
	}
	return chases, nil
}

// lastBad gives the latest run in which a test was bad, read once for all of
// its victims; ledger.ErrNoRun where there is none.
func (g *ground) lastBad(id string, runs map[int]*outcome.Run) (*outcome.Run, error) {
	history := g.relay.ledger()
	if history == nil {
		return nil, ledger.ErrNoRun
	}
	kept, err := history.LastBad(id)
	if err != nil {
		return nil, err
	}
	if runs[kept.Number] == nil {
		if runs[kept.Number], err = history.Results(kept); err != nil {
			return nil, err
		}
	}
	return runs[kept.Number], nil
}

// company gives the tests that ran before a victim in reach of it, in the order
// of the latest run in which it was bad, or in declared order where it never
// was; and the rest of those in its reach.
func (g *ground) company(victim catalog.Test, runs map[int]*outcome.Run) (before, rest []catalog.Test, err error) {
	reach := g.reach(victim)
	at := slices.IndexFunc(reach, func(t catalog.Test) bool { return t.ID == victim.ID })
	run, err := g.lastBad(victim.ID, runs)
	if errors.Is(err, ledger.ErrNoRun) {
		return reach[:at], reach[at+1:], nil
	}
	if err != nil {
		return nil, nil, err
	}
	left := map[string]catalog.Test{}
	for _, t := range reach {
		left[t.ID] = t
	}
	delete(left, victim.ID)
	res := run.Result(victim.ID)
	for _, other := range run.Results {
		if other == res {
			break
		}
		t, ok := left[other.ID]
		if ok && other.Worker == res.Worker && (g.scope(victim) == adapter.ScopeWorker || other.Batch == res.Batch) {
			before = append(before, t)
			delete(left, t.ID)
		}
	}
	for _, t := range reach {
		if _, ok := left[t.ID]; ok {
			rest = append(rest, t)
		}
	}
	return before, rest, nil
}

// reach lists the tests whose state can reach the victim, itself included, in
// declared order.
func (g *ground) reach(victim catalog.Test) []catalog.Test {
	var reach []catalog.Test
	for _, t := range g.relay.Catalog.Tests {
		inReach := t.Suite == victim.Suite && t.PutOut == "" &&
			(g.scope(victim) == adapter.ScopeWorker || t.Group == victim.Group)
		if inReach || t.ID == victim.ID {
			reach = append(reach, t)
		}
	}
	return reach
}

func (g *ground) scope(t catalog.Test) adapter.Scope { return g.relay.adapters[t.Suite].Scope() }

func (g *ground) hunt(ctx context.Context, c chase, tell func(Progress)) (hunt.Finding, error) {
	victim := c.victim
	h := hunt.New(victim.ID, c.before, c.rest, c.past...)
	defer h.Close()
	p := Progress{Victim: victim.ID}
	var mu sync.Mutex // guards h and p while trials of a round run side by side
	report := func() {
		p.Records, p.Finding = slices.Clone(h.Records()), h.Finding()
		tell(p)
	}
	for round := h.Next(); round != nil; round = h.Next() {
		report()
		failures := make([]error, len(round))
		var wg sync.WaitGroup
		for i, trial := range round {
			wg.Go(func() {
				o, seconds, err := g.trial(ctx, victim, trial.Order)
				mu.Lock()
				defer mu.Unlock()
				if failures[i] = err; err == nil {
					h.Tell(trial.Number, o, seconds)
					report()
				}
			})
		}
		wg.Wait()
		if p.Err = errors.Join(failures...); p.Err != nil {
			report()
			return hunt.Finding{}, fmt.Errorf("the hunt of %s: %w", victim.ID, p.Err)
		}
	}
	finding := h.Finding()
	if len(finding.Culprits) > 0 {
		finding.Changed, p.Err = g.changed(ctx, victim, finding.Culprits[0])
	}
	p.Records, p.Finding = h.Records(), finding
	tell(p)
	return finding, nil
}

// trial runs an order in a fresh state and gives the outcome of the victim,
// which comes last, and the seconds it took in all.
func (g *ground) trial(ctx context.Context, victim catalog.Test, order []string) (outcome.Outcome, float64, error) {
	s := <-g.seats
	defer func() { g.seats <- s }()
	if err := ctx.Err(); err != nil {
		return "", 0, err
	}
	session, err := g.session(ctx, s, victim.Suite)
	if err != nil {
		return "", 0, err
	}
	began := time.Now()
	if err := session.Reset(ctx); err != nil {
		return "", 0, err
	}
	came := outcome.Lost
	err = session.Run(ctx, g.tests(order), func(e outcome.Event) {
		if e.Event == outcome.Finished && e.ID == victim.ID {
			came = e.Outcome
		}
	})
	return came, time.Since(began).Seconds(), err
}

func (g *ground) session(ctx context.Context, s *seat, suite string) (adapter.Session, error) {
	if session := s.sessions[suite]; session != nil {
		return session, nil
	}
	session, err := g.relay.adapters[suite].Open(ctx, s.slot)
	if err == nil {
		s.sessions[suite] = session
	}
	return session, err
}

// changed names the state in which the victim begins after its culprits and not
// in a fresh run. What differs between two fresh runs is no trace of anybody.
func (g *ground) changed(ctx context.Context, victim catalog.Test, culprits []string) ([]hunt.Change, error) {
	s := <-g.seats
	defer func() { g.seats <- s }()
	session, err := g.session(ctx, s, victim.Suite)
	if err != nil {
		return []hunt.Change{}, err
	}
	var states [3][]hunt.Value
	for i := range states {
		order := []string{victim.ID}
		if i == 2 {
			order = append(slices.Clone(culprits), victim.ID)
		}
		if states[i], err = session.Probe(ctx, g.tests(order)); err != nil {
			return []hunt.Change{}, fmt.Errorf("the state cannot be compared: %w", err)
		}
	}
	restless := map[string]bool{}
	for _, c := range hunt.Compare(states[0], states[1]) {
		restless[c.Kind+c.Name] = true
	}
	return slices.DeleteFunc(hunt.Compare(states[0], states[2]), func(c hunt.Change) bool { return restless[c.Kind+c.Name] }), nil
}

func (g *ground) tests(order []string) []catalog.Test {
	tests := make([]catalog.Test, 0, len(order))
	for _, id := range order {
		if t, ok := g.relay.Catalog.Lookup(id); ok {
			tests = append(tests, *t)
		}
	}
	return tests
}

func ids(tests []catalog.Test) []string {
	out := make([]string, len(tests))
	for i, t := range tests {
		out[i] = t.ID
	}
	return out
}
