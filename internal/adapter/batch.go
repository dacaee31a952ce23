package adapter

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// Batch keeps the books of one Session.Run: which tests have an outcome, which run now and for how long, and which
// is to blame when the process ends. A session starts a process for Next, forwards what it receives, and calls
// Ended; it continues until Next is empty.
//
// A Batch is safe for use by several goroutines.
type Batch struct {
	mu      sync.Mutex
	sink    run.Sink
	limits  Limits
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

// NewBatch begins the books for the tests.
func NewBatch(tests []catalog.Test, limits Limits, sink run.Sink) *Batch {
	b := &Batch{sink: sink, limits: limits, exited: true, tests: tests, states: make(map[string]*state, len(tests))}
	for _, t := range tests {
		limit := limits.Test
		if own := t.Asks().Limit; own > 0 && (limit <= 0 || own < limit) {
			limit = own
		}
		b.states[t.ID] = &state{id: t.ID, steps: t.Asks().Steps, limit: limit}
	}
	return b
}

// Next lists the tests for the next process, in order; none when all have an
// outcome. Tests that were running side by side when a process ended come one
// at a time, so that the blame falls on the right one. A test that needs one of
// the batch that has ended and did not pass is skipped here.
func (b *Batch) Next() []catalog.Test {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := range b.tests {
		t := &b.tests[i]
		why := run.Unmet(t.Rules().Needs, b.outcome)
		if s := b.open(t.ID); s != nil && why != "" {
			b.finish(s, run.Event{ID: s.id, Outcome: run.Skipped, Failure: run.Failure{Message: why}, Seconds: run.Took(0)})
		}
	}
	if len(b.alone) > 0 {
		id := b.alone[0]
		b.alone = b.alone[1:]
		return b.where(func(other string) bool { return other == id })
	}
	return b.where(func(id string) bool { return b.states[id].outcome == "" })
}

// outcome returns the outcome of a test, "" before its end. The engine has decided about tests of other batches.
func (b *Batch) outcome(id string) (o run.Outcome, picked bool) {
	if s := b.states[id]; s != nil {
		return s.outcome, true
	}
	return "", true
}

// Settled counts the tests at the front of next whose needs precede it or have ended: those that can be requested
// at once if a process cannot skip tests by itself.
func (b *Batch) Settled(next []catalog.Test) int {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i, t := range next {
		for _, id := range t.Rules().Needs {
			if i > 0 && b.open(id) != nil {
				return i
			}
		}
	}
	return len(next)
}

// where returns the tests whose IDs keep selects.
func (b *Batch) where(keep func(id string) bool) []catalog.Test {
	n := 0
	for i := range b.tests {
		if keep(b.tests[i].ID) {
			n++
		}
	}
	if n == len(b.tests) { // as nearly always
		return slices.Clip(b.tests)
	}
	out := make([]catalog.Test, 0, n)
	for i := range b.tests {
		if keep(b.tests[i].ID) {
			out = append(out, b.tests[i])
		}
	}
	return out
}

// Begin says that a fresh process begins, which kill ends at once.
func (b *Batch) Begin(kill func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.kill, b.began, b.moved, b.expired, b.active, b.idled, b.exited = kill, false, false, false, 0, "", false
	for _, s := range b.states {
		if s.outcome == "" {
			*s = state{id: s.id, steps: s.steps, limit: s.limit}
		}
	}
	b.waitForTest()
}

// waitForTest ends the process if no test starts in time.
func (b *Batch) waitForTest() {
	if b.limits.Idle <= 0 || b.exited {
		return
	}
	var timer *time.Timer
	timer = time.AfterFunc(b.limits.Idle, func() {
		b.mu.Lock()
		expired, kill := b.idle == timer, b.kill
		if expired {
			b.idle, b.idled = nil, b.phase()
		}
		b.mu.Unlock()
		if expired {
			kill()
		}
	})
	b.idle = timer
}

func (b *Batch) stopWaiting() {
	if b.idle != nil {
		b.idle.Stop()
		b.idle = nil
	}
}

// phase is the present one, while no test runs.
func (b *Batch) phase() Phase {
	switch {
	case !b.began:
		return BeforeTests
	case slices.ContainsFunc(b.tests, func(t catalog.Test) bool { return b.states[t.ID].outcome == "" }):
		return BetweenTests
	}
	return AfterTests
}

// Exited says that the process has ended, or is done with this batch. It returns the phase in which the process was killed
// because none of its tests ran for too long, empty if it was not.
func (b *Batch) Exited() Phase {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.stopWaiting()
	b.exited = true
	return b.idled
}

// Silent says in words that the process was killed in a phase in which no test ran.
func (b *Batch) Silent(phase Phase) string {
	return fmt.Sprintf("still running %s %s, and killed", b.limits.Idle, phase)
}

// Started says that a test begins. A test that is not in the batch, or has its outcome already, is ignored, here
// and later.
func (b *Batch) Started(id string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.open(id)
	if s == nil || s.started {
		return
	}
	b.began, s.started = true, true
	b.sink(run.Event{Event: run.Started, ID: id})
	b.resume(s)
}

// Rewind restarts the time of a running test, if it only turns out later that another one ran until now.
func (b *Batch) Rewind(id string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if s := b.open(id); s != nil && s.running {
		b.pause(s)
		s.spent = 0
		b.resume(s)
	}
}

// Paused says that a test waits for its turn to continue; the time does not count.
func (b *Batch) Paused(id string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if s := b.open(id); s != nil && s.running {
		b.pause(s)
	}
}

// Continued says that a paused test continues.
func (b *Batch) Continued(id string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if s := b.open(id); s != nil && s.started && !s.running {
		b.resume(s)
	}
}

// Step reports the outcome of a part of a test: the event's Step, Outcome, Seconds and, if it was bad, Message,
// File and Line.
func (b *Batch) Step(id string, e run.Event) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.open(id)
	if s == nil {
		return
	}
	s.stepped = s.stepped || slices.ContainsFunc(s.steps, func(step string) bool { return e.Step == step || strings.HasPrefix(e.Step, step+"/") })
	e.Event, e.ID = run.StepDone, id
	b.sink(e.Sound())
}

