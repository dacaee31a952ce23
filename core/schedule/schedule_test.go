package schedule

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"fernrelay/core/catalog"
)

func ExampleSchedule() {
	test := func(name string, seconds float64, rules catalog.Rules) catalog.Test {
		return catalog.Test{ID: "s:" + name + "#t", Suite: "s", Group: name, Name: "t", Expected: seconds, Ruled: &rules}
	}
	bus := catalog.Rules{Holds: []string{"bus"}}
	schedule := New([]catalog.Test{test("a", 5, bus), test("b", 4, bus), test("c", 1, catalog.Rules{})}, Options{Workers: 2})
	forecast := schedule.Forecast(Progress{At: []int{-1, -1}, Left: make([]float64, 2),
		Begun: func(int) bool { return false }, Ended: func(string) bool { return false },
		Seconds: func(batch int) float64 { return schedule.Batches[batch].Seconds() }})
	for _, s := range forecast {
		fmt.Printf("%s on worker %d from %g s to %g s\n", schedule.Batches[s.Batch].Tests[0].Group, s.Worker+1, s.From, s.To)
	}
	// Output:
	// a on worker 1 from 0 s to 5 s
	// c on worker 2 from 0 s to 1 s
	// b on worker 2 from 5 s to 9 s
}

// randomSchedule makes batches that hold resources, wait for tests of earlier ones, or are for one worker.
func randomSchedule(random *rand.Rand, workers int) *Schedule {
	batches := make([]Batch, 1+random.IntN(12))
	for i := range batches {
		t := catalog.Test{ID: fmt.Sprint("t", i), Group: fmt.Sprint("g", i), Expected: random.Float64()}
		switch random.IntN(4) {
		case 0:
			t.AddRules(catalog.Rules{Holds: []string{"bus"}}, "")
		case 1:
			t.AddRules(catalog.Rules{Holds: []string{"wide", "bus"}[:1+random.IntN(2)]}, "")
		}
		if i > 0 && random.IntN(3) == 0 {
			t.AddRules(catalog.Rules{After: []string{fmt.Sprint("t", random.IntN(i))}}, "")
		}
		batches[i] = Batch{Suite: "s", Tests: []catalog.Test{t}, Worker: max(0, random.IntN(3*workers)-2*workers)}
		if random.IntN(4) == 0 {
			batches[i].Apart = fmt.Sprint("apart", random.IntN(2))
		}
	}
	return Of(batches, map[string]int{"wide": 2})
}

// TestDispatcherAgainstReference compares every answer of a dispatcher with a plain search through all batches.
func TestDispatcherAgainstReference(t *testing.T) {
	random := rand.New(rand.NewPCG(21, 22))
	for round := range 500 {
		workers := 1 + random.IntN(4)
		s := randomSchedule(random, workers)
		d := s.Dispatch()
		state := make([]int, len(s.Batches)) // 0 waits, 1 runs, 2 has ended
		free := func(i int) bool {
			held := map[string]int{}
			for j, now := range state {
				if now != 1 {
					continue
				}
				if s.Batches[j].Apart != "" && s.Batches[j].Apart == s.Batches[i].Apart {
					return false
				}
				for _, r := range s.Batches[j].Tests[0].Rules().Holds {
					held[r]++
				}
			}
			for _, r := range s.Batches[i].Tests[0].Rules().Holds {
				if held[r] >= max(1, s.Resources[r]) {
					return false
				}
			}
			for _, id := range s.Batches[i].Tests[0].Rules().After {
				if at := slices.IndexFunc(s.Batches, func(b Batch) bool { return b.Tests[0].ID == id }); state[at] != 2 {
					return false
				}
			}
			return true
		}
		for steps := 0; slices.Contains(state, 0) || slices.Contains(state, 1); steps++ {
			if running := slices.Index(state, 1); running >= 0 && random.IntN(2) == 0 {
				state[running] = 2
				d.End(s.Batches[running].Tests[0].ID)
				d.Release(running)
				continue
			}
			worker := 1 + random.IntN(workers)
			want, left := -1, false
			for i, b := range s.Batches {
				if state[i] != 0 || b.Worker != 0 && b.Worker != worker {
					continue
				}
				left = true
				if free(i) {
					want = i
					break
				}
			}
			got, gotLeft := d.Next(worker)
			if got != want || gotLeft != left {
				t.Fatalf("round %d: worker %d takes %d, left %t; want %d, %t", round, worker, got, gotLeft, want, left)
			}
			if got >= 0 {
				state[got] = 1
			}
			if steps > 10_000 {
				t.Fatalf("round %d does not end", round)
			}
		}
	}
}

// TestForecastsHold holds that in a forecast every batch runs once, no worker runs two at a time or begins before it
// can, resources suffice, and nobody starts before what it waits for has ended.
func TestForecastsHold(t *testing.T) {
	random := rand.New(rand.NewPCG(23, 24))
	for round := range 500 {
		workers := 1 + random.IntN(4)
		s := randomSchedule(random, workers)
		p := Progress{Now: 10, At: make([]int, workers), Left: make([]float64, workers), Late: make([]float64, workers),
			Begun: func(int) bool { return false }, Ended: func(string) bool { return false }, Seconds: func(batch int) float64 { return s.Batches[batch].Seconds() }}
		for i := range p.At {
			p.At[i], p.Late[i] = -1, 9+3*random.Float64()
		}
		stretches := s.Forecast(p)
		if len(stretches) != len(s.Batches) {
			t.Fatalf("round %d: %d of %d batches", round, len(stretches), len(s.Batches))
		}
		end := map[string]float64{}
		for _, x := range stretches {
			end[s.Batches[x.Batch].Tests[0].ID] = x.To
		}
		for i, x := range stretches {
			b := &s.Batches[x.Batch]
			if x.From < max(p.Now, p.Late[x.Worker]) || b.Worker != 0 && b.Worker != x.Worker+1 {
				t.Fatalf("round %d: %+v of a batch for worker %d, which can begin at %v", round, x, b.Worker, p.Late[x.Worker])
			}
			for _, id := range b.Tests[0].Rules().After {
				if x.From < end[id] {
					t.Fatalf("round %d: %+v begins before %s ends at %v", round, x, id, end[id])
				}
			}
			held := map[string]int{}
			for j, y := range stretches {
				if i == j || y.From > x.From || y.To <= x.From {
					continue
				}
				if y.Worker == x.Worker && y.To > x.From && y.From <= x.From && j != i {
					t.Fatalf("round %d: %+v and %+v are on one worker", round, x, y)
				}
				for _, r := range s.holds[y.Batch] {
					held[r]++
				}
			}
			for _, r := range s.holds[x.Batch] {
				if held[r] >= max(1, s.Resources[r]) {
					t.Fatalf("round %d: %+v begins while %q is held", round, x, r)
				}
			}
		}
	}
}

// BenchmarkForecast forecasts 1,000 batches on 8 workers from the beginning.
func BenchmarkForecast(b *testing.B) {
	batches := make([]Batch, 1000)
	for i := range batches {
		batches[i] = Batch{Suite: "s", Tests: []catalog.Test{{ID: fmt.Sprint("t", i), Expected: float64(1 + i%7)}}}
	}
	s := Of(batches, nil)
	p := Progress{At: slices.Repeat([]int{-1}, 8), Left: make([]float64, 8), Begun: func(int) bool { return false }, Ended: func(string) bool { return false },
		Seconds: func(batch int) float64 { return s.Batches[batch].Seconds() }}
	for b.Loop() {
		s.Forecast(p)
	}
}
