package split

import (
	"errors"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/internal/report"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/legtest"
)

// TestWrapped holds that lines break between words, keep their tones, and lose nothing.
func TestWrapped(t *testing.T) {
	line := report.Line{{Text: "the knee is at "}, {Tone: report.Figure, Text: "12"}, {Text: ", which end at a time"}}
	var got []string
	for _, l := range wrapped(line, 14) {
		got = append(got, strings.TrimRight(l.String(), " "))
	}
	if strings.Join(got, "/") != "the knee is at/  12, which/  end at a/  time" {
		t.Errorf("wrapped as %q", got)
	}
	if whole := wrapped(line, 80); len(whole) != 1 || whole[0].String() != line.String() {
		t.Errorf("what fits is wrapped as %v", whole)
	}
}

// TestPlansFollow holds that what is asked for last is what is shown in the end,
// whatever order plans and advice come in.
func TestPlansFollow(t *testing.T) {
	v, d := driven(t)
	p, s := &v.Planner, d.Session
	ask := func(shards int) PlannedMsg {
		p.Want.Shards = shards
		return p.Ask(s, true)().(PlannedMsg)
	}
	second, third, fourth := ask(2), ask(3), ask(4)
	advise := p.Take(third)
	if len(v.Plan().Shards) != 3 || advise == nil || p.Have.Advice != nil {
		t.Fatalf("shown are %d shards", len(v.Plan().Shards))
	}
	if p.Take(second) != nil || len(v.Plan().Shards) != 3 {
		t.Errorf("an old plan is shown, of %d shards", len(v.Plan().Shards))
	}
	if cmd := p.Take(fourth); cmd != nil {
		t.Error("advice is worked out twice at once")
	}
	again := p.Advised(advise().(AdvisedMsg))
	if p.Have.Advice != nil || again == nil {
		t.Fatal("the advice is for another plan")
	}
	if p.Advised(again().(AdvisedMsg)) != nil || p.Have.Advice == nil || len(p.Have.Advice.Plan.Shards) != 4 || len(p.Have.Advice.Points) != MaxShards {
		t.Errorf("there is no advice for the plan that is shown")
	}
}

// driven is the leg on 60 tests.
func driven(t *testing.T) (*View, *legtest.Driver) {
	t.Helper()
	var v *View
	d := legtest.New(t, legtest.Made(12, 5, 4), func(s *leg.Session) leg.Leg {
		v = New(s)
		return v
	})
	return v, d
}

// TestSplitKeys changes what is planned by all keys, and looks at the plan.
func TestSplitKeys(t *testing.T) {
	v, d := driven(t)
	want := func() Splitting { return v.Planner.Want }
	plan := v.Plan
	d.Press("]]")
	if want().Shards != 6 || len(plan().Shards) != 6 {
		t.Fatalf("6 shards are asked for, %d planned", len(plan().Shards))
	}
	name := v.Under().Name
	d.Press("pJJ")
	if want().Pins[name] != 3 || v.Shard != 2 || v.Under().Name != name {
		t.Errorf("%s is pinned to %d, the cursor on shard %d", name, want().Pins[name], v.Shard+1)
	}
	d.Press("p")
	if len(want().Pins) != 0 {
		t.Errorf("the pins are %v", want().Pins)
	}
	at := v.Shard
	d.Press("ww")
	if want().Late[at+1] != 30 || plan().Shards[at].Start != 30 {
		t.Errorf("late are %v, shard %d begins at %g", want().Late, at+1, plan().Shards[at].Start)
	}
	d.Press("www")
	if len(want().Late) != 0 {
		t.Errorf("late are %v", want().Late)
	}
	d.Press("lll")
	waves := 0
	for _, s := range plan().Shards {
		if s.Start > 0 {
			waves++
		}
	}
	if want().Limit != 3 || waves != 3 {
		t.Errorf("%d at once, %d shards begin later", want().Limit, waves)
	}
	d.Press("LLL")
	if want().Limit != 0 {
		t.Errorf("the limit is %d", want().Limit)
	}
	d.Press("tt")
	if want().Together != catalog.TestLevel || v.Planner.Have.Together != catalog.TestLevel || !strings.Contains(v.Under().Name, "#") {
		t.Errorf("together stay %s, under the cursor is %s", want().Together, v.Under().Name)
	}
	start, _ := d.Press("⏎").(leg.StartRunMsg)
	if start.Plan == nil || len(start.Tests) != len(d.Session.Picked.Selected) {
		t.Errorf("enter runs %d tests, planned %t", len(start.Tests), start.Plan != nil)
	}
	d.Press("u")
	if start, _ := d.Press("⏎").(leg.StartRunMsg); start.Plan != nil || len(start.Tests) == 0 {
		t.Error("the queue is run as if it were planned")
	}
	v.Planner.Have.Err = errors.New("a circle")
	if !strings.Contains(d.Screen(), "a circle") {
		t.Error("what is wrong is not shown")
	}
}

// TestWorkersAreReadAgain reads a fern.toml with another count of workers: the plan has as many shards.
func TestWorkersAreReadAgain(t *testing.T) {
	var v *View
	d := legtest.New(t, legtest.Made(12, 5, 4), func(s *leg.Session) leg.Leg {
		v = New(s)
		return v
	})
	s, r, w, p := *d.Session, *d.Session.App, *d.Session.App.Workspace, *d.Session.App.Project
	p.Workers.Count = 7
	w.Project, r.Workspace, s.App = &p, &w, &r
	if d.Do(v.See(&s)); v.Workers() != 7 || len(v.Plan().Shards) != 7 {
		t.Errorf("with a count of 7 there are %d workers and %d shards", v.Workers(), len(v.Plan().Shards))
	}
}
