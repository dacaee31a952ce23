package hunting

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/worktree"
)

// changed names the files and the state in which the victim begins after its culprits and not
// in a fresh run, and tries which of it the outcome turns on. looked is as in changedInside.
func (h *hunter) changed(ctx context.Context, f hunt.Finding) (changes []hunt.Change, looked string, err error) {
	files, err := h.changedFiles(ctx, f)
	if err != nil || anyProved(files) {
		return files, "", err
	}
	served, err := h.changedServices(ctx, f)
	if files = append(files, served...); err != nil || anyProved(served) {
		return provedFirst(files), "", err
	}
	inside, looked, err := h.changedInside(ctx, f)
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
	return provedFirst(files), looked, err
}

// changedFiles names the files of the project that culprits leave other than they find them, and tries which of them
// the victim's outcome turns on.
func (h *hunter) changedFiles(ctx context.Context, f hunt.Finding) (changes []hunt.Change, err error) {
	changes = []hunt.Change{}
	if !h.pool.Touched() {
		return changes, nil
	}
	culprits := h.app.toTry(f.Culprits[0])
	victim := h.app.toTry([]string{f.ID})[0]
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
				change.Proved, err = h.dependsOnFile(ctx, tree, culprits, victim, c.Path, f.With.Failed > 0)
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

// dependsOnFile reports whether a victim has the outcome that it has alone if only one file is put back after its
// culprits.
func (h *hunter) dependsOnFile(ctx context.Context, tree *worktree.Snapshot, culprits []catalog.Test, victim catalog.Test, name string, badAfter bool) (bool, error) {
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

// changedInside names the state within the process of the tests, as far as they report it. Where the outcome turns on none of
// it, it looks outside the module, too, and names there only what the outcome turns on. looked says what was looked at
// without success, "" if the state was found.
func (h *hunter) changedInside(ctx context.Context, f hunt.Finding) (changes []hunt.Change, looked string, err error) {
	after := h.app.toTry(append(slices.Clone(f.Culprits[0]), f.ID))
	err = h.pool.Borrow(ctx, after[len(after)-1].Suite, func(s adapter.Session, freshen func() error) error {
		p := &prover{session: s, freshen: freshen, tests: after, badAfter: f.With.Failed > 0}
		if changes, err = p.differences(ctx, s.Probe); err != nil {
			return err
		}
		if err := p.prove(ctx, changes); err != nil || anyProved(changes) {
			return err
		}
		looked = "what they leave was not found among " + placesOf(s)
		if len(changes) > 0 {
			looked = "nothing could be shown to decide alone among " + placesOf(s)
		}
		if outsider, ok := s.(adapter.Outsider); ok {
			return p.outside(ctx, outsider, &changes, &looked)
		}
		return nil
	})
	return changes, looked, err
}

// placesOf returns what the state of a session looks at.
func placesOf(s adapter.Session) string {
	switch l, ok := s.(adapter.Looker); {
	case ok && l.Looks() != "":
		return plain.Line(l.Looks())
	case ok:
		return "what the test host reports of its state"
	}
	return "the variables of the module, the environment, files, listeners, goroutines and settings"
}

func anyProved(changes []hunt.Change) bool {
	return slices.ContainsFunc(changes, func(c hunt.Change) bool { return c.Proved })
}

// prover finds out which state the outcome of a test turns on.
type prover struct {
	session  adapter.Session
	freshen  func() error
	tests    []catalog.Test // the culprits and then the victim
	badAfter bool           // the victim is bad after them
}

// differences returns in which state the victim begins after its culprits and not in a fresh run. What differs between two
// fresh runs is no trace of anybody.
func (p *prover) differences(ctx context.Context, probe probing) ([]hunt.Change, error) {
	fresh, after, err := p.states(ctx, probe, nil)
	if err != nil {
		return nil, err
	}
	changes := hunt.Compare(fresh[0], after)
	var detailed []string
	for _, c := range changes {
		if c.Kind == hunt.Variable && len(detailed) < mostDetailed {
			detailed = append(detailed, c.Name)
		}
	}
	if detailed != nil {
		if fresh, after, err = p.states(ctx, probe, detailed); err != nil {
			return nil, err
		}
	}
	return byUse(hunt.Locate(changes, fresh, after)), nil
}

// probing returns the state in which the last of some tests begins, as adapter.Session does.
type probing func(ctx context.Context, tests []catalog.Test, detailed []string) ([]hunt.Value, error)

// mostDetailed bounds the variables whose parts are compared.
const mostDetailed = 20

// states returns the state in which the victim begins in two fresh runs, and after its culprits.
func (p *prover) states(ctx context.Context, probe probing, detailed []string) (fresh [2][]hunt.Value, after []hunt.Value, err error) {
	var states [3][]hunt.Value
	for i := range states {
		tests := p.tests[len(p.tests)-1:]
		if i == 2 {
			tests = p.tests
		}
		if states[i], err = probe(ctx, tests, detailed); err != nil {
			return fresh, nil, fmt.Errorf("the state cannot be compared: %w", err)
		}
		if err := p.freshen(); err != nil {
			return fresh, nil, err
		}
	}
	return [2][]hunt.Value(states[:2]), states[2], nil
}

// useful lists the kinds of state, those first of which a person learns most.
var useful = []string{hunt.Port, hunt.File, hunt.Service, hunt.Environment, hunt.Folder, hunt.Signal, hunt.Setting, hunt.Variable, hunt.Goroutine}

// byUse returns changes in the order of useful.
func byUse(changes []hunt.Change) []hunt.Change {
	slices.SortStableFunc(changes, func(a, b hunt.Change) int {
		return cmp.Compare(slices.Index(useful, a.Kind), slices.Index(useful, b.Kind))
	})
	return changes
}

// outside adds to changes what differs outside the module and the outcome turns on.
func (p *prover) outside(ctx context.Context, s adapter.Outsider, changes *[]hunt.Change, looked *string) error {
	words := ""
	all, err := p.differences(ctx, func(ctx context.Context, tests []catalog.Test, detailed []string) (values []hunt.Value, err error) {
		values, words, err = s.ProbeOutside(ctx, tests, detailed)
		return values, err
	})
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for _, c := range *changes {
		known[c.Kind+c.Name] = true
	}
	beyond := slices.DeleteFunc(all, func(c hunt.Change) bool { return c.Kind != hunt.Variable || known[c.Kind+c.Name] })
	if err := p.prove(ctx, beyond); err != nil {
		return err
	}
	if *looked += "; " + words; anyProved(beyond) {
		*looked = ""
	}
	*changes = append(*changes, slices.DeleteFunc(beyond, func(c hunt.Change) bool { return !c.Proved })...)
	return nil
}

// mostProofs bounds the pieces of state that are restored one by one.
const mostProofs = 12

// prove restores each changed piece of state, alone, before the victim, and records for which of them the victim's
// outcome then is as in a fresh run.
func (p *prover) prove(ctx context.Context, changes []hunt.Change) error {
	victim := p.tests[len(p.tests)-1]
	for i := range changes[:min(len(changes), mostProofs)] {
		outcome := run.Lost
		err := p.session.Restore(ctx, p.tests, changes[i], func(e run.Event) {
			if e.Event == run.Finished && e.ID == victim.ID {
				outcome = e.Outcome
			}
		})
		if err == nil { // otherwise it cannot be restored
			changes[i].Proved = outcome != run.Lost && outcome.Bad() != p.badAfter
		}
		if err := p.freshen(); err != nil {
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
