package tui

import (
	"cmp"
	"context"
	"math"
	"slices"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/processors"
)

// liveRun is a run as the application follows it. Whoever runs it calls put, from any goroutine; the model changes only
// when it follows.
type liveRun struct {
	events     feed
	total      int
	planned    float64 // seconds that it should take; 0 if that is not known, or not yet
	behind     string  // in words, the tests that the pick leaves out behind build constraints
	alone      float64 // seconds that one worker took for the same tests; 0 if that is not known
	plans      inbox[seconds]
	run        *run.Run
	results    []*run.Result // those with an outcome, in the order in which their tests ended
	bad        []*run.Result // of those
	recovered  []*run.Result // of those: they pass, and were bad before this run
	tracks     []track       // by worker, from 0
	schedule   *schedule.Schedule
	processors int                  // that the workers share
	batches    []batchWork          // in the order in which they are taken
	scheduled  map[string]scheduled // by ID
	began      time.Time            // when the first test began; until then, the time of the request
	first      bool                 // a test has begun
	now        float64              // seconds since began, as of the last frame
	ahead      outlook              // as of the last frame
	steps      int                  // of all tests that are done
	flaky      int                  // tests that passed in a later try only
	preparing  inbox[string]
	prepared   string  // what is being prepared before the first test
	waited     float64 // seconds until the first test, or so far
	ended      bool
	incomplete bool  // a test is lost, and not because of a build
	number     int   // in the ledger, 0 before it is kept
	err        error // what kept the run from being kept
	control    control
	held       bool                          // nothing new begins
	stopping   bool                          // asked to let what runs come to its end
	cancel     context.CancelCauseFunc       // nil for a run of another process
	past       func(id string) []run.Outcome // in the runs before
	fleet      *liveFleet                    // nil for a run on one machine
	quiet      bool                          // nobody watches it: its forecast is not worked out
}

// control steers a run that goes on: Finish lets what runs come to its end, Hold keeps new batches from starting.
type control interface {
	Finish()
	Hold(held bool)
}

// seconds is what a run should take, and what one worker took for its tests; 0 for what is not known.
type seconds struct{ planned, alone float64 }

// scheduled is the place of a test in the schedule: its batch, and which of the batch's tests it is, both from 0.
type scheduled struct{ batch, test int32 }

// startedTest is a test that a worker began, and when.
type startedTest struct {
	result *run.Result
	at     float64
}

// track is what one worker did. Times are seconds since the run began.
type track struct {
	done    []piece
	bad     []piece // those of done that are bad
	running string  // the ID of the test that runs, or empty
	since   float64
	batch   int           // that it works on, from 0; -1 before the first
	latest  int           // the batch of the latest of done, from 1
	broken  []piece       // what it began and did not end, as its machine was lost
	turns   []float64     // when it went from one batch to the next
	order   []startedTest // the tests it began
	due     float64       // how long what it has done should have taken
	took    float64       // how long its tests took
	last    float64       // when it was last seen to do something
}

type piece struct {
	from, to float64
	outcome  run.Outcome
	odd      bool // so that neighbours differ
}

// batchWork is the expected time that a batch still takes.
type batchWork struct {
	label          string
	left, variance float64
	setup          float64 // part of left, until it begins
	begun          bool
}

// newLiveRun prepares to follow a run of a schedule.
func newLiveRun(s *schedule.Schedule, workers int, past func(id string) []run.Outcome) *liveRun {
	live := &liveRun{run: run.New(), began: time.Now(), past: past, schedule: s, processors: processors.Count(), tracks: make([]track, workers)}
	for i := range live.tracks {
		live.tracks[i].batch = -1
	}
	for i := range s.Batches {
		b := &s.Batches[i]
		work := batchWork{label: b.Tests[0].GroupLabel(), setup: b.Setup(), left: b.Setup() + b.Seconds()}
		for i := range b.Tests {
			work.variance += b.Tests[i].Spread * b.Tests[i].Spread
		}
		live.total += len(b.Tests)
		live.batches = append(live.batches, work)
	}
	live.scheduled = make(map[string]scheduled, live.total)
	for b := range s.Batches {
		for i := range s.Batches[b].Tests {
			live.scheduled[s.Batches[b].Tests[i].ID] = scheduled{int32(b), int32(i)}
		}
	}
	live.ahead = live.outlook()
	return live
}

// apply adds an event to the run.
func (l *liveRun) apply(e run.Event) {
	l.run.Apply(e)
	l.onTracks(e)
}

// follow takes what happened since the last frame, and the time.
func (l *liveRun) follow(now time.Time) {
	for _, e := range l.events.take() {
		l.apply(e)
	}
	for _, known := range l.plans.take() {
		l.planned, l.alone = known.planned, known.alone
	}
	for _, what := range l.preparing.take() {
		l.prepared = what
	}
	if l.fleet != nil {
		l.followMachines()
	}
	switch since := now.Sub(l.began).Seconds(); {
	case !l.first && !l.ended:
		l.waited = since
	case !l.ended:
		l.now = since
	}
	if !l.ended && !l.quiet {
		l.ahead = l.outlook()
	}
}

