package engine

import (
	"context"
	"fmt"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
)

// tries takes the events of a batch and holds bad outcomes back as long as their tests may run again. Each try
// before the last becomes a step of its test.
type tries struct {
	run           *execution
	worker, batch int
	left          int                    // how often tests may run again
	held          []run.Event            // of this try: bad outcomes, and of tests that were skipped for them
	past          map[string][]run.Event // by ID: the bad outcomes of its tries
	own           map[string]bool        // IDs of the batch's tests
	extra         string                 // the ID of the present entry for what a process did beyond them
}

func newTries(r *execution, worker, batch int, tests []catalog.Test) *tries {
	left := r.job.Retries
	if len(tests) > 0 && r.isUndivided(tests[0].Suite) {
		left = 0 // its program cannot run the failed tests alone
	}
	t := &tries{run: r, worker: worker, batch: batch, left: left, past: map[string][]run.Event{}, own: make(map[string]bool, len(tests))}
	for i := range tests {
		t.own[tests[i].ID] = true
	}
	return t
}

// isUndivided reports whether the program of a suite cannot run some tests without others.
func (r *execution) isUndivided(suite string) bool {
	u, ok := r.job.Adapters[suite].(adapter.Undivided)
	return ok && u.Unit() != ""
}

// take takes an event of the session.
func (t *tries) take(e run.Event) {
	e.Worker, e.Batch = t.worker, t.batch
	if e.Event == run.Measured {
		t.run.measure(e)
		return
	}
	if !t.own[e.ID] {
		if t.extra == "" {
			t.extra = t.run.extraID(e.ID)
		}
		if e.ID = t.extra; e.Event == run.Finished {
			t.extra = ""
		}
		t.run.emit(e)
		return
	}
	switch e.Event {
	case run.Started:
		t.run.setRunning(t.worker, e.ID, true)
	case run.Finished:
		defer t.run.setRunning(t.worker, e.ID, false)
		if t.hold(e) {
			return
		}
		if tried := t.past[e.ID]; len(tried) > 0 {
			e.Flaky = e.Outcome == run.Passed
			e.Message = triedWords(e, tried)
		}
	}
	t.run.emit(e)
}

// hold keeps an outcome back that may not be the last of its test.
func (t *tries) hold(e run.Event) bool {
	test := t.run.test(e.ID)
	if t.left == 0 || test == nil || test.Rules().ExpectFail != "" || test.Asks().Failure != nil {
		return false
	}
	if tried := t.past[e.ID]; t.left > 0 && len(tried) > t.run.job.Retries-t.left { // another result of this try
		at := slices.IndexFunc(t.held, func(held run.Event) bool { return held.ID == e.ID })
		t.held[at], tried[len(tried)-1] = e, e
		return true
	}
	switch {
	case e.Outcome.Bad():
		t.past[e.ID] = append(t.past[e.ID], e)
		t.run.emit(run.Event{Event: run.StepDone, ID: e.ID, Worker: e.Worker, Batch: e.Batch,
			Step: fmt.Sprint("try ", len(t.past[e.ID])), Outcome: e.Outcome, Seconds: e.Seconds})
	case e.Outcome == run.Skipped && slices.ContainsFunc(test.Rules().Needs, func(id string) bool { return t.past[id] != nil }):
	default:
		return false
	}
	t.held = append(t.held, e)
	return true
}

// again returns the tests to run once more, in a fresh state of the session.
func (t *tries) again(ctx context.Context, session adapter.Session, tests []catalog.Test) ([]catalog.Test, error) {
	if len(t.held) == 0 {
		return nil, nil
	}
	if err := session.Reset(ctx); err != nil {
		return nil, err
	}
	held := t.held
	t.held, t.left = nil, t.left-1
	return slices.DeleteFunc(tests, func(test catalog.Test) bool {
		return !slices.ContainsFunc(held, func(e run.Event) bool { return e.ID == test.ID })
	}), nil
}

// reportHeld reports the outcomes that are held back, and for tests that did not get their next try those of the last
// one.
func (t *tries) reportHeld() {
	for id, tried := range t.past {
		if t.run.isOpen(id) {
			t.run.emit(tried[len(tried)-1])
		}
	}
	for _, e := range t.held {
		if t.run.isOpen(e.ID) {
			t.run.emit(e)
		}
	}
}

// triedWords is the message of a test that ran before and was bad.
func triedWords(e run.Event, tried []run.Event) string {
	if e.Outcome != run.Passed {
		return fmt.Sprintf("%s (try %d of %d)", e.Message, len(tried)+1, len(tried)+1)
	}
	return fmt.Sprintf("flaky: passed in try %d; try %d %s: %s", len(tried)+1, len(tried), tried[len(tried)-1].Outcome, tried[len(tried)-1].Message)
}

// test returns a test that has no outcome yet, nil for any other.
func (r *execution) test(id string) *catalog.Test {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.open[id]
}
