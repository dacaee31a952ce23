package progress

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
)

// TestFeedKeepsTheRun puts the events of several workers into a feed while another goroutine takes them: they add up to the run
// that they are, and what a test prints in between is joined.
func TestFeedKeepsTheRun(t *testing.T) {
	const workers, tests = 4, 50
	var f Feed
	var wg sync.WaitGroup
	want := make([]string, workers*tests) // by test: what it prints
	for w := range workers {
		wg.Go(func() {
			random := rand.New(rand.NewPCG(uint64(w), 1))
			for i := range tests {
				n := w*tests + i
				id := fmt.Sprintf("u:g#%d", n)
				f.Put(run.Event{Event: run.Started, ID: id, Worker: w + 1, Batch: 1})
				for line := range random.IntN(20) {
					text := fmt.Sprintf("%d line %d\n", n, line)
					want[n] += text
					f.Put(run.Event{Event: run.Output, ID: id, Worker: w + 1, Batch: 1, Text: text})
				}
				f.Put(run.Event{Event: run.Finished, ID: id, Worker: w + 1, Batch: 1, Outcome: run.Outcomes[n%2], Seconds: run.Took(1)})
			}
		})
	}
	ended := make(chan struct{})
	go func() { wg.Wait(); close(ended) }()
	got, events := run.New(), 0
	take := func() {
		for _, e := range f.take() {
			events++
			got.Apply(e)
		}
	}
	for going := true; going; {
		select {
		case <-ended:
			going = false
		default:
		}
		take()
	}
	for n := range want {
		r := got.Result(fmt.Sprintf("u:g#%d", n))
		if r == nil || r.Outcome != run.Outcomes[n%2] || string(r.Output) != want[n] {
			t.Fatalf("test %d is %+v, want %s and the output %q", n, r, run.Outcomes[n%2], want[n])
		}
	}
	if lines := strings.Count(strings.Join(want, ""), "\n"); events >= 2*len(want)+lines {
		t.Errorf("%d events of %d lines: nothing is joined", events, lines)
	}
}

// TestRunFollows holds that what is put changes nothing before the run follows, and that the forecast moves with what it takes.
func TestRunFollows(t *testing.T) {
	tests := []catalog.Test{{ID: "u:g#a", Suite: "u", Group: "g", Name: "a", Expected: 4, Known: true}, {ID: "u:g#b", Suite: "u", Group: "g", Name: "b", Expected: 6, Known: true}}
	live := New(schedule.New(tests, schedule.Options{Workers: 1, InOrder: true}), 1, func(string) []run.Outcome { return nil })
	if live.Total != 2 || live.Ahead.End != 10 {
		t.Fatalf("before it begins: %d tests, the end at %g, want 2 and 10", live.Total, live.Ahead.End)
	}
	began := live.Began
	live.Events.Put(run.Event{Event: run.Started, ID: "u:g#a", Worker: 1, Batch: 1, At: began})
	live.Events.Put(run.Event{Event: run.Finished, ID: "u:g#a", Worker: 1, Batch: 1, At: began.Add(2e9), Outcome: run.Failed, Seconds: run.Took(2)})
	if live.Run.Done() != 0 || len(live.Bad) != 0 {
		t.Errorf("before it follows, %d tests are done", live.Run.Done())
	}
	live.Follow(began.Add(2e9))
	if live.Run.Done() != 1 || len(live.Bad) != 1 || live.Ahead.End != 8 {
		t.Errorf("after it follows: %d done, %d bad, the end at %g; want 1, 1 and 8", live.Run.Done(), len(live.Bad), live.Ahead.End)
	}
}