// Output reports what a test printed. The text may change once it returns.
func (b *Batch) Output(id string, text []byte) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.open(id)
	if s == nil || len(text) == 0 {
		return
	}
	s.tail = AppendTail(s.tail, text, tailLimit)
	e := run.Event{Event: run.Output, ID: id}
	if s.printed += len(text); s.printed > Flood {
		e.Bulk = text
	} else {
		e.Text = string(text)
	}
	b.sink(e)
}

// Words is the newest output of a running test.
func (b *Batch) Words(id string) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if s := b.open(id); s != nil {
		return string(s.tail)
	}
	return ""
}

// Outcome returns the outcome of a test, empty if it has none yet.
func (b *Batch) Outcome(id string) run.Outcome {
	b.mu.Lock()
	defer b.mu.Unlock()
	if s := b.states[id]; s != nil {
		return s.outcome
	}
	return ""
}

// Holds reports whether a test is in the batch.
func (b *Batch) Holds(id string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.states[id] != nil
}

// Done reports whether all of some tests have an outcome.
func (b *Batch) Done(tests []catalog.Test) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return !slices.ContainsFunc(tests, func(t catalog.Test) bool { return b.open(t.ID) != nil })
}

// Spent returns how long a test has been running, without pauses.
func (b *Batch) Spent(id string) time.Duration {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.states[id]
	if s == nil {
		return 0
	}
	return s.elapsed()
}

// Finished takes an outcome of a test that its process reports. If the event has no Seconds, the measured time counts. If
// the process reports several outcomes of the test, the worst counts, and each further one sends it once more.
func (b *Batch) Finished(e run.Event) {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch s := b.states[e.ID]; {
	case s == nil:
	case s.outcome == "":
		b.finish(s, e)
	default:
		b.finishAgain(s, e.Sound())
	}
}

// mostResults bounds the outcomes of one test that its message names.
const mostResults = 10

// finishAgain takes another outcome of a test that has one.
func (b *Batch) finishAgain(s *state, e run.Event) {
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
	b.sink(again)
}

func (b *Batch) finish(s *state, e run.Event) {
	if s.running {
		b.pause(s)
	}
	e.Event = run.Finished
	if e = e.Sound(); e.Outcome == run.Passed && len(s.steps) > 0 && !s.stepped {
		e.Outcome, e.Message = run.Errored, "it has no step "+strings.Join(s.steps, ", ")
	}
	s.outcome, s.failure, b.moved = e.Outcome, e.Failure, true
	if e.Seconds == nil {
		e.Seconds = run.Took(s.spent.Seconds())
	}
	b.sink(e)
}

func (b *Batch) test(id string) catalog.Test {
	return b.tests[slices.IndexFunc(b.tests, func(t catalog.Test) bool { return t.ID == id })]
}

// Began reports whether a test has started in the present process.
func (b *Batch) Began() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.began
}

// open finds a test that has no outcome yet, nil for any other.
func (b *Batch) open(id string) *state {
	s := b.states[id]
	if s == nil || s.outcome != "" {
		return nil
	}
	return s
}

func (b *Batch) resume(s *state) {
	s.running, s.since = true, time.Now()
	b.active++
	b.stopWaiting()
	if s.limit <= 0 || b.exited {
		return
	}
	kill := b.kill
	s.timer = time.AfterFunc(s.limit-s.spent, func() {
		b.mu.Lock()
		expired := s.running && s.outcome == ""
		s.timedOut = s.timedOut || expired
		b.expired = b.expired || expired
		b.mu.Unlock()
		if expired {
			kill()
		}
	})
}

func (b *Batch) pause(s *state) {
	s.spent, s.running = s.elapsed(), false
	if s.timer != nil {
		s.timer.Stop()
	}
	if b.active--; b.active == 0 && !b.expired {
		b.waitForTest()
	}
}

func (s *state) elapsed() time.Duration {
	if !s.running {
		return s.spent
	}
	return s.spent + time.Since(s.since)
}
