package tui

import (
	"errors"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/internal/report"
	"fernrelay/internal/tui/leg"
	splitleg "fernrelay/internal/tui/split"
)

// TestWrapped holds that lines break between words, keep their tones, and lose nothing.
func TestWrapped(t *testing.T) {
	line := report.Line{{Text: "the knee is at "}, {Tone: report.Figure, Text: "12"}, {Text: ", which end at a time"}}
	var got []string
	for _, l := range splitleg.Wrapped(line, 14) {
		got = append(got, strings.TrimRight(l.String(), " "))
	}
	if strings.Join(got, "/") != "the knee is at/  12, which/  end at a/  time" {
		t.Errorf("wrapped as %q", got)
	}
	if whole := splitleg.Wrapped(line, 80); len(whole) != 1 || whole[0].String() != line.String() {
		t.Errorf("what fits is wrapped as %v", whole)
	}
}

// TestPlansFollow holds that what is asked for last is what is shown in the end,
// whatever order plans and advice come in.
func TestPlansFollow(t *testing.T) {
	a := newApp(t, made(12, 5, 4))
	p, s := &a.split.Planner, a.session
	ask := func(shards int) splitleg.PlannedMsg {
		p.Want.Shards = shards
		return p.Ask(s, true)().(splitleg.PlannedMsg)
	}
	second, third, fourth := ask(2), ask(3), ask(4)
	advise := p.Take(third)
	if len(a.split.Plan().Shards) != 3 || advise == nil || p.Have.Advice != nil {
		t.Fatalf("shown are %d shards", len(a.split.Plan().Shards))
	}
	if p.Take(second) != nil || len(a.split.Plan().Shards) != 3 {
		t.Errorf("an old plan is shown, of %d shards", len(a.split.Plan().Shards))
	}
	if cmd := p.Take(fourth); cmd != nil {
		t.Error("advice is worked out twice at once")
	}
	again := p.Advised(advise().(splitleg.AdvisedMsg))
	if p.Have.Advice != nil || again == nil {
		t.Fatal("the advice is for another plan")
	}
	if p.Advised(again().(splitleg.AdvisedMsg)) != nil || p.Have.Advice == nil || len(p.Have.Advice.Plan.Shards) != 4 || len(p.Have.Advice.Points) != splitleg.MaxShards {
		t.Errorf("there is no advice for the plan that is shown")
	}
}

// TestSplitKeys changes what is planned by all keys, and looks at the plan.
func TestSplitKeys(t *testing.T) {
	a := newApp(t, made(12, 5, 4))
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 40})
	want := func() splitleg.Splitting { return a.split.Planner.Want }
	plan := a.split.Plan
	press(a, "2")
	press(a, "]]")
	if want().Shards != 6 || len(plan().Shards) != 6 {
		t.Fatalf("6 shards are asked for, %d planned", len(plan().Shards))
	}
	name := a.split.Under().Name
	press(a, "pJJ")
	if want().Pins[name] != 3 || a.split.Shard != 2 || a.split.Under().Name != name {
		t.Errorf("%s is pinned to %d, the cursor on shard %d", name, want().Pins[name], a.split.Shard+1)
	}
	press(a, "p")
	if len(want().Pins) != 0 {
		t.Errorf("the pins are %v", want().Pins)
	}
	at := a.split.Shard
	press(a, "ww")
	if want().Late[at+1] != 30 || plan().Shards[at].Start != 30 {
		t.Errorf("late are %v, shard %d begins at %g", want().Late, at+1, plan().Shards[at].Start)
	}
	press(a, "www")
	if len(want().Late) != 0 {
		t.Errorf("late are %v", want().Late)
	}
	press(a, "lll")
	waves := 0
	for _, s := range plan().Shards {
		if s.Start > 0 {
			waves++
		}
	}
	if want().Limit != 3 || waves != 3 {
		t.Errorf("%d at once, %d shards begin later", want().Limit, waves)
	}
	press(a, "LLL")
	if want().Limit != 0 {
		t.Errorf("the limit is %d", want().Limit)
	}
	press(a, "tt")
	if want().Together != catalog.TestLevel || a.split.Planner.Have.Together != catalog.TestLevel || !strings.Contains(a.split.Under().Name, "#") {
		t.Errorf("together stay %s, under the cursor is %s", want().Together, a.split.Under().Name)
	}
	start, _ := a.split.Press(tea.KeyPressMsg{Code: tea.KeyEnter}).(leg.StartRunMsg)
	if start.Plan == nil || len(start.Tests) != len(a.session.Picked.Selected) {
		t.Errorf("enter runs %d tests, planned %t", len(start.Tests), start.Plan != nil)
	}
	press(a, "u")
	if start, _ := a.split.Press(tea.KeyPressMsg{Code: tea.KeyEnter}).(leg.StartRunMsg); start.Plan != nil || len(start.Tests) == 0 {
		t.Error("the queue is run as if it were planned")
	}
	a.split.Planner.Have.Err = errors.New("a circle")
	if !strings.Contains(a.View().Content, "a circle") {
		t.Error("what is wrong is not shown")
	}
}
