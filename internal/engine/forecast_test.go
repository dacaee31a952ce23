package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/adapter"
	"fernrelay/internal/process"
	"fernrelay/internal/service"
)

// conductor is an adapter whose tests end on demand.
type conductor struct {
	puppet
	mu      sync.Mutex
	changed *sync.Cond
	begun   []string // the first tests of batches, in the order in which they began
	ends    map[string]chan struct{}
}

func (c *conductor) Open(context.Context, process.Slot) (adapter.Session, error) {
	return &conducted{puppetSession{&c.puppet}, c}, nil
}

type conducted struct {
	puppetSession
	conductor *conductor
}

func (s *conducted) Run(_ context.Context, tests []catalog.Test, sink run.Sink) error {
	c := s.conductor
	c.mu.Lock()
	c.begun = append(c.begun, tests[0].ID)
	c.changed.Broadcast()
	c.mu.Unlock()
	for _, t := range tests {
		sink(run.Event{Event: run.Started, ID: t.ID})
		<-c.ends[t.ID]
		sink(run.Event{Event: run.Finished, ID: t.ID, Outcome: run.Passed})
	}
	return nil
}

// TestForecastIsWhatHappens runs random schedules with resources, needs, chains, what stays apart and batches for
// one worker, and lets tests end in the order of the forecast: at every moment exactly the batches have begun
// that the forecast says.
func TestForecastIsWhatHappens(t *testing.T) {
	random := rand.New(rand.NewPCG(11, 12))
	for round := range 60 {
		workers := 1 + random.IntN(4)
		tests, only := randomTests(random, workers)
		c := &conductor{ends: map[string]chan struct{}{}}
		c.changed = sync.NewCond(&c.mu)
		for i := range tests {
			c.ends[tests[i].ID] = make(chan struct{})
		}
		options := schedule.Options{Workers: workers, InOrder: only != nil, Worker: only, Resources: map[string]int{"wide": 2},
			Together: []catalog.Level{catalog.TestLevel, catalog.GroupLevel}[random.IntN(2)]}
		schedule := schedule.New(tests, options)
		forecast := schedule.Forecast(fromBeginning(schedule, workers))
		if len(forecast) != len(schedule.Batches) {
			t.Fatalf("round %d: the forecast has %d of %d batches", round, len(forecast), len(schedule.Batches))
		}
		ended := make(chan string)
		adapters := map[string]adapter.Adapter{"s": c}
		pool, err := NewPool(adapters, process.Setup{}, service.Config{}, nil)
		if err != nil {
			t.Fatal(err)
		}
		source := Local(schedule, workers).(*local)
		r := newRun(Job{Adapters: adapters, Schedule: schedule, Source: source, Workers: workers}, pool, func(e run.Event) {
			if e.Event == run.Finished {
				ended <- e.ID
			}
		})
		done := make(chan struct{})
		go func() {
			r.execute(context.Background())
			close(done)
		}()
		asked := workers
		source.wait(asked)
		for _, end := range testEnds(schedule, forecast) {
			var want []string
			for _, s := range forecast {
				if s.From < end.at-1e-9 {
					want = append(want, schedule.Batches[s.Batch].Tests[0].ID)
				}
			}
			if got := c.wait(len(want)); !slices.Equal(got, slices.Sorted(slices.Values(want))) {
				t.Fatalf("round %d, before %.3f s: begun are %v, the forecast says %v", round, end.at, got, want)
			}
			close(c.ends[end.id])
			<-ended
			if end.last {
				asked++
			}
			source.wait(asked)
		}
		<-done
	}
}

// wait waits until workers have asked for batches so often.
func (l *local) wait(asked int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for l.asked < asked {
		l.changed.Wait()
	}
}

// wait waits until so many batches have begun, and returns the first tests of all that have.
func (c *conductor) wait(n int) []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	for len(c.begun) < n {
		c.changed.Wait()
	}
	return slices.Sorted(slices.Values(c.begun))
}

// randomTests makes tests in groups; only has the worker of each in half of the cases.
func randomTests(random *rand.Rand, workers int) (tests []catalog.Test, only map[string]int) {
	if random.IntN(2) == 0 {
		only = map[string]int{}
	}
	for i := range 2 + random.IntN(14) {
		made := test(fmt.Sprint("g", random.IntN(5)), fmt.Sprint("t", i), 0.5+random.Float64(), catalog.Rules{})
		switch random.IntN(4) {
		case 0:
			made.AddRules(catalog.Rules{Holds: []string{"bus"}}, "")
		case 1:
			made.AddRules(catalog.Rules{Holds: []string{"wide", "licence"}[random.IntN(2):]}, "")
		}
		if i > 0 && random.IntN(3) == 0 {
			made.AddRules(catalog.Rules{Needs: []string{tests[random.IntN(i)].ID}}, "")
		}
		if only != nil && len(made.Rules().Needs) == 0 && random.IntN(3) == 0 {
			only[made.ID] = 1 + random.IntN(workers)
		}
		tests = append(tests, made)
	}
	return tests, only
}

func fromBeginning(s *schedule.Schedule, workers int) schedule.Progress {
	at := make([]int, workers)
	for i := range at {
		at[i] = -1
	}
	return schedule.Progress{At: at, Left: make([]float64, workers), Begun: func(int) bool { return false }, Ended: func(string) bool { return false },
		Seconds: func(batch int) float64 { return s.Batches[batch].Seconds() }}
}

type testEnd struct {
	at   float64
	id   string
	last bool // of its batch
}

// testEnds lists when each test ends in a forecast, the soonest first.
func testEnds(s *schedule.Schedule, forecast []schedule.Stretch) []testEnd {
	var ends []testEnd
	for _, stretch := range forecast {
		at := stretch.From
		tests := s.Batches[stretch.Batch].Tests
		for i, t := range tests {
			at += t.Expected
			ends = append(ends, testEnd{at, t.ID, i == len(tests)-1})
		}
	}
	slices.SortFunc(ends, func(a, b testEnd) int {
		if a.at < b.at {
			return -1
		}
		return 1
	})
	return ends
}
