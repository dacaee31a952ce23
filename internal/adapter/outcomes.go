package adapter

import (
	"strings"

	"fernrelay/core/run"
)

// Finished takes an outcome of a test that its process reports. If the event has no Seconds, the measured time counts. If
// the process reports several outcomes of the test, the worst counts, and each further one sends it once more.
func (r *Recorder) Finished(e run.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch s := r.states[e.ID]; {
	case s == nil:
	case s.outcome == "":
		r.finish(s, e)
	default:
		r.finishAgain(s, e.Sound())
	}
}

// mostResults bounds the outcomes of one test that its message names.
const mostResults = 10

// finishAgain takes another outcome of a test that has one.
func (r *Recorder) finishAgain(s *state, e run.Event) {
	if s.results == nil {
		s.results = []run.Outcome{s.outcome}
	}
	if len(s.results) == mostResults {
		s.results = append(s.results[:mostResults-1], e.Outcome)
	} else {
		s.results = append(s.results, e.Outcome)
	}
	if e.Outcome.Worse(s.outcome) {
		s.outcome, s.failure = e.Outcome, e.Failure
	}
	words := make([]string, len(s.results))
	for i, o := range s.results {
		words[i] = string(o)
	}
	again := run.Event{Event: run.Finished, ID: s.id, Outcome: s.outcome, Failure: s.failure, Seconds: run.Took(s.spent.Seconds())}
	if s.outcome.Bad() {
		again.Message = strings.TrimSuffix("its process reported several outcomes, "+strings.Join(words, ", ")+", and the worst counts: "+s.failure.Message, ": ")
	}
	r.sink(again)
}

func (r *Recorder) finish(s *state, e run.Event) {
	if s.running {
		r.pause(s)
	}
	e.Event = run.Finished
	if e = e.Sound(); e.Outcome == run.Passed && len(s.steps) > 0 && !s.stepped {
		e.Outcome, e.Message = run.Errored, "it has no step "+strings.Join(s.steps, ", ")
	}
	s.outcome, s.failure, r.moved = e.Outcome, e.Failure, true
	if e.Seconds == nil {
		e.Seconds = run.Took(s.spent.Seconds())
	}
	r.sink(e)
}