func (l *liveRun) onTracks(e run.Event) {
	if e.Event == run.Started && !l.first && !e.Entry {
		l.first, l.began = true, e.At // preparations are not on the tracks
	}
	at := 0.0 // also of what has its outcome before any test began
	if l.first {
		at = e.At.Sub(l.began).Seconds()
	}
	if e.Event == run.RunEnds {
		l.ended, l.now, l.scheduled = true, at, nil // nothing more begins
		l.incomplete = l.run.ExitStatus() == 3
	}
	if e.Event == run.Finished {
		result := l.run.Result(e.ID)
		if e.Again != "" { // it is counted
			if !e.Again.Bad() && e.Outcome.Bad() {
				l.bad = append(l.bad, result)
			}
			return
		}
		l.results = append(l.results, result)
		l.steps += len(result.Steps)
		if e.Flaky {
			l.flaky++
		}
		if e.Outcome.Bad() {
			l.bad = append(l.bad, result)
		}
		if l.isRecovered(result) {
			l.recovered = append(l.recovered, result)
		}
	}
	t := l.trackOf(e)
	if t == nil || e.Batch < 1 || e.Batch > len(l.batches) {
		return
	}
	t.last = at
	switch e.Event {
	case run.Started:
		if l.fleet != nil && t.batch != e.Batch-1 {
			l.taken(t, e.Batch-1, e.Machine)
		}
		t.running, t.since, t.batch = e.ID, at, e.Batch-1
		t.order = append(t.order, startedTest{l.run.Result(e.ID), at})
		l.begin(t, t.batch)
	case run.Finished:
		l.finish(t, e, at)
	}
}

// trackOf returns the track of an event's worker, nil if it has none. Machines may join at any time.
func (l *liveRun) trackOf(e run.Event) *track {
	worker := l.run.WorkerOf(e)
	for l.fleet != nil && worker > len(l.tracks) {
		l.tracks = append(l.tracks, track{batch: -1})
	}
	if worker < 1 || worker > len(l.tracks) {
		return nil
	}
	return &l.tracks[worker-1]
}

// test returns a test as it is scheduled; an empty one for what processes do beyond their tests.
func (l *liveRun) test(id string) *catalog.Test {
	at, ok := l.scheduled[id]
	if !ok {
		return &catalog.Test{}
	}
	return &l.schedule.Batches[at.batch].Tests[at.test]
}

// begin notes that a worker begins a batch.
func (l *liveRun) begin(t *track, batch int) {
	b := &l.batches[batch]
	if !b.begun {
		b.begun = true
		b.left -= b.setup
		t.due += b.setup
	}
}

func (l *liveRun) finish(t *track, e run.Event, at float64) {
	l.begin(t, e.Batch-1)
	b, test := &l.batches[e.Batch-1], l.test(e.ID)
	b.left, b.variance = b.left-test.Expected, b.variance-test.Spread*test.Spread
	t.due += test.Expected
	from := 0.0
	if l.first {
		from = max(0, l.run.Result(e.ID).Started.Sub(l.began).Seconds())
	}
	if n := len(t.done); n > 0 {
		from = max(from, t.done[n-1].to) // tests that ran side by side are drawn one after another
	}
	p := piece{from: from, to: max(at, from), outcome: e.Outcome, odd: len(t.done)%2 == 1}
	if t.latest != 0 && t.latest != e.Batch {
		t.turns = append(t.turns, from)
	}
	t.latest = e.Batch
	t.done = append(t.done, p)
	t.took += p.to - p.from
	if e.Outcome.Bad() {
		t.bad = append(t.bad, p)
	}
	if t.running == e.ID {
		t.running = ""
	}
}

// before lists the tests that a worker began before a result's.
func (l *liveRun) before(r *run.Result) []startedTest {
	if r.Worker < 1 || r.Worker > len(l.tracks) {
		return nil
	}
	order, at := l.tracks[r.Worker-1].order, r.Started.Sub(l.began).Seconds()
	first, _ := slices.BinarySearchFunc(order, at, func(b startedTest, at float64) int { return cmp.Compare(b.at, at) })
	for i := first; i < len(order) && order[i].at == at; i++ {
		if order[i].result == r {
			return order[:i]
		}
	}
	return nil
}

// planned is a batch that has not begun, at the time at which it is expected.
type planned struct {
	label    string
	from, to float64
}

// outlook is what should come.
type outlook struct {
	tracks [][]planned // by worker; the first is the batch that it works on
	early  []float64   // by worker: the seconds that it is ahead of the expected times
	end    float64
	doubt  float64 // about 95 of 100 runs end within this many seconds around end
}

