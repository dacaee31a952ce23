package split

import (
	"fmt"
	"math"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/schedule"
)

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
		s := schedule.New(c.tests, schedule.Options{Workers: c.workers})
		if got := s.Finish(c.workers, c.processors); math.Abs(got-c.finish) > 0.02*c.finish {
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
