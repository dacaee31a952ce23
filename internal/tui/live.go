package tui

import (
	"context"
	"slices"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/outcome"
	"fernrelay/internal/engine"
	"fernrelay/internal/relay"
)

// frameTime is how often the screen follows what runs.
const frameTime = time.Second / 30

// inbox takes what other goroutines tell until the next frame.
type inbox[T any] struct {
	mu   sync.Mutex
	held []T
}

func (b *inbox[T]) put(item T) {
	b.mu.Lock()
	b.held = append(b.held, item)
	b.mu.Unlock()
}

func (b *inbox[T]) take() []T {
	b.mu.Lock()
	defer b.mu.Unlock()
	held := b.held
	b.held = nil
	return held
}

// liveRun is a run as the application follows it.
type liveRun struct {
	total    int
	planned  float64 // seconds that it should take; 0 where that is not known, or not yet
	plans    inbox[float64]
	run      *outcome.Run
	bad      []*outcome.Result // oldest first
	tracks   []track           // by worker, from 0
	batches  []batchWork       // in the order in which they are taken
	expected map[string]float64
	began    time.Time
	now      float64 // seconds since began, as of the last frame
	work     float64 // seconds of all tests that are done
	ended    bool
	number   int   // in the ledger, 0 before it is kept
	err      error // what kept the run from being kept
	cancel   context.CancelFunc
	past     func(id string) []outcome.Outcome // in the runs before
	place    map[string]int                    // in the order of its track, by ID
	events   inbox[outcome.Event]
}

// track is what one worker did. Times are seconds since the run began.
type track struct {
	done    []piece
	bad     []piece // those of done that are bad
	running string  // the ID of the test that runs, or empty
	since   float64
	batch   int       // that it works on, from 0; -1 before the first
	told    int       // the batch of the latest of done, from 1
	turns   []float64 // when it went from one batch to the next
	order   []string  // the IDs of the tests it began
}

type piece struct {
	from, to float64
	outcome  outcome.Outcome
	odd      bool // so that neighbours can be told apart
}

// batchWork is the expected time that a batch still takes.
type batchWork struct {
	label  string
	left   float64
	begun  bool
	worker int // the only one that takes it; 0 for whichever is free
}

type runEndedMsg struct {
	run    *liveRun
	number int
	err    error
}

// startRun runs the tests and gives the live run and the command that waits for its end.
func startRun(ctx context.Context, r *relay.Relay, q relay.Request) (*liveRun, tea.Cmd) {
	ctx, cancel := context.WithCancel(ctx)
	live := &liveRun{total: len(q.Tests), run: outcome.NewRun(), began: time.Now(), cancel: cancel,
		past: r.PastOf, tracks: make([]track, q.Workers), expected: make(map[string]float64, len(q.Tests)), place: map[string]int{}}
	for i := range live.tracks {
		live.tracks[i].batch = -1
	}
	for _, b := range r.Queue(q) {
		live.batches = append(live.batches, batchWork{label: batchLabel(b), left: b.Seconds(), worker: b.Worker})
		for _, t := range b.Tests {
			live.expected[t.ID] = t.Expected
		}
	}
	return live, func() tea.Msg {
		ended := runEndedMsg{run: live}
		live.plans.put(r.Planned(q)) // here, as it takes longer for a larger suite
		_, ended.number, ended.err = r.Run(ctx, q, live.events.put)
		return ended
	}
}

func batchLabel(b engine.Batch) string { return b.Tests[0].Group }

// follow folds what happened since the last frame.
func (l *liveRun) follow(now time.Time) {
	if !l.ended {
		l.now = now.Sub(l.began).Seconds()
	}
	for _, planned := range l.plans.take() {
		l.planned = planned
	}
	for _, e := range l.events.take() {
		l.run.Apply(e)
		l.onTracks(e)
	}
}