// outlook is the schedule's forecast from the present state of the run.
func (l *liveRun) outlook() outlook {
	n := len(l.tracks)
	out := outlook{tracks: make([][]planned, n), early: make([]float64, n)}
	free, variance := make([]float64, n), make([]float64, n)
	p := schedule.Progress{Now: l.now, At: make([]int, n), Left: make([]float64, n),
		Begun:   func(batch int) bool { return l.batches[batch].begun },
		Ended:   l.hasEnded,
		Seconds: func(batch int) float64 { return l.batches[batch].left }, Processors: l.processors}
	paces := l.paces()
	if l.fleet != nil {
		speeds, works := l.speeds()
		p.Speed, p.Late = func(worker int) float64 { return speeds[worker] }, lateness(works)
		for w, speed := range speeds {
			paces[w] = 1 / speed
		}
	}
	for w := range l.tracks {
		t := &l.tracks[w]
		p.At[w] = t.batch
		if t.batch >= 0 {
			b := &l.batches[t.batch]
			p.Left[w] = max(0, b.left)
			if t.running != "" { // of which a part has passed
				p.Left[w] = max(0, p.Left[w]-min((l.now-t.since)/paces[w], l.test(t.running).Expected))
			}
			if l.fleet != nil {
				p.Left[w] *= paces[w]
			}
			variance[w] = max(0, b.variance)
			out.tracks[w] = append(out.tracks[w], planned{b.label, l.now, l.now + p.Left[w]})
		}
		free[w] = l.now + p.Left[w]
		out.early[w] = t.early(l)
	}
	for _, s := range l.schedule.Forecast(p) {
		if isFar(s.From) {
			continue
		}
		b := &l.batches[s.Batch]
		out.tracks[s.Worker] = append(out.tracks[s.Worker], planned{b.label, s.From, s.To})
		free[s.Worker] = s.To
		variance[s.Worker] += max(0, b.variance)
	}
	for w := range free {
		if free[w] >= out.end {
			out.end, out.doubt = free[w], 2*math.Sqrt(variance[w])
		}
	}
	return out
}

// paces returns by worker how many times as long the test that runs takes as alone, because the workers share the
// processors.
func (l *liveRun) paces() []float64 {
	shares := make([]float64, len(l.tracks))
	for w := range l.tracks {
		if id := l.tracks[w].running; id != "" {
			shares[w] = l.test(id).Share
		}
	}
	return schedule.Paces(shares, l.processors)
}

// slow reports whether the test that runs takes much longer than it should.
func (t *track) slow(l *liveRun) bool {
	test := l.test(t.running)
	return test.Expected > 0 && l.now-t.since > test.Expected+max(1, 3*test.Spread)
}

// early returns the seconds that a worker is ahead of the expected times.
func (t *track) early(l *liveRun) float64 {
	if t.running == "" {
		return t.due - t.last // it may have nothing left to do
	}
	return t.due + min(l.now-t.since, l.test(t.running).Expected) - l.now
}

// spread returns how long after the first worker the last one ended.
func (l *liveRun) spread() float64 {
	first, last := math.Inf(1), 0.0
	for i := range l.tracks {
		if l.fleet != nil && l.fleet.isLost(l.run.PlaceOf(i+1).Machine) {
			continue // it did not end, but was ended
		}
		if n := len(l.tracks[i].done); n > 0 {
			end := l.tracks[i].done[n-1].to
			first, last = min(first, end), max(last, end)
		}
	}
	return max(0, last-first)
}

// busy counts the workers with a test that runs.
func (l *liveRun) busy() int {
	n := 0
	for _, t := range l.tracks {
		if t.running != "" && !l.ended {
			n++
		}
	}
	return n
}

// stop lets what runs come to its end, and asked again ends it at once.
func (l *liveRun) stop() {
	if l.ended || l.cancel == nil {
		return
	}
	if l.stopping {
		l.cancel(nil)
		return
	}
	l.stopping = true
	l.control.Finish()
}

// hold stops new batches from starting, or lets them start again.
func (l *liveRun) hold() {
	if l.ended || l.cancel == nil {
		return
	}
	l.held = !l.held
	l.control.Hold(l.held)
}

// aloneWords returns the seconds of one worker for the tests of the run, and a word if they are not measured.
func (l *liveRun) aloneWords() (seconds float64, estimated string) {
	if l.alone > 0 {
		return l.alone, ""
	}
	return l.run.Work + l.run.Starts, " estimated"
}

// end is the time at which the axis ends, in seconds.
func (l *liveRun) end() float64 {
	end := l.ahead.end
	if l.ended {
		end = l.now
	}
	if end = max(end, l.now); end > 0 {
		return end
	}
	return 1
}

// hasEnded reports whether a test has an outcome.
func (l *liveRun) hasEnded(id string) bool {
	r := l.run.Result(id)
	return r != nil && r.Outcome != ""
}

// isRecovered reports whether a test passes that was bad when it ran before.
func (l *liveRun) isRecovered(r *run.Result) bool {
	return r.Outcome == run.Passed && history.Last(l.past(r.ID)).Bad()
}
