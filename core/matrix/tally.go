package matrix

import "fernrelay/core/run"

// Tally collects the results of tests in crossings, as they come, to explain them.
//
//	t := matrix.NewTally(m)
//	t.Add("store=redis,season=winter", result)
//	explained := t.Explain()
type Tally struct {
	matrix   *Matrix
	tests    map[string]Outcomes               // by ID
	failures map[string]map[string]*run.Result // by ID and crossing, of tests that were bad somewhere
}

// NewTally returns a tally without results.
func NewTally(m *Matrix) *Tally {
	return &Tally{matrix: m, tests: map[string]Outcomes{}, failures: map[string]map[string]*run.Result{}}
}

// Add adds the result of a test in the crossing with a key, in place of an earlier one. Skipped and lost tests say nothing.
func (t *Tally) Add(key string, r *run.Result) {
	bad, something := r.Outcome.Evidence()
	if !something {
		return
	}
	times := []bool{bad}
	if r.Flaky {
		times = append(times, !bad)
	}
	if t.tests[r.ID] == nil {
		t.tests[r.ID] = Outcomes{}
	}
	t.tests[r.ID][key] = times
	if !bad && !r.Flaky {
		return
	}
	if t.failures[r.ID] == nil {
		t.failures[r.ID] = map[string]*run.Result{}
	}
	t.failures[r.ID][key] = r
}

// Explain explains which values make tests fail. Its cost grows with the tests that fail, not with all.
func (t *Tally) Explain() Explained {
	bad := make(map[string]Outcomes, len(t.failures))
	for id := range t.failures {
		bad[id] = t.tests[id]
	}
	x := t.matrix.Explain(bad)
	keys := make([]string, len(t.matrix.Crossings))
	for i := range keys {
		keys[i] = t.matrix.Crossings[i].Key()
	}
	for i := range x.Explanations {
		e := &x.Explanations[i]
		for _, id := range e.Tests {
			for _, key := range keys {
				if r := t.failures[id][key]; r != nil && r.Outcome.Bad() {
					e.Failures = append(e.Failures, r)
				}
			}
		}
	}
	return x
}
