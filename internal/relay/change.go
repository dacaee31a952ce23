package relay

import (
	"context"
	"errors"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/outcome"
	"fernrelay/internal/project"
)

// ErrSuperseded ends a run whose tests are run again as files changed.
var ErrSuperseded = errors.New("files changed, and it is run again")

// ReadyChanged makes a request of the picked tests that a change to files touches,
// given by absolute paths, and of those that a run left without an outcome, nil for
// none, as it was superseded. What failed last time goes first.
func (r *Relay) ReadyChanged(text string, files []string, left *outcome.Run, workers int) (Request, error) {
	picked, err := r.Pick(text)
	if err != nil {
		return Request{}, err
	}
	touched, err := r.touchedBy(r.Index, files)
	if err != nil {
		return Request{}, err
	}
	tests := slices.DeleteFunc(slices.Clone(picked), func(t catalog.Test) bool { return !touched(&t) && !lostIn(left, t.ID) })
	tests, first := r.FailedFirst(r.WithNeeds(tests))
	q, err := r.Ready(text, tests, workers)
	q.First = first
	return q, err
}

func lostIn(run *outcome.Run, id string) bool {
	if run == nil {
		return false
	}
	result := run.Result(id)
	return result != nil && result.Outcome == outcome.Lost
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
		for _, id := range t.Marks.Needs {
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

// FailedFirst puts the tests that were bad when they ran last before the others, and
// names them.
func (r *Relay) FailedFirst(tests []catalog.Test) (sorted []catalog.Test, first map[string]bool) {
	first = map[string]bool{}
	var others []catalog.Test
	for _, t := range tests {
		if past := r.PastOf(t.ID); len(past) > 0 && past[len(past)-1].Bad() {
			first[t.ID] = true
			sorted = append(sorted, t)
		} else {
			others = append(others, t)
		}
	}
	return append(sorted, others...), first
}

// Sources leaves out of files that changed while tests ran those that git ignores,
// as they are taken to be written by the tests.
func (r *Relay) Sources(ctx context.Context, files []string) []string {
	ignored := project.Ignored(ctx, r.Project.Dir, files)
	return slices.DeleteFunc(slices.Clone(files), func(file string) bool { return ignored[file] })
}
