// Package progress has models of what goes on, folded from events, without a screen: a run with its workers and machines, and the
// forecast of its end.
//
//	live := progress.New(schedule, workers, past)
//	go engine.Run(ctx, job, live.Events.Put) // from any goroutine
//	live.Follow(time.Now())                  // takes what happened since
//	fmt.Println(live.Run.Done(), live.Ahead.End)
//
// A model changes only when it follows, so whoever draws it needs no lock.
package progress

import (
	"context"
	"math"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/processors"
)

// Run is a run as the application follows it. Whoever runs it calls Events.Put, from any goroutine; the model changes only
// when it follows.
type Run struct {
	Events     Feed
	Total      int
	Planned    float64 // seconds that it should take; 0 if that is not known, or not yet
	Behind     string  // in words, the tests that the pick leaves out behind build constraints
	alone      float64 // seconds that one worker took for the same tests; 0 if that is not known
	Plans      Inbox[Seconds]
	Run        *run.Run
	Results    []*run.Result // those with an outcome, in the order in which their tests ended
	Bad        []*run.Result // of those
	Recovered  []*run.Result // of those: they pass, and were bad before this run
	Tracks     []Track       // by worker, from 0
	schedule   *schedule.Schedule
	Processors int                  // that the workers share
	batches    []batchWork          // in the order in which they are taken
	scheduled  map[string]scheduled // by ID
	Began      time.Time            // when the first test began; until then, the time of the request
	First      bool                 // a test has begun
	Now        float64              // seconds since began, as of the last frame
	Ahead      Outlook              // as of the last frame
	Steps      int                  // of all tests that are done
	Flaky      int                  // tests that passed in a later try only
	Preparing  Inbox[string]
	Prepared   string  // what is being prepared before the first test
	Waited     float64 // seconds until the first test, or so far
	Ended      bool
	Incomplete bool  // a test is lost, and not because of a build
	Number     int   // in the ledger, 0 before it is kept
	Err        error // what kept the run from being kept
	Control    Control
	Held       bool                          // nothing new begins
	Stopping   bool                          // asked to let what runs come to its end
	Cancel     context.CancelCauseFunc       // nil for a run of another process
	Past       func(id string) []run.Outcome // in the runs before
	Fleet      *Fleet                        // nil for a run on one machine
	Quiet      bool                          // nobody watches it: its forecast is not worked out
	whole      chan struct{}                 // closed by end
	end        sync.Once
}

// Control steers a run that goes on: Finish lets what runs come to its end, Hold keeps new batches from starting.
type Control interface {
	Finish()
	Hold(held bool)
}

// Seconds is what a run should take, and what one worker took for its tests; 0 for what is not known.
type Seconds struct{ Planned, Alone float64 }

// scheduled is the place of a test in the schedule: its batch, and which of the batch's tests it is, both from 0.
type scheduled struct{ batch, test int32 }

// batchWork is the expected time that a batch still takes.
type batchWork struct {
	label          string
	left, variance float64
	setup          float64 // part of left, until it begins
	begun          bool
}

// New prepares to follow a run of a schedule.
func New(s *schedule.Schedule, workers int, past func(id string) []run.Outcome) *Run {
	live := &Run{Run: run.New(), Began: time.Now(), Past: past, schedule: s, Processors: processors.Count(), Tracks: make([]Track, workers), whole: make(chan struct{})}
	for i := range live.Tracks {
		live.Tracks[i].Batch = -1
	}
	for i := range s.Batches {
		b := &s.Batches[i]
		work := batchWork{label: b.Tests[0].GroupLabel(), setup: b.Setup(), left: b.Setup() + b.Seconds()}
		for i := range b.Tests {
			work.variance += b.Tests[i].Spread * b.Tests[i].Spread
		}
		live.Total += len(b.Tests)
		live.batches = append(live.batches, work)
	}
	live.scheduled = make(map[string]scheduled, live.Total)
	for b := range s.Batches {
		for i := range s.Batches[b].Tests {
			live.scheduled[s.Batches[b].Tests[i].ID] = scheduled{int32(b), int32(i)}
		}
	}
	live.Ahead = live.outlook()
	return live
}

