package engine

import (
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// finish rules about the outcome of a test and counts it. A test has another outcome if its process reports a worse one
// later.
func (r *execution) finish(e *run.Event) {
	t, before := r.open[e.ID], r.came[e.ID]
	switch {
	case e.Entry:
		r.counts[run.Beyond]++
		return
	case t != nil:
		r.rule(e, t, r.running[e.Worker][e.ID])
		delete(r.open, e.ID)
		r.came[e.ID] = e.Outcome
		r.job.Source.Ended(e.ID)
	case before != "":
		if t := r.testOf(e.ID); t != nil {
			r.rule(e, t, true)
		}
		r.counts[before]--
		r.came[e.ID], e.Again = e.Outcome, before
	}
	r.counts[e.Outcome]++
}

// rule sets the outcome that the rules of a test demand. ran reports whether the test began.
func (r *execution) rule(e *run.Event, t *catalog.Test, ran bool) {
	if known := t.Asks().Failure; known != nil && e.Outcome.Bad() && ran {
		e.Message = known.Words + ": " + e.Message
	}
	if e.Outcome = ruledOutcome(t, e.Outcome, ran, e.Own); e.Outcome == run.Surprise {
		e.Message = "it passed, though it is expected to fail: " + t.Rules().ExpectFail
	}
}

// testOf returns a test that a worker has taken.
func (r *execution) testOf(id string) *catalog.Test {
	for _, b := range r.taken {
		for i := range b.Tests {
			if b.Tests[i].ID == id {
				return &b.Tests[i]
			}
		}
	}
	return nil
}

// ruledOutcome returns the outcome in the light of the test's rules. Only a failure of a test that ran, or an error that it
// reports itself, is owed: not a crash, a time-out, or that it could not be started.
func ruledOutcome(t *catalog.Test, o run.Outcome, ran, own bool) run.Outcome {
	known := t.Asks().Failure
	switch {
	case known != nil && o.Bad() && ran && known.Ended:
		return run.Errored
	case known != nil && o.Bad() && ran:
		return run.Owed
	case t.Rules().ExpectFail == "":
		return o
	case (o == run.Failed || o == run.Errored && own) && ran:
		return run.Owed
	case o == run.Passed:
		return run.Surprise
	}
	return o
}

// messageLimit bounds a message, in bytes; the output has what a test printed.
const messageLimit = 8 << 10

func bounded(message string) string {
	if len(message) <= messageLimit {
		return message
	}
	return strings.ToValidUTF8(message[:messageLimit], "") + " …"
}
