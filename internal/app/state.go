package app

import (
	"context"
	"fmt"
	"path"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/worktree"
)

// changed names the files and the state in which the victim begins after its culprits and not
// in a fresh run, and tries which of it the outcome turns on. What differs between two
// fresh runs is no trace of anybody.
func (h *hunter) changed(ctx context.Context, f hunt.Finding) ([]hunt.Change, error) {
	files, err := h.changedFiles(ctx, f)
	if err != nil {
		return files, err
	}
	inside, err := h.changedInside(ctx, f)
	if len(files) > 0 {
		err = nil // what a program does not say of itself, its files do
	}
	known := map[string]bool{}
	for _, c := range files {
		known[path.Base(c.Name)] = true
	}
	for _, c := range inside {
		if c.Kind != hunt.File || !known[path.Base(c.Name)] {
			files = append(files, c)
		}
	}
	return provedFirst(files), err
}

// changedFiles names the files of the project that culprits leave other than they find them, and tries which of them
// the victim's outcome turns on.
func (h *hunter) changedFiles(ctx context.Context, f hunt.Finding) (changes []hunt.Change, err error) {
	changes = []hunt.Change{}
	culprits := h.app.TestsOf(f.Culprits[0])
	victim := h.app.TestsOf([]string{f.ID})[0]
	err = h.pool.Alone(func(tree *worktree.Snapshot) error {
		if tree == nil {
			return nil
		}
		if err := h.pool.RunOnce(ctx, culprits); err != nil {
			return err
		}
		left, err := tree.Changes()
		if err != nil {
			return err
		}
		for i, c := range left {
			change := hunt.Change{Kind: hunt.File, Name: c.Path, Before: c.Before, After: c.After}
			if i < mostProofs {
				change.Proved, err = h.turnsOnFile(ctx, tree, culprits, victim, c.Path, f.With.Failed > 0)
			}
			if err != nil {
				return err
			}
			changes = append(changes, change)
		}
		_, err = tree.Restore()
		return err
	})
	return changes, err
}

// turnsOnFile reports whether a victim has the outcome that it has alone if only one file is put back after its
// culprits.
func (h *hunter) turnsOnFile(ctx context.Context, tree *worktree.Snapshot, culprits []catalog.Test, victim catalog.Test, name string, badAfter bool) (bool, error) {
	if _, err := tree.Restore(); err != nil {
		return false, err
	}
	if err := h.pool.RunOnce(ctx, culprits); err != nil {
		return false, err
	}
	if err := tree.RestoreFile(name); err != nil {
		return false, nil // then it cannot be known
	}
	outcome, err := h.pool.Outcome(ctx, victim)
	return outcome != run.Lost && outcome.Bad() != badAfter, err
}

// changedInside names the state within the process of the tests, as far as they report it.
func (h *hunter) changedInside(ctx context.Context, f hunt.Finding) ([]hunt.Change, error) {
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
	return nil
}

// provedFirst returns changes, those that are proved first.
func provedFirst(changes []hunt.Change) []hunt.Change {
	slices.SortStableFunc(changes, func(a, b hunt.Change) int {
		switch {
		case a.Proved == b.Proved:
			return 0
		case a.Proved:
			return -1
		}
		return 1
	})
	return changes
}
