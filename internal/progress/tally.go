package progress

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"fernrelay/core/run"
)

// Tally is how far a run has come: its counts and what runs, without the results.
type Tally struct {
	Total   int
	Began   time.Time // zero before the run begins
	Done    int
	counts  map[run.Outcome]int
	running map[string]time.Time // by ID: since when
}

// NewTally returns the tally of a run of a number of tests.
func NewTally(total int) *Tally {
	return &Tally{Total: total, counts: map[run.Outcome]int{}, running: map[string]time.Time{}}
}

// Apply adds an event to the tally.
func (t *Tally) Apply(e run.Event) {
	switch e.Event {
	case run.RunBegins:
		t.Began = e.At
	case run.Started:
		t.running[e.ID] = e.At
	case run.Finished:
		delete(t.running, e.ID)
		t.count(e)
	}
}

// count adds an outcome. A worse outcome of a test that has one replaces it, so the sum of the counts stays the number of tests that are done.
func (t *Tally) count(e run.Event) {
	switch {
	case e.Entry && e.Outcome.Bad():
		t.counts[run.Beyond]++
		return
	case e.Again != "":
		t.counts[e.Again]--
	default:
		t.Done++
	}
	t.counts[e.Outcome]++
}

// Bad counts the bad outcomes, those beyond the tests included.
func (t *Tally) Bad() int { return run.CountBad(t.counts) }

// RunningTest is a test that runs, and for how long.
type RunningTest struct {
	ID    string
	Since time.Duration
}

// Running lists the tests that run at a time, the longest first.
func (t *Tally) Running(now time.Time) []RunningTest {
	ids := slices.SortedFunc(maps.Keys(t.running), func(a, b string) int {
		return cmp.Or(t.running[a].Compare(t.running[b]), strings.Compare(a, b))
	})
	running := make([]RunningTest, len(ids))
	for i, id := range ids {
		running[i] = RunningTest{id, now.Sub(t.running[id])}
	}
	return running
}
