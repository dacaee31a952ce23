package relay

import (
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/split"
)

// Split makes tests ready to be split. Where the shards are workers of this
// machine, its resources are never held by too many at once; shards on several
// machines keep apart only what the project says that all machines share.
func (r *Relay) Split(tests []catalog.Test, together split.Together, f split.Fleet, here bool) (*split.Study, error) {
	if !here {
		return split.NewStudy(tests, together, f, r.Project.Shared...)
	}
	f.Resources = map[string]int{}
	for i := range tests {
		for _, name := range tests[i].Marks.Uses {
			f.Resources[name] = max(1, r.Project.Resources[name])
		}
	}
	return split.NewStudy(tests, together, f)
}

// ReadyPlan makes a request of a whole plan of tests: each shard is run by a worker
// of its own, in the planned order. Where only some may run at once, as many workers
// take what the shards hold from the first to the last.
func (r *Relay) ReadyPlan(text string, tests []catalog.Test, p split.Plan, f split.Fleet) (Request, error) {
	at, worker := make(map[string]int, len(tests)), make(map[string]int, len(tests))
	for _, s := range p.Shards {
		for _, id := range s.Tests() {
			at[id], worker[id] = len(at), s.Number
		}
	}
	ordered := slices.Clone(tests)
	slices.SortStableFunc(ordered, func(a, b catalog.Test) int { return at[a.ID] - at[b.ID] })
	q, err := r.Ready(text, ordered, f.AtOnce())
	q.InOrder, q.Planned = true, p.Finish
	if f.AtOnce() == f.Shards {
		q.Worker = worker
	}
	return q, err
}
