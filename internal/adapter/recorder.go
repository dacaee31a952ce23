package adapter

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/process"
)

// A Recorder records what happens to the tests of one Session.Run: which have an outcome, which run now and for how long, and
// which is to blame when the process ends. A session starts a process for Next, forwards what it receives, and calls
// Ended. It continues until Next is empty.
//
// A Recorder is safe for use by several goroutines.
type Recorder struct {
	mu      sync.Mutex
	sink    run.Sink
	limits  process.Limits
	tests   []catalog.Test
	states  map[string]*state // by ID
	alone   []string          // IDs that must run each in its own process
	kill    func()
	began   bool // a test has started in this process
	moved   bool // a test has got its outcome in this process
	expired bool // a time limit ends this process

	exited bool        // no process runs, or it does nothing for this batch
	active int         // tests that run now
	idle   *time.Timer // ends the process if no test starts in time; nil while one runs
	idled  Phase       // in which it did; empty if it did not
}

// A Phase is a part of a process's life in which none of its tests runs.
type Phase string

// The phases, as messages name them.
const (
	BeforeTests  Phase = "before its first test"
	BetweenTests Phase = "between two tests"
	AfterTests   Phase = "after its last test"
)

type state struct {
	id       string
	outcome  run.Outcome // empty until it is finished
	running  bool        // started and not paused
	started  bool        // in this process
	since    time.Time
	spent    time.Duration
	limit    time.Duration // of its time; 0 for none
	more     time.Duration // beyond limit, in this process
	timer    *time.Timer
	timedOut bool
	tail     []byte        // the newest output
	printed  int           // bytes of output
	steps    []string      // the only ones that run; empty for all
	stepped  bool          // one of those has an outcome
	results  []run.Outcome // that the process reported, if there are several
	failure  run.Failure   // of the outcome
}

// Flood is the output of a test, in bytes, that its events have as text.
const Flood = 256 << 10

// tailLimit bounds the output kept of a running test for its failure's words.
const tailLimit = 32 << 10

// NewRecorder returns a recorder for tests, which sends their events to sink.
func NewRecorder(tests []catalog.Test, limits process.Limits, sink run.Sink) *Recorder {
	r := &Recorder{sink: sink, limits: limits, exited: true, tests: tests, states: make(map[string]*state, len(tests))}
	for _, t := range tests {
		limit := limits.Test
		for _, own := range []time.Duration{t.Limit, t.Asks().Limit} {
			if own > 0 && (limit <= 0 || own < limit) {
				limit = own
			}
		}
		r.states[t.ID] = &state{id: t.ID, steps: t.Asks().Steps, limit: limit}
	}
	return r
}

// Next lists the tests for the next process, in order; none when all have an
// outcome. Tests that were running side by side when a process ended come one
// at a time, so that the blame falls on the right one. A test that needs one of
// the batch that has ended and did not pass is skipped here.
func (r *Recorder) Next() []catalog.Test {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i := range r.tests {
		t := &r.tests[i]
		why := run.Unmet(t.Rules().Needs, r.outcome)
		if s := r.open(t.ID); s != nil && why != "" {
			r.finish(s, run.Event{ID: s.id, Outcome: run.Skipped, Failure: run.Failure{Message: why}, Seconds: run.Took(0)})
		}
	}
	if len(r.alone) > 0 {
		id := r.alone[0]
		r.alone = r.alone[1:]
		return r.where(func(other string) bool { return other == id })
	}
	return r.where(func(id string) bool { return r.states[id].outcome == "" })
}

// outcome returns the outcome of a test, "" before its end. The engine has decided about tests of other batches.
func (r *Recorder) outcome(id string) (o run.Outcome, picked bool) {
	if s := r.states[id]; s != nil {
		return s.outcome, true
	}
	return "", true
}

// Settled counts the tests at the front of next whose needs precede it or have ended: those that can be requested
// at once if a process cannot skip tests by itself.
func (r *Recorder) Settled(next []catalog.Test) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i, t := range next {
		for _, id := range t.Rules().Needs {
			if i > 0 && r.open(id) != nil {
				return i
			}
		}
	}
	return len(next)
}

// where returns the tests whose IDs keep selects.
func (r *Recorder) where(keep func(id string) bool) []catalog.Test {
	n := 0
	for i := range r.tests {
		if keep(r.tests[i].ID) {
			n++
		}
	}
	if n == len(r.tests) { // as nearly always
		return slices.Clip(r.tests)
	}
	out := make([]catalog.Test, 0, n)
	for i := range r.tests {
		if keep(r.tests[i].ID) {
			out = append(out, r.tests[i])
		}
	}
	return out
}

// Begin says that a fresh process begins, which kill ends at once.
func (r *Recorder) Begin(kill func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.kill, r.began, r.moved, r.expired, r.active, r.idled, r.exited = kill, false, false, false, 0, "", false
	for _, s := range r.states {
		if s.outcome == "" {
			*s = state{id: s.id, steps: s.steps, limit: s.limit}
		}
	}
	r.waitForTest()
}

// waitForTest ends the process if no test starts in time.
func (r *Recorder) waitForTest() {
	if r.limits.Idle <= 0 || r.exited {
		return
	}
	var timer *time.Timer
	timer = time.AfterFunc(r.limits.Idle, func() {
		r.mu.Lock()
		expired, kill := r.idle == timer, r.kill
		if expired {
			r.idle, r.idled = nil, r.phase()
		}
		r.mu.Unlock()
		if expired {
			kill()
		}
	})
	r.idle = timer
}