// Apply adds an event to the run.
func (l *Run) Apply(e run.Event) {
	l.Run.Apply(e)
	l.onTracks(e)
}

// Whole waits until the model has followed the run to its end, and returns it. From then on nothing changes it.
//
// Who runs the tests calls it on another goroutine than the one that follows, once it has put the last event. It would wait for ever
// on the same goroutine.
func (l *Run) Whole() *run.Run {
	<-l.whole
	return l.Run
}

// Follow takes what happened since the last frame, and the time.
func (l *Run) Follow(now time.Time) {
	for _, e := range l.Events.take() {
		l.Apply(e)
	}
	for _, known := range l.Plans.Take() {
		l.Planned, l.alone = known.Planned, known.Alone
	}
	for _, what := range l.Preparing.Take() {
		l.Prepared = what
	}
	if l.Fleet != nil {
		l.followMachines()
	}
	switch since := now.Sub(l.Began).Seconds(); {
	case !l.First && !l.Ended:
		l.Waited = since
	case !l.Ended:
		l.Now = since
	}
	if !l.Ended && !l.Quiet {
		l.Ahead = l.outlook()
	}
}

// test returns a test as it is scheduled; an empty one for what processes do beyond their tests.
func (l *Run) test(id string) *catalog.Test {
	at, ok := l.scheduled[id]
	if !ok {
		return &catalog.Test{}
	}
	return &l.schedule.Batches[at.batch].Tests[at.test]
}

// Spread returns how long after the first worker the last one ended.
func (l *Run) Spread() float64 {
	first, last := math.Inf(1), 0.0
	for i := range l.Tracks {
		if l.Fleet != nil && l.Fleet.isLost(l.Run.PlaceOf(i+1).Machine) {
			continue // it did not end, but was ended
		}
		if n := len(l.Tracks[i].Done); n > 0 {
			end := l.Tracks[i].Done[n-1].To
			first, last = min(first, end), max(last, end)
		}
	}
	return max(0, last-first)
}

// Busy counts the workers with a test that runs.
func (l *Run) Busy() int {
	n := 0
	for _, t := range l.Tracks {
		if t.Running != "" && !l.Ended {
			n++
		}
	}
	return n
}

// Stop lets what runs come to its end, and asked again ends it at once.
func (l *Run) Stop() {
	if l.Ended || l.Cancel == nil {
		return
	}
	if l.Stopping {
		l.Cancel(nil)
		return
	}
	l.Stopping = true
	l.Control.Finish()
}

// Hold stops new batches from starting, or lets them start again.
func (l *Run) Hold() {
	if l.Ended || l.Cancel == nil {
		return
	}
	l.Held = !l.Held
	l.Control.Hold(l.Held)
}

// AloneWords returns the seconds of one worker for the tests of the run, and a word if they are not measured.
func (l *Run) AloneWords() (seconds float64, estimated string) {
	if l.alone > 0 {
		return l.alone, ""
	}
	return l.Run.Work + l.Run.Starts, " estimated"
}

// End is the time at which the axis ends, in seconds.
func (l *Run) End() float64 {
	end := l.Ahead.End
	if l.Ended {
		end = l.Now
	}
	if end = max(end, l.Now); end > 0 {
		return end
	}
	return 1
}

// hasEnded reports whether a test has an outcome.
func (l *Run) hasEnded(id string) bool {
	r := l.Run.Result(id)
	return r != nil && r.Outcome != ""
}

// IsRecovered reports whether a test passes that was bad when it ran before.
func (l *Run) IsRecovered(r *run.Result) bool {
	return r.Outcome == run.Passed && history.Last(l.Past(r.ID)).Bad()
}
