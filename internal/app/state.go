package app

import (
	"context"
	"fmt"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
)

// changed names the state in which the victim begins after its culprits and not
// in a fresh run, and tries which of it the outcome turns on. What differs between two
// fresh runs is no trace of anybody.
func (h *hunter) changed(ctx context.Context, f hunt.Finding) ([]hunt.Change, error) {
	after := h.app.TestsOf(append(slices.Clone(f.Culprits[0]), f.ID))
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

// mostProofs bounds the pieces of state that are restored one by one.
const mostProofs = 12

// prove restores each changed piece of state, alone, before the victim, and records for which of them the victim's
// outcome then is as in a fresh run. Those come first.
func prove(ctx context.Context, s adapter.Session, freshen func() error, tests []catalog.Test, changes []hunt.Change, badAfter bool) error {
	victim := tests[len(tests)-1]
	for i := range changes[:min(len(changes), mostProofs)] {
		outcome := run.Lost
		err := s.Restore(ctx, tests, changes[i], func(e run.Event) {
			if e.Event == run.Finished && e.ID == victim.ID {
				outcome = e.Outcome
			}
		})
		if err == nil { // otherwise it cannot be restored
			changes[i].Proved = outcome != run.Lost && outcome.Bad() != badAfter
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
