package progress

import (
	"cmp"
	"slices"

	"fernrelay/core/run"
)

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

// startedTest is a test that a worker began, and when.
type startedTest struct {
	Result *run.Result
	at     float64
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
