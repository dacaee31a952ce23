package engine

import (
	"math"
	"testing"

	"fernrelay/core/run"
)

// TestAloneSeconds works out how long processes take alone from what they used beside others.
func TestAloneSeconds(t *testing.T) {
	for _, c := range []struct {
		name       string
		wall       float64
		used       run.Used
		busy       float64
		processors int
		want       float64
	}{
		{"it waited as the system says", 4, run.Used{Processor: 1, Stalled: 3}, 8, 2, 1},
		{"it only slept", 2, run.Used{Stalled: 0}, 8, 2, 2},
		{"it slept and waited", 2, run.Used{Processor: 0.5, Stalled: 1}, 8, 2, 1},
		{"it kept two processors busy", 2, run.Used{Processor: 4, Stalled: 1.5}, 2, 2, 2},
		{"it computed, and the system says nothing", 4, run.Used{Processor: 1, Stalled: -1}, 8, 2, 1},
		{"it slept, and the system says nothing", 2, run.Used{Stalled: -1}, 8, 2, 2},
		{"it had a processor for itself", 1, run.Used{Processor: 1, Stalled: -1}, 1, 2, 1},
		{"it computed in one thread, and its group waited more", 4.9, run.Used{Processor: 2, Stalled: 4.8, Thread: 2, Threads: 2, Delayed: 2.8}, 2, 8, 2.1},
		{"the same in two threads in turn", 4.9, run.Used{Processor: 2, Stalled: 4.8, Thread: 1.2, Threads: 2, Delayed: 2.8}, 2, 8, 2.1},
		{"the same, and the system says nothing of the group", 4.9, run.Used{Processor: 2, Stalled: -1, Thread: 2, Threads: 2, Delayed: 2.8}, 2, 8, 2.1},
		{"its longest thread is known", 3, run.Used{Processor: 4, Stalled: 2.9, Thread: 3, Threads: 4, Delayed: 8}, 2, 8, 3},
		{"two threads waited at once at times", 6, run.Used{Processor: 2, Stalled: 5.9, Thread: 1.1, Threads: 2, Delayed: 5.5}, 2, 8, 1.6},
		{"it waited while it started", 0.25, run.Used{Processor: 0.01, Stalled: 0.03, Thread: 0.01, Threads: 0.01, Delayed: 0.03}, 2, 2, 0.25},
		{"its children computed", 4, run.Used{Processor: 3, Stalled: 1, Thread: 0.1, Threads: 0.1, Delayed: 0}, 2, 2, 3},
	} {
		if got := aloneSeconds(c.wall, c.used, c.busy, c.processors); math.Abs(got-c.want) > 1e-9 {
			t.Errorf("%s: %.2f s, want %.2f", c.name, got, c.want)
		}
	}
}
