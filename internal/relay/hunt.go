package relay

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/engine"
	"fernrelay/internal/ledger"
	"fernrelay/internal/project"
)

// Progress is how far the hunt of one victim has come.
type Progress struct {
	Victim  string // its ID
	Making  string // what is made ready before the first trial, of all victims
	Records []hunt.Record
	Again   int          // how many of the trials were made before, and not again
	Finding hunt.Finding // its Verdict is empty before the end
	Err     error        // what kept the hunt from its end, or from naming the state
}

// Victims gives the tests that were bad in the latest run.
func (r *Relay) Victims() ([]catalog.Test, error) {
	_, run, err := r.Last()
	if errors.Is(err, ledger.ErrNoRun) {
		return nil, nil
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

// Hunts gives the latest hunt of every victim that is still there, the latest first; of all where
// the project's tests were not looked for.
func (r *Relay) Hunts() ([]ledger.Hunt, error) {
	kept := r.ledger()
	if kept == nil {
		return nil, nil
	}
	hunts, err := kept.Hunts()
	if r.Catalog == nil {
		return hunts, err
	}
	return slices.DeleteFunc(hunts, func(h ledger.Hunt) bool {
		_, ok := r.Catalog.Lookup(h.Victim)
		return !ok
	}), err
}

// Kept gives how far a hunt that is kept has come.
func (r *Relay) HuntProgress(h ledger.Hunt) (Progress, error) {
	p := Progress{Victim: h.Victim}
	if h.Finding != nil {
		p.Finding = *h.Finding
	}
	if !h.Mended.IsZero() {
		p.Finding.Culprits, p.Finding.Mended = [][]string{}, h.Finding.Culprits
	}
	var err error
	p.Records, err = r.ledger().Trials(h.Number)
	return p, err
}

// Pursuit says how victims are hunted.
type Pursuit struct {
	Workers int // how many trials run side by side
	All     bool
	// Known are culprits by victim: they are tried once more, and no others are searched.
	Known map[string]ledger.Hunt
}

// Hunt hunts each victim and tells of every step. A hunt that was interrupted goes on
// where it was, if nothing in the project has changed. It gives the findings in the order
// of the victims; when ctx ends, those that were reached.
func (r *Relay) Hunt(ctx context.Context, victims []catalog.Test, p Pursuit, tell func(Progress)) ([]hunt.Finding, error) {
	if len(victims) == 0 {
		return []hunt.Finding{}, nil
	}
	kept, err := r.openLedger()
	if err != nil {
		return nil, err
	}
	tasks, err := r.tasks(victims, p)
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	told := func(progress Progress) {
		mu.Lock()
		defer mu.Unlock()
		tell(progress)
	}
	making := func(what string) {
		for _, v := range victims {
			told(Progress{Victim: v.ID, Making: what})
		}
	}
	if err := r.makeReady(ctx, tasks, making); err != nil {
		return nil, err
	}
	pool, err := engine.NewPool(r.adapters, r.setup(), nil)
	if err != nil {
		return nil, err
	}
	defer func() { _ = pool.Close() }() // the findings stand, whatever is left behind
	if err := pool.Prepare(ctx, p.Workers); err != nil {
		return nil, err
	}
	h := &hunter{relay: r, pool: pool, workers: p.Workers, ledger: kept, sources: project.State(ctx, r.Project.Dir), tell: told}
	found := make([]hunt.Finding, len(tasks))
	failures := make([]error, len(tasks))
	var wg sync.WaitGroup
	for i, task := range tasks {
		wg.Go(func() {
			if known, ok := p.Known[task.Victim]; ok {
				found[i], failures[i] = h.verify(ctx, task, known)
			} else {
				found[i], failures[i] = h.hunt(ctx, task)
			}
		})
	}
	wg.Wait()
	found = slices.DeleteFunc(found, func(f hunt.Finding) bool { return f.Verdict == "" })
	return found, errors.Join(failures...)
}

// tasks makes the tasks of hunting victims, which share the workers.
func (r *Relay) tasks(victims []catalog.Test, p Pursuit) ([]hunt.Task, error) {
	s, err := r.suspects()
	if err != nil {
		return nil, err
	}
	tasks := make([]hunt.Task, len(victims))
	for i, v := range victims {
		if tasks[i], err = s.task(v); err != nil {
			return nil, err
		}
		tasks[i].Width, tasks[i].All = max(1, p.Workers/len(victims)), p.All
		if p.Workers < 2 {
			tasks[i].Beside = nil // to run something beside it takes another
		}
		if known, ok := p.Known[v.ID]; ok {
			tasks[i].Known, tasks[i].Overlap = known.Finding.Culprits[0], known.Finding.Overlap
		}
	}
	return tasks, nil
}

// makeReady makes ready all tests that trials may run.
func (r *Relay) makeReady(ctx context.Context, tasks []hunt.Task, making func(what string)) error {
	needed := map[string][]*catalog.Test{}
	seen := map[string]bool{}
	for _, task := range tasks {
		for _, id := range slices.Concat(slices.Concat(task.Orders...), task.Beside, task.Known, []string{task.Victim}) {
			if t, ok := r.Catalog.Lookup(id); ok && !seen[id] {
				seen[id] = true
				needed[t.Suite] = append(needed[t.Suite], t)
			}
		}
	}
	for suite, tests := range needed {
		if err := r.adapters[suite].Prepare(ctx, tests, making); err != nil {
			return err
		}
	}
	return nil
}

// hunter is what the hunts that go on at once share.
type hunter struct {
	relay   *Relay
	pool    *engine.Pool
	workers int // of the pool
	ledger  *ledger.Ledger
	sources string // tells the state of the project's files
	tell    func(Progress)
}

// hunt hunts a victim to the end and keeps what it found.
func (h *hunter) hunt(ctx context.Context, task hunt.Task) (hunt.Finding, error) {
	number, made, err := h.ledger.BeginHunt(task.Victim, h.sources)
	if err != nil {
		return hunt.Finding{}, err
	}
	p, err := h.search(ctx, task, number, made, false)
	if err == nil && p.Finding.Verdict == hunt.Unstable && h.workers > 1 && !h.outside(task.Victim) {
		// Perhaps what makes the difference are trials that ran at the same time.
		p, err = h.search(ctx, task, number, nil, true)
	}
	if err != nil {
		return hunt.Finding{}, err
	}
	if f := &p.Finding; len(f.Culprits) > 0 && !f.Overlap {
		f.Changed, p.Err = h.changed(ctx, *f)
	}
	err = h.ledger.EndHunt(number, p.Finding)
	h.tell(p)
	return p.Finding, err
}

// verify tries culprits that are known once more, and notes where they are mended.
func (h *hunter) verify(ctx context.Context, task hunt.Task, known ledger.Hunt) (hunt.Finding, error) {
	p, err := h.search(ctx, task, 0, nil, false)
	if err != nil {
		return hunt.Finding{}, err
	}
	switch {
	case len(p.Finding.Mended) > 0:
		err = h.ledger.Mend(known.Number)
	case len(p.Finding.Culprits) > 0:
		p.Finding.Changed = known.Finding.Changed
	}
	h.tell(p)
	return p.Finding, err
}

// search runs a hunt's trials until it has its verdict. Trials that were made before stand
// for the first identical ones; what comes out is kept under the number of the hunt, if it
// has one. quietly has no two trials run at the same time; where what tests leave lies
// outside of their processes none ever do, as they would meet.
func (h *hunter) search(ctx context.Context, task hunt.Task, number int, made []hunt.Record, quietly bool) (Progress, error) {
	if quietly = quietly || h.outside(task.Victim); quietly {
		task.Width = 1
	}
	state := hunt.New(task)
	defer state.Close()
	p := Progress{Victim: task.Victim}
	before := map[string][]hunt.Record{}
	for _, r := range made {
		before[r.Sum] = append(before[r.Sum], r)
	}
	var mu sync.Mutex // guards state and p while trials of a round run side by side
	report := func() {
		p.Records, p.Finding = slices.Clone(state.Records()), state.Finding()
		h.tell(p)
	}
	for round := state.Next(); round != nil; round = state.Next() {
		failures := make([]error, len(round))
		var wg sync.WaitGroup
		var left []int
		for i, trial := range round {
			if again := before[trial.Sum]; len(again) > 0 {
				before[trial.Sum] = again[1:]
				state.Tell(trial.Number, again[0].Outcome, again[0].Seconds)
				p.Again++
				continue
			}
			left = append(left, i)
		}
		report()
		for _, i := range left {
			wg.Go(func() {
				o, seconds, err := h.pool.Try(ctx, h.relay.engineTrial(round[i], quietly))
				mu.Lock()
				defer mu.Unlock()
				if err == nil {
					state.Tell(round[i].Number, o, seconds)
					err = h.keep(number, state.Records()[round[i].Number-1])
					report()
				}
				failures[i] = err
			})
		}
		wg.Wait()
		if p.Err = errors.Join(failures...); p.Err != nil {
			report()
			return p, fmt.Errorf("the hunt of %s: %w", task.Victim, p.Err)
		}
	}
	p.Records, p.Finding = slices.Clone(state.Records()), state.Finding()
	return p, nil
}

// outside reports whether what tests leave lies outside of their processes.
func (h *hunter) outside(victim string) bool {
	t, ok := h.relay.Catalog.Lookup(victim)
	return ok && h.relay.adapters[t.Suite].Scope() == adapter.ScopeTest
}

func (h *hunter) keep(number int, r hunt.Record) error {
	if number == 0 {
		return nil
	}
	return h.ledger.KeepTrial(number, r)
}

// changed names the state in which the victim begins after its culprits and not
// in a fresh run, and tries which of it the outcome turns on. What differs between two
// fresh runs is no trace of anybody.
func (h *hunter) changed(ctx context.Context, f hunt.Finding) ([]hunt.Change, error) {
	after := h.relay.testsOf(append(slices.Clone(f.Culprits[0]), f.ID))
	changes := []hunt.Change{}
	err := h.pool.Borrow(ctx, after[len(after)-1].Suite, func(s adapter.Session, freshen func() error) error {
		var states [3][]hunt.Value
		for i := range states {
			tests := after[len(after)-1:]
			if i == 2 {
				tests = after
			}
			var err error
			if states[i], err = s.Probe(ctx, tests); err != nil {
				return fmt.Errorf("the state cannot be compared: %w", err)
			}
			if err := freshen(); err != nil {
				return err
			}
		}
		restless := map[string]bool{}
		for _, change := range hunt.Compare(states[0], states[1]) {
			restless[change.Kind+change.Name] = true
		}
		changes = slices.DeleteFunc(hunt.Compare(states[0], states[2]), func(change hunt.Change) bool { return restless[change.Kind+change.Name] })
		return prove(ctx, s, freshen, after, changes, f.With.Failed > 0)
	})
	return changes, err
}

// mostProofs bounds how many pieces of state are put back one by one.
const mostProofs = 12

// prove puts each changed piece of state back, alone, before the victim, and notes where
// the victim's outcome then is as in a fresh run. What is proved goes first.
func prove(ctx context.Context, s adapter.Session, freshen func() error, tests []catalog.Test, changes []hunt.Change, badAfter bool) error {
	victim := tests[len(tests)-1]
	for i := range changes[:min(len(changes), mostProofs)] {
		came := run.Lost
		err := s.Restore(ctx, tests, changes[i], func(e run.Event) {
			if e.Event == run.Finished && e.ID == victim.ID {
				came = e.Outcome
			}
		})
		if err == nil { // else it cannot be put back
			changes[i].Proved = came != run.Lost && came.Bad() != badAfter
		}
		if err := freshen(); err != nil {
			return err
		}
	}
	slices.SortStableFunc(changes, func(a, b hunt.Change) int {
		switch {
		case a.Proved == b.Proved:
			return 0
		case a.Proved:
			return -1
		}
		return 1
	})
	return nil
}

// engineTrial returns what the engine runs for a trial.
func (r *Relay) engineTrial(t hunt.Trial, quietly bool) engine.Trial {
	return engine.Trial{Order: r.testsOf(t.Order), Beside: r.testsOf(t.Beside), Times: t.Times, Quietly: quietly}
}

// testsOf returns the tests of some IDs, as far as they are still there.
func (r *Relay) testsOf(ids []string) []catalog.Test {
	tests := make([]catalog.Test, 0, len(ids))
	for _, id := range ids {
		if t, ok := r.Catalog.Lookup(id); ok {
			tests = append(tests, *t)
		}
	}
	return tests
}
