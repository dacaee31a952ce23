package adapter

import (
	"fmt"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// Ended reports that the process has ended and how, and sets the outcome of the test during which it ended. place
// finds file and line in a test's message. Tests that did not run are left for Next; if none had begun, the caller
// decides, because the next process would only end like this one.
func (r *Recorder) Ended(ending string, place func(words string) (message, file string, line int)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.idled != "" {
		r.blameNext()
		return
	}
	var running, paused []*state
	timedOut := false
	for _, t := range r.tests {
		s := r.states[t.ID]
		if s.outcome != "" || !s.started {
			continue
		}
		if !s.running {
			paused = append(paused, s)
			continue
		}
		if s.timedOut {
			timedOut = true
			r.timeOut(s, t)
			continue
		}
		running = append(running, s)
	}
	if len(running) == 0 && len(paused) > 0 && !r.moved {
		running = paused[:1] // else the next process would end like this one
	}
	if timedOut || len(running) == 0 {
		r.rest(running)
		return
	}
	if len(running) > 1 {
		for _, s := range running {
			r.alone = append(r.alone, s.id)
		}
		r.rest(running)
		return
	}
	s := running[0]
	if r.expired { // the one that it was for has got its outcome late
		r.timeOut(s, r.test(s.id))
		return
	}
	words, file, line := place(string(s.tail))
	message := "the process ended while it ran: " + ending
	if words != "" {
		message += "; its last words: " + words
	}
	r.finish(s, run.Event{ID: s.id, Outcome: run.Errored, Failure: run.Failure{File: file, Line: line, Message: message}})
}

// blameNext sets the outcome of the test that should have run next when the process was killed between two tests,
// so that the next process does not end like this one.
func (r *Recorder) blameNext() {
	if r.idled != BetweenTests {
		return
	}
	for _, t := range r.tests {
		if s := r.states[t.ID]; s.outcome == "" {
			r.finish(s, run.Event{ID: s.id, Outcome: run.TimedOut, Failure: run.Failure{File: t.File, Line: t.Line, Message: "it did not start or continue: the process was " + r.Silent(r.idled)}})
			return
		}
	}
}

// timeOut sets the outcome of a test whose time was up.
func (r *Recorder) timeOut(s *state, t catalog.Test) {
	r.pause(s)
	r.finish(s, run.Event{ID: s.id, Outcome: run.TimedOut, Failure: run.Failure{File: t.File, Line: t.Line, Message: fmt.Sprintf("timed out at %s; its processes were killed", s.limit)}})
}

// rest stops the clocks of tests whose process is gone.
func (r *Recorder) rest(running []*state) {
	for _, s := range running {
		r.pause(s)
	}
}

// ReportBeyond reports what a process did beyond its tests, which no outcome of theirs shows, as an
// entry of its own: the event has its ID, Outcome and Message, and perhaps a place.
func ReportBeyond(sink run.Sink, e run.Event, output string) {
	sink(run.Event{Event: run.Started, ID: e.ID, Entry: true})
	if output != "" {
		sink(run.Event{Event: run.Output, ID: e.ID, Text: output + "\n"})
	}
	e.Event, e.Entry, e.Seconds = run.Finished, true, run.Took(0)
	sink(e.Sound())
}
