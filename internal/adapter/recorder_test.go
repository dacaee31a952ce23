package adapter

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/process"
)

func batchTests(n int) []catalog.Test {
	tests := make([]catalog.Test, n)
	for i := range tests {
		tests[i] = catalog.Test{ID: fmt.Sprint("t", i), File: "f.go", Line: i}
	}
	return tests
}

func noPlace(words string) (string, string, int) { return strings.TrimSpace(words), "", 0 }

// TestRandomProcesses plays processes that end at random under tests that run
// one after another and side by side: in the end every test has one outcome, the
// ones that kill their process are errored, and nobody else is.
func TestRandomProcesses(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 9))
	for round := range 500 {
		tests := batchTests(1 + random.IntN(12))
		kills := map[string]bool{}
		for _, test := range tests {
			kills[test.ID] = random.IntN(4) == 0
		}
		outcomes := map[string][]run.Outcome{}
		b := NewRecorder(tests, process.Limits{}, func(e run.Event) {
			if e.Event == run.Finished {
				outcomes[e.ID] = append(outcomes[e.ID], e.Outcome)
			}
		})
		processes := 0
		for next := b.Next(); len(next) > 0; next = b.Next() {
			if processes++; processes > 100 {
				t.Fatalf("round %d: the processes do not come to an end", round)
			}
			playProcess(random, b, next, kills)
		}
		for _, test := range tests {
			want := run.Passed
			if kills[test.ID] {
				want = run.Errored
			}
			if got := outcomes[test.ID]; len(got) != 1 || got[0] != want {
				t.Fatalf("round %d: %s is %v, want %s once", round, test.ID, got, want)
			}
		}
	}
}

// playProcess plays one process: some tests run side by side, and the first that
// kills ends the process under all of them.
func playProcess(random *rand.Rand, b *Recorder, tests []catalog.Test, kills map[string]bool) {
	b.Begin(func() {})
	for len(tests) > 0 {
		together := tests[:1+random.IntN(min(3, len(tests)))]
		for _, test := range together {
			b.Started(test.ID)
			b.Paused(test.ID)
		}
		for _, test := range together {
			b.Continued(test.ID)
		}
		for _, test := range together {
			if kills[test.ID] {
				b.Ended("exit status 3", noPlace)
				return
			}
		}
		for _, test := range together {
			b.Finished(run.Event{ID: test.ID, Outcome: run.Passed})
		}
		tests = tests[len(together):]
	}
	b.Ended("exit status 0", noPlace)
}

// TestTimeout holds that the time limit kills the process, blames the test that
// took too long, leaves out pauses, and spares its neighbour.
func TestTimeout(t *testing.T) {
	var mu sync.Mutex
	var reported []string
	b := NewRecorder(batchTests(3), process.Limits{Test: 50 * time.Millisecond}, func(e run.Event) {
		mu.Lock()
		defer mu.Unlock()
		if e.Event == run.Finished {
			reported = append(reported, fmt.Sprint(e.ID, " ", e.Outcome))
		}
	})
	killed := make(chan struct{})
	b.Begin(func() { close(killed) })
	b.Started("t0")
	b.Paused("t0")
	b.Started("t1")
	b.Output("t1", []byte("still here\n"))
	if b.Words("t1") != "still here\n" {
		t.Errorf("the words of t1 are %q", b.Words("t1"))
	}
	<-killed
	b.Ended("signal 9, killed", noPlace)
	if got := strings.Join(reported, ", "); got != "t1 timed-out" {
		t.Errorf("reported %s", got)
	}
	var left []string
	for _, test := range b.Next() {
		left = append(left, test.ID)
	}
	if strings.Join(left, " ") != "t0 t2" {
		t.Errorf("left are %v", left)
	}
}

// TestOwnLimit holds that a test's own limit counts if it is shorter than that of its suite.
func TestOwnLimit(t *testing.T) {
	for _, c := range []struct{ suite, own time.Duration }{{time.Hour, time.Millisecond}, {0, time.Millisecond}, {time.Millisecond, time.Hour}} {
		tests := batchTests(1)
		tests[0].Ask(func(a *catalog.Asked) { a.Limit = c.own })
		b := NewRecorder(tests, process.Limits{Test: c.suite}, func(run.Event) {})
		killed := make(chan struct{})
		b.Begin(func() { close(killed) })
		b.Started("t0")
		<-killed
	}
}