func (r *Recorder) stopWaiting() {
	if r.idle != nil {
		r.idle.Stop()
		r.idle = nil
	}
}

// phase is the present one, while no test runs.
func (r *Recorder) phase() Phase {
	switch {
	case !r.began:
		return BeforeTests
	case slices.ContainsFunc(r.tests, func(t catalog.Test) bool { return r.states[t.ID].outcome == "" }):
		return BetweenTests
	}
	return AfterTests
}

// Exited says that the process has ended, or is done with this batch. It returns the phase in which the process was killed
// because none of its tests ran for too long, empty if it was not.
func (r *Recorder) Exited() Phase {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.stopWaiting()
	r.exited = true
	return r.idled
}

// Silent says in words that the process was killed in a phase in which no test ran.
func (r *Recorder) Silent(phase Phase) string {
	return fmt.Sprintf("still running %s %s, and killed", r.limits.Idle, phase)
}

// Started says that a test begins. A test that is not in the batch, or has its outcome already, is ignored, here
// and later.
func (r *Recorder) Started(id string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.open(id)
	if s == nil || s.started {
		return
	}
	r.began, s.started = true, true
	r.sink(run.Event{Event: run.Started, ID: id})
	r.resume(s)
}

// Rewind restarts the time of a running test, if it only turns out later that another one ran until now.
func (r *Recorder) Rewind(id string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.open(id); s != nil && s.running {
		r.pause(s)
		s.spent = 0
		r.resume(s)
	}
}

// Allow extends the limit of a running test in this process, because the process may run others before it reports
// any outcome. 0 takes that back.
func (r *Recorder) Allow(id string, more time.Duration) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.open(id); s != nil && s.running && s.more != more {
		r.pause(s)
		s.more = more
		r.resume(s)
	}
}

// Expired reports whether the time of a test was up in this process, which was killed.
func (r *Recorder) Expired() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.expired
}

// Paused says that a test waits for its turn to continue; the time does not count.
func (r *Recorder) Paused(id string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.open(id); s != nil && s.running {
		r.pause(s)
	}
}

// Continued says that a paused test continues.
func (r *Recorder) Continued(id string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.open(id); s != nil && s.started && !s.running {
		r.resume(s)
	}
}

// Step reports the outcome of a part of a test: the event's Step, Outcome, Seconds and, if it was bad, Message,
// File and Line.
func (r *Recorder) Step(id string, e run.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.open(id)
	if s == nil {
		return
	}
	s.stepped = s.stepped || slices.ContainsFunc(s.steps, func(step string) bool { return e.Step == step || strings.HasPrefix(e.Step, step+"/") })
	e.Event, e.ID = run.StepDone, id
	r.sink(e.Sound())
}

// Output reports what a test printed. The text may change once it returns.
func (r *Recorder) Output(id string, text []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.open(id)
	if s == nil || len(text) == 0 {
		return
	}
	s.tail = process.AppendTail(s.tail, text, tailLimit)
	e := run.Event{Event: run.Output, ID: id}
	if s.printed += len(text); s.printed > Flood {
		e.Bulk = text
	} else {
		e.Text = string(text)
	}
	r.sink(e)
}

// Words is the newest output of a running test.
func (r *Recorder) Words(id string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.open(id); s != nil {
		return string(s.tail)
	}
	return ""
}

// Outcome returns the outcome of a test, empty if it has none yet.
func (r *Recorder) Outcome(id string) run.Outcome {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.states[id]; s != nil {
		return s.outcome
	}
	return ""
}

// Holds reports whether a test is in the batch.
func (r *Recorder) Holds(id string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.states[id] != nil
}

// Done reports whether all of some tests have an outcome.
func (r *Recorder) Done(tests []catalog.Test) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return !slices.ContainsFunc(tests, func(t catalog.Test) bool { return r.open(t.ID) != nil })
}

// Spent returns how long a test has been running, without pauses.
func (r *Recorder) Spent(id string) time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.states[id]
	if s == nil {
		return 0
	}
	return s.elapsed()
}

func (r *Recorder) test(id string) catalog.Test {
	return r.tests[slices.IndexFunc(r.tests, func(t catalog.Test) bool { return t.ID == id })]
}

// Began reports whether a test has started in the present process.
func (r *Recorder) Began() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.began
}

// open finds a test that has no outcome yet, nil for any other.
func (r *Recorder) open(id string) *state {
	s := r.states[id]
	if s == nil || s.outcome != "" {
		return nil
	}
	return s
}

func (r *Recorder) resume(s *state) {
	s.running, s.since = true, time.Now()
	r.active++
	r.stopWaiting()
	if s.limit <= 0 || r.exited {
		return
	}
	kill := r.kill
	s.timer = time.AfterFunc(s.limit+s.more-s.spent, func() {
		r.mu.Lock()
		expired := s.running && s.outcome == ""
		s.timedOut = s.timedOut || expired
		r.expired = r.expired || expired
		r.mu.Unlock()
		if expired {
			kill()
		}
	})
}

func (r *Recorder) pause(s *state) {
	s.spent, s.running = s.elapsed(), false
	if s.timer != nil {
		s.timer.Stop()
	}
	if r.active--; r.active == 0 && !r.expired {
		r.waitForTest()
	}
}

func (s *state) elapsed() time.Duration {
	if !s.running {
		return s.spent
	}
	return s.spent + time.Since(s.since)
}
