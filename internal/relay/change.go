package relay

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/internal/project"
)

// ErrSuperseded ends a run whose tests are run again as files changed.
var ErrSuperseded = errors.New("files changed, and it is run again")

// ReadyChanged makes a request of the picked tests that a change to files touches,
// given by absolute paths, and of those that a run left without an outcome, nil for
// none, as it was superseded. What failed last time goes first.
func (r *Relay) ReadyChanged(text string, files []string, left *run.Run, workers int) (Request, error) {
	picked, err := r.Pick(text)
	if err != nil {
		return Request{}, err
	}
	touched, err := r.touchedBy(r.Index, files)
	if err != nil {
		return Request{}, err
	}
	tests := slices.DeleteFunc(slices.Clone(picked), func(t catalog.Test) bool { return !touched(&t) && !lostIn(left, t.ID) })
	tests, first, err := r.Troubled(r.WithNeeds(tests))
	if err != nil {
		return Request{}, err
	}
	q, err := r.Ready(text, tests, workers)
	q.First = first
	return q, err
}

func lostIn(r *run.Run, id string) bool {
	if r == nil {
		return false
	}
	result := r.Result(id)
	return result != nil && result.Outcome == run.Lost
}

// WithNeeds puts in front of tests those that they need, so that they are not
// skipped when they are run by themselves.
func (r *Relay) WithNeeds(tests []catalog.Test) []catalog.Test {
	var all []catalog.Test
	seen := map[string]bool{}
	var add func(t catalog.Test)
	add = func(t catalog.Test) {
		if seen[t.ID] {
			return
		}
		seen[t.ID] = true
		for _, id := range t.Rules.Needs {
			if needed, ok := r.Catalog.Lookup(id); ok {
				add(*needed)
			}
		}
		all = append(all, t)
	}
	for _, t := range tests {
		add(t)
	}
	return all
}

// Troubled sorts tests by trouble, as the ledger does: those that were bad in their latest run first, then
// by how often and how lately they were. Those without any keep their order. first has the rank, from 1, of
// each test that has some.
func (r *Relay) Troubled(tests []catalog.Test) (sorted []catalog.Test, first map[string]int, err error) {
	past, err := r.Past(PastRuns, nil)
	if err != nil {
		return nil, nil, err
	}
	figures := make(map[string]*history.Figures, len(past.History.IDs))
	for i, id := range past.History.IDs {
		figures[id] = &past.Figures[i]
	}
	bad := func(id string) bool {
		latest := r.PastOf(id)
		return len(latest) > 0 && latest[len(latest)-1].Bad()
	}
	var troubled, others []catalog.Test
	for _, t := range tests {
		if f := figures[t.ID]; bad(t.ID) || f != nil && f.Trouble > 0 {
			troubled = append(troubled, t)
		} else {
			others = append(others, t)
		}
	}
	none := &history.Figures{}
	slices.SortStableFunc(troubled, func(a, b catalog.Test) int {
		if x, y := bad(a.ID), bad(b.ID); x != y {
			if x {
				return -1
			}
			return 1
		}
		x, y := cmp.Or(figures[a.ID], none), cmp.Or(figures[b.ID], none)
		return cmp.Or(cmp.Compare(y.Trouble, x.Trouble), cmp.Compare(y.Flips, x.Flips))
	})
	first = make(map[string]int, len(troubled))
	for i := range troubled {
		first[troubled[i].ID] = i + 1
	}
	return append(troubled, others...), first, nil
}

// Sources leaves out of files that changed while tests ran those that git ignores,
// as they are taken to be written by the tests.
func (r *Relay) Sources(ctx context.Context, files []string) []string {
	ignored := project.Ignored(ctx, r.Project.Dir, files)
	return slices.DeleteFunc(slices.Clone(files), func(file string) bool { return ignored[file] })
}