// TestAllPausedAtTheEnd holds that a process that ends while all its tests wait
// does not begin again and again.
func TestAllPausedAtTheEnd(t *testing.T) {
	b := NewRecorder(batchTests(2), process.Limits{}, func(run.Event) {})
	for processes := 0; len(b.Next()) > 0; processes++ {
		if processes > 5 {
			t.Fatal("the processes do not come to an end")
		}
		b.Begin(func() {})
		for _, test := range b.Next() {
			b.Started(test.ID)
			b.Paused(test.ID)
		}
		b.Ended("exit status 2", noPlace)
	}
}

// TestStrangers holds that what is reported of unknown tests is ignored, and of several outcomes of a test the worst counts.
func TestStrangers(t *testing.T) {
	events := 0
	ran := run.New()
	b := NewRecorder(batchTests(1), process.Limits{}, func(e run.Event) { events++; ran.Apply(e) })
	b.Begin(func() {})
	b.Started("t0")
	b.Started("t0")
	b.Finished(run.Event{ID: "t0", Outcome: run.Passed})
	for _, id := range []string{"t0", "stranger"} {
		b.Started(id)
		b.Paused(id)
		b.Continued(id)
		b.Output(id, []byte("text"))
		b.Step(id, run.Event{Step: "step", Outcome: run.Passed})
		b.Finished(run.Event{ID: id, Outcome: run.Failed})
	}
	b.Finished(run.Event{ID: "t0", Outcome: run.Passed})
	want := "its process reported several outcomes, passed, failed, and the worst counts"
	if res := ran.Result("t0"); events != 4 || res.Outcome != run.Failed || res.Message != want || ran.Done() != 1 || ran.Several() == "" {
		t.Errorf("%d events, want 4; t0 is %s: %s, want failed: %s", events, res.Outcome, res.Message, want)
	}
}

// TestNoProcess holds that tests which get their outcomes without any process start no clock.
func TestNoProcess(t *testing.T) {
	b := NewRecorder(batchTests(2), process.Limits{Test: time.Nanosecond, Idle: time.Nanosecond}, func(run.Event) {})
	b.Started("t0")
	b.Finished(run.Event{ID: "t0", Outcome: run.Errored})
	if b.idle != nil {
		t.Error("it waits for a test of no process")
	}
}

// TestLimits holds which limits hold in a slot that has one of its own.
func TestLimits(t *testing.T) {
	suite := process.Limits{Test: time.Minute, Idle: time.Minute, Handshake: time.Second}
	if got := (process.Slot{}).Limits(suite); got != suite {
		t.Errorf("without its own: %+v", got)
	}
	if got := (process.Slot{Limit: time.Second}).Limits(suite); got.Test != time.Second || got.Idle != time.Second {
		t.Errorf("with its own: %+v", got)
	}
	suite.Idle = time.Hour
	if got := (process.Slot{Limit: time.Second}).Limits(suite); got.Test != time.Second || got.Idle != time.Hour {
		t.Errorf("with its own and one for the rest: %+v", got)
	}
}

// TestSilentPhases holds that a process in which no test runs for too long is killed, and that the
// phase is named.
func TestSilentPhases(t *testing.T) {
	for _, c := range []struct {
		ended int // tests that end before it is silent
		phase Phase
		want  string
	}{{0, BeforeTests, ""}, {1, BetweenTests, "t1 timed-out"}, {2, AfterTests, ""}} {
		reported := ""
		b := NewRecorder(batchTests(2), process.Limits{Idle: 20 * time.Millisecond}, func(e run.Event) {
			if e.Event == run.Finished && e.Outcome != run.Passed {
				reported += fmt.Sprint(e.ID, " ", e.Outcome)
			}
		})
		killed := make(chan struct{})
		b.Begin(func() { close(killed) })
		for i := range c.ended {
			b.Started(fmt.Sprint("t", i))
			b.Finished(run.Event{ID: fmt.Sprint("t", i), Outcome: run.Passed})
		}
		<-killed
		if phase := b.Exited(); phase != c.phase {
			t.Errorf("after %d tests the phase is %q", c.ended, phase)
		}
		b.Ended("signal 9, killed", noPlace)
		if reported != c.want {
			t.Errorf("after %d tests: %q", c.ended, reported)
		}
	}
}