func (l *liveRun) onTracks(e outcome.Event) {
	at := e.At.Sub(l.began).Seconds()
	if e.Event == outcome.RunEnds {
		l.ended, l.now = true, at
	}
	if e.Event == outcome.Finished && e.Outcome.Bad() {
		l.bad = append(l.bad, l.run.Result(e.ID))
	}
	if e.Worker == 0 {
		return
	}
	t := &l.tracks[e.Worker-1]
	switch e.Event {
	case outcome.Started:
		t.running, t.since, t.batch = e.ID, at, e.Batch-1
		l.place[e.ID] = len(t.order)
		t.order = append(t.order, e.ID)
		l.batches[t.batch].begun = true
	case outcome.Finished:
		l.batches[e.Batch-1].begun = true
		l.batches[e.Batch-1].left -= l.expected[e.ID]
		from := l.run.Result(e.ID).Started.Sub(l.began).Seconds()
		if n := len(t.done); n > 0 {
			from = max(from, t.done[n-1].to) // tests that ran side by side stand one after another
		}
		p := piece{from: from, to: max(at, from), outcome: e.Outcome, odd: len(t.done)%2 == 1}
		if t.told != 0 && t.told != e.Batch {
			t.turns = append(t.turns, from)
		}
		t.told = e.Batch
		l.work += *e.Seconds
		t.done = append(t.done, p)
		if e.Outcome.Bad() {
			t.bad = append(t.bad, p)
		}
		if t.running == e.ID {
			t.running = ""
		}
	}
}

// before lists the IDs of the tests that a worker began before a result's.
func (l *liveRun) before(r *outcome.Result) []string {
	at, ok := l.place[r.ID]
	if !ok {
		return nil
	}
	return l.tracks[r.Worker-1].order[:at]
}

// planned is a batch that is still to come, where it should come.
type planned struct {
	label    string
	from, to float64
}

// ahead deals the batches that nobody has begun out to the workers as they
// should become free, and gives them by worker, with the end of the batch that
// each works on as the first.
func (l *liveRun) ahead() (tracks [][]planned, end float64) {
	tracks = make([][]planned, len(l.tracks))
	free := make([]float64, len(l.tracks))
	for w, t := range l.tracks {
		free[w] = l.now
		if t.batch >= 0 {
			free[w] += max(0, l.batches[t.batch].left)
			tracks[w] = append(tracks[w], planned{l.batches[t.batch].label, l.now, free[w]})
		}
	}
	for _, b := range l.batches {
		if b.begun {
			continue
		}
		w := max(0, b.worker-1)
		for i := range free {
			if b.worker == 0 && free[i] < free[w] {
				w = i
			}
		}
		tracks[w] = append(tracks[w], planned{b.label, free[w], free[w] + b.left})
		free[w] += b.left
	}
	return tracks, slices.Max(free)
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

// liveHunt is the hunt of one victim as the application follows it.
type liveHunt struct {
	victim   catalog.Test
	progress relay.Progress
	began    time.Time
	ended    bool
	err      error
	cancel   context.CancelFunc
	told     inbox[relay.Progress]
}

type huntEndedMsg struct {
	hunts []*liveHunt
	err   error
}

// startHunt hunts victims side by side.
func startHunt(ctx context.Context, r *relay.Relay, victims []catalog.Test, workers int) ([]*liveHunt, tea.Cmd) {
	ctx, cancel := context.WithCancel(ctx)
	hunts := make([]*liveHunt, len(victims))
	byID := map[string]*liveHunt{}
	for i, v := range victims {
		hunts[i] = &liveHunt{victim: v, began: time.Now(), cancel: cancel}
		byID[v.ID] = hunts[i]
	}
	return hunts, func() tea.Msg {
		_, err := r.Hunt(ctx, victims, workers, func(p relay.Progress) { byID[p.Victim].told.put(p) })
		cancel()
		return huntEndedMsg{hunts, err}
	}
}

// follow takes the latest progress.
func (h *liveHunt) follow() {
	if told := h.told.take(); len(told) > 0 {
		h.progress = told[len(told)-1]
	}
}
