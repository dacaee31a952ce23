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
	"cmp"
	"context"
	"math"
	"slices"
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

// startedTest is a test that a worker began, and when.
type startedTest struct {
	Result *run.Result
	at     float64
}

// Track is what one worker did. Times are seconds since the run began.
type Track struct {
	Done    []Piece
	Bad     []Piece // those of done that are bad
	Running string  // the ID of the test that runs, or empty
	Since   float64
	Batch   int           // that it works on, from 0; -1 before the first
	latest  int           // the batch of the latest of done, from 1
	Broken  []Piece       // what it began and did not end, as its machine was lost
	Turns   []float64     // when it went from one batch to the next
	order   []startedTest // the tests it began
	due     float64       // how long what it has done should have taken
	took    float64       // how long its tests took
	last    float64       // when it was last seen to do something
}

// Piece is the stretch of a test on a track, in seconds since the run began.
type Piece struct {
	From, To float64
	Outcome  run.Outcome
	Odd      bool // so that neighbours differ
}

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

func (l *Run) onTracks(e run.Event) {
	if e.Event == run.Started && !l.First && !e.Entry {
		l.First, l.Began = true, e.At // preparations are not on the tracks
	}
	at := 0.0 // also of what has its outcome before any test began
	if l.First {
		at = e.At.Sub(l.Began).Seconds()
	}
	if e.Event == run.RunEnds {
		l.Ended, l.Now, l.scheduled = true, at, nil // nothing more begins
		l.end.Do(func() { close(l.whole) })         // a forged journal may end twice
		l.Incomplete = l.Run.ExitStatus() == 3
	}
	if e.Event == run.Finished {
		result := l.Run.Result(e.ID)
		if e.Again != "" { // it is counted
			if !e.Again.Bad() && e.Outcome.Bad() {
				l.Bad = append(l.Bad, result)
			}
			return
		}
		l.Results = append(l.Results, result)
		l.Steps += len(result.Steps)
		if e.Flaky {
			l.Flaky++
		}
		if e.Outcome.Bad() {
			l.Bad = append(l.Bad, result)
		}
		if l.IsRecovered(result) {
			l.Recovered = append(l.Recovered, result)
		}
	}
	t := l.trackOf(e)
	if t == nil || e.Batch < 1 || e.Batch > len(l.batches) {
		return
	}
	t.last = at
	switch e.Event {
	case run.Started:
		if l.Fleet != nil && t.Batch != e.Batch-1 {
			l.taken(t, e.Batch-1, e.Machine)
		}
		t.Running, t.Since, t.Batch = e.ID, at, e.Batch-1
		t.order = append(t.order, startedTest{l.Run.Result(e.ID), at})
		l.begin(t, t.Batch)
	case run.Finished:
		l.finish(t, e, at)
	}
}

// trackOf returns the track of an event's worker, nil if it has none. Machines may join at any time.
func (l *Run) trackOf(e run.Event) *Track {
	worker := l.Run.WorkerOf(e)
	for l.Fleet != nil && worker > len(l.Tracks) {
		l.Tracks = append(l.Tracks, Track{Batch: -1})
	}
	if worker < 1 || worker > len(l.Tracks) {
		return nil
	}
	return &l.Tracks[worker-1]
}

// test returns a test as it is scheduled; an empty one for what processes do beyond their tests.
func (l *Run) test(id string) *catalog.Test {
	at, ok := l.scheduled[id]
	if !ok {
		return &catalog.Test{}
	}
	return &l.schedule.Batches[at.batch].Tests[at.test]
}

// begin notes that a worker begins a batch.
func (l *Run) begin(t *Track, batch int) {
	b := &l.batches[batch]
	if !b.begun {
		b.begun = true
		b.left -= b.setup
		t.due += b.setup
	}
}

func (l *Run) finish(t *Track, e run.Event, at float64) {
	l.begin(t, e.Batch-1)
	b, test := &l.batches[e.Batch-1], l.test(e.ID)
	b.left, b.variance = b.left-test.Expected, b.variance-test.Spread*test.Spread
	t.due += test.Expected
	from := 0.0
	if l.First {
		from = max(0, l.Run.Result(e.ID).Started.Sub(l.Began).Seconds())
	}
	if n := len(t.Done); n > 0 {
		from = max(from, t.Done[n-1].To) // tests that ran side by side are drawn one after another
	}
	p := Piece{From: from, To: max(at, from), Outcome: e.Outcome, Odd: len(t.Done)%2 == 1}
	if t.latest != 0 && t.latest != e.Batch {
		t.Turns = append(t.Turns, from)
	}
	t.latest = e.Batch
	t.Done = append(t.Done, p)
	t.took += p.To - p.From
	if e.Outcome.Bad() {
		t.Bad = append(t.Bad, p)
	}
	if t.Running == e.ID {
		t.Running = ""
	}
}

