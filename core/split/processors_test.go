package split

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"fernrelay/core/catalog"
)

// TestPaces compares the paces with a simulation in which tests compute and wait in turn, for random times.
func TestPaces(t *testing.T) {
	for _, c := range []struct {
		shares     []float64
		processors int
		within     float64
	}{
		{[]float64{1, 1, 1, 1, 1, 1, 1, 1}, 2, 0.02},
		{[]float64{1, 1}, 2, 0},
		{[]float64{0, 0, 0, 0}, 1, 0},
		{[]float64{1, 0, 0, 0}, 1, 0.02},
		{[]float64{1, 1, 1, 1, 0, 0, 0, 0}, 2, 0.02},
		{[]float64{0.5, 0.5, 0.5, 0.5}, 2, 0.1},
		{[]float64{0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5}, 2, 0.1},
		{[]float64{1, 0.2, 0.2, 0.2, 0.2}, 1, 0.2},
		{[]float64{0.9, 0.7, 0.5, 0.3, 0.1, 1, 1, 1}, 4, 0.1},
	} {
		got, want := Paces(c.shares, c.processors), simulatedPaces(c.shares, c.processors)
		for i := range got {
			if math.Abs(got[i]/want[i]-1) > c.within+1e-3 {
				t.Errorf("%v on %d processors: paces %.2f, simulated %.2f", c.shares, c.processors, got, want)
				break
			}
		}
	}
}

// simulatedPaces plays tests that compute and wait in turn on processors that all computing ones share equally.
func simulatedPaces(shares []float64, processors int) []float64 {
	const span, step = 4000.0, 0.01
	random := rand.New(rand.NewPCG(1, 2))
	computing, left, progress := make([]bool, len(shares)), make([]float64, len(shares)), make([]float64, len(shares))
	for now := 0.0; now < span; now += step {
		busy := 0
		for i, share := range shares {
			if left[i] <= 0 {
				computing[i] = !computing[i]
				mean := share
				if !computing[i] {
					mean = 1 - share
				}
				left[i] = random.ExpFloat64() * mean
			}
			if computing[i] {
				busy++
			}
		}
		speed := min(1, float64(processors)/max(1, float64(busy)))
		for i := range shares {
			done := step
			if computing[i] {
				done *= speed
			}
			left[i] -= done
			progress[i] += done
		}
	}
	paces := make([]float64, len(shares))
	for i := range paces {
		paces[i] = span / progress[i]
	}
	return paces
}

// TestSharedProcessors holds that plans, curves and forecasts of workers on one machine end when its processors have
// done the work.
func TestSharedProcessors(t *testing.T) {
	tests := func(n int, share float64) (all []catalog.Test) {
		for i := range n {
			all = append(all, catalog.Test{ID: fmt.Sprint("s:g#", i), Suite: "s", Group: "g", Name: fmt.Sprint(i), Expected: 1, Known: true, Share: share, Together: "test"})
		}
		return all
	}
	for _, c := range []struct {
		name       string
		tests      []catalog.Test
		workers    int
		finish     float64
		full       bool
		processors int
	}{
		{"computing", tests(8, 1), 8, 4, true, 2},
		{"computing on two", tests(8, 1), 2, 4, false, 2},
		{"computing alone", tests(8, 1), 1, 8, false, 2},
		{"waiting", tests(8, 0), 8, 1, false, 2},
		{"both", append(tests(4, 1), tests(4, 0)...), 8, 2, true, 2},
		{"several processors each", tests(4, 2), 4, 4, true, 2},
	} {
		for i := range c.tests {
			c.tests[i].ID = fmt.Sprint("s:g#", i)
		}
		study, err := NewStudy(c.tests, "", Fleet{Shards: c.workers, Processors: c.processors})
		if err != nil {
			t.Fatal(err)
		}
		plan := study.Plan(Thorough)
		if math.Abs(plan.Finish-c.finish) > 0.02*c.finish || plan.Full != c.full || plan.Floor > plan.Finish {
			t.Errorf("%s: planned %.2f, full %t, floor %.2f; want %.2f, %t", c.name, plan.Finish, plan.Full, plan.Floor, c.finish, c.full)
		}
		schedule := (&Deal{Workers: c.workers}).Schedule(c.tests)
		if got := schedule.Finish(c.workers, c.processors); math.Abs(got-c.finish) > 0.02*c.finish {
			t.Errorf("%s: the forecast ends at %.2f, want %.2f", c.name, got, c.finish)
		}
	}
	study, err := NewStudy(tests(8, 1), "", Fleet{Shards: 8, Processors: 2})
	if err != nil {
		t.Fatal(err)
	}
	advice := study.Advise(study.Plan(Quick), 8)
	for _, p := range advice.Points {
		if want := 8 / float64(min(2, p.Shards)); math.Abs(p.Finish-want) > 0.02*want {
			t.Errorf("%d workers end at %.2f, want %.2f", p.Shards, p.Finish, want)
		}
	}
}