// Before lists the tests that a worker began before a result's.
func (l *Run) Before(r *run.Result) []startedTest {
	if r.Worker < 1 || r.Worker > len(l.Tracks) {
		return nil
	}
	order, at := l.Tracks[r.Worker-1].order, r.Started.Sub(l.Began).Seconds()
	first, _ := slices.BinarySearchFunc(order, at, func(b startedTest, at float64) int { return cmp.Compare(b.at, at) })
	for i := first; i < len(order) && order[i].at == at; i++ {
		if order[i].Result == r {
			return order[:i]
		}
	}
	return nil
}

// Planned is a batch that has not begun, at the time at which it is expected.
type Planned struct {
	label    string
	From, To float64
}

// Outlook is what should come.
type Outlook struct {
	Tracks [][]Planned // by worker; the first is the batch that it works on
	Early  []float64   // by worker: the seconds that it is ahead of the expected times
	End    float64
	Doubt  float64 // about 95 of 100 runs end within this many seconds around end
}

// outlook is the schedule's forecast from the present state of the run.
func (l *Run) outlook() Outlook {
	n := len(l.Tracks)
	out := Outlook{Tracks: make([][]Planned, n), Early: make([]float64, n)}
	free, variance := make([]float64, n), make([]float64, n)
	p := schedule.Progress{Now: l.Now, At: make([]int, n), Left: make([]float64, n),
		Begun:   func(batch int) bool { return l.batches[batch].begun },
		Ended:   l.hasEnded,
		Seconds: func(batch int) float64 { return l.batches[batch].left }, Processors: l.Processors}
	paces := l.paces()
	if l.Fleet != nil {
		speeds, works := l.speeds()
		p.Speed, p.Late = func(worker int) float64 { return speeds[worker] }, lateness(works)
		for w, speed := range speeds {
			paces[w] = 1 / speed
		}
	}
	for w := range l.Tracks {
		t := &l.Tracks[w]
		p.At[w] = t.Batch
		if t.Batch >= 0 {
			b := &l.batches[t.Batch]
			p.Left[w] = max(0, b.left)
			if t.Running != "" { // of which a part has passed
				p.Left[w] = max(0, p.Left[w]-min((l.Now-t.Since)/paces[w], l.test(t.Running).Expected))
			}
			if l.Fleet != nil {
				p.Left[w] *= paces[w]
			}
			variance[w] = max(0, b.variance)
			out.Tracks[w] = append(out.Tracks[w], Planned{b.label, l.Now, l.Now + p.Left[w]})
		}
		free[w] = l.Now + p.Left[w]
		out.Early[w] = t.early(l)
	}
	for _, s := range l.schedule.Forecast(p) {
		if isFar(s.From) {
			continue
		}
		b := &l.batches[s.Batch]
		out.Tracks[s.Worker] = append(out.Tracks[s.Worker], Planned{b.label, s.From, s.To})
		free[s.Worker] = s.To
		variance[s.Worker] += max(0, b.variance)
	}
	for w := range free {
		if free[w] >= out.End {
			out.End, out.Doubt = free[w], 2*math.Sqrt(variance[w])
		}
	}
	return out
}

// paces returns by worker how many times as long the test that runs takes as alone, because the workers share the
// processors.
func (l *Run) paces() []float64 {
	shares := make([]float64, len(l.Tracks))
	for w := range l.Tracks {
		if id := l.Tracks[w].Running; id != "" {
			shares[w] = l.test(id).Share
		}
	}
	return schedule.Paces(shares, l.Processors)
}

// Slow reports whether the test that runs takes much longer than it should.
func (t *Track) Slow(l *Run) bool {
	test := l.test(t.Running)
	return test.Expected > 0 && l.Now-t.Since > test.Expected+max(1, 3*test.Spread)
}

// early returns the seconds that a worker is ahead of the expected times.
func (t *Track) early(l *Run) float64 {
	if t.Running == "" {
		return t.due - t.last // it may have nothing left to do
	}
	return t.due + min(l.Now-t.Since, l.test(t.Running).Expected) - l.Now
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
