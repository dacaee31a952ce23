package tui

import (
	"errors"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/internal/report"
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
	a := newApp(t, made(12, 5, 4))
	p, s := &a.split.planner, a.session
	ask := func(shards int) plannedMsg {
		p.want.shards = shards
		return p.ask(s, true)().(plannedMsg)
	}
	second, third, fourth := ask(2), ask(3), ask(4)
	advise := p.take(third)
	if len(a.split.plan().Shards) != 3 || advise == nil || p.have.advice != nil {
		t.Fatalf("shown are %d shards", len(a.split.plan().Shards))
	}
	if p.take(second) != nil || len(a.split.plan().Shards) != 3 {
		t.Errorf("an old plan is shown, of %d shards", len(a.split.plan().Shards))
	}
	if cmd := p.take(fourth); cmd != nil {
		t.Error("advice is worked out twice at once")
	}
	again := p.advised(advise().(advisedMsg))
	if p.have.advice != nil || again == nil {
		t.Fatal("the advice is for another plan")
	}
	if p.advised(again().(advisedMsg)) != nil || p.have.advice == nil || len(p.have.advice.Plan.Shards) != 4 || len(p.have.advice.Points) != maxShards {
		t.Errorf("there is no advice for the plan that is shown")
	}
}

// TestSplitKeys changes what is planned by all keys, and looks at the plan.
func TestSplitKeys(t *testing.T) {
	a := newApp(t, made(12, 5, 4))
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 40})
	want := func() splitting { return a.split.planner.want }
	plan := a.split.plan
	press(a, "2")
	press(a, "]]")
	if want().shards != 6 || len(plan().Shards) != 6 {
		t.Fatalf("6 shards are asked for, %d planned", len(plan().Shards))
	}
	name := a.split.under().Name
	press(a, "pJJ")
	if want().pins[name] != 3 || a.split.shard != 2 || a.split.under().Name != name {
		t.Errorf("%s is pinned to %d, the cursor on shard %d", name, want().pins[name], a.split.shard+1)
	}
	press(a, "p")
	if len(want().pins) != 0 {
		t.Errorf("the pins are %v", want().pins)
	}
	at := a.split.shard
	press(a, "ww")
	if want().late[at+1] != 30 || plan().Shards[at].Start != 30 {
		t.Errorf("late are %v, shard %d begins at %g", want().late, at+1, plan().Shards[at].Start)
	}
	press(a, "www")
	if len(want().late) != 0 {
		t.Errorf("late are %v", want().late)
	}
	press(a, "lll")
	waves := 0
	for _, s := range plan().Shards {
		if s.Start > 0 {
			waves++
		}
	}
	if want().limit != 3 || waves != 3 {
		t.Errorf("%d at once, %d shards begin later", want().limit, waves)
	}
	press(a, "LLL")
	if want().limit != 0 {
		t.Errorf("the limit is %d", want().limit)
	}
	press(a, "tt")
	if want().together != catalog.TestLevel || a.split.planner.have.together != catalog.TestLevel || !strings.Contains(a.split.under().Name, "#") {
		t.Errorf("together stay %s, under the cursor is %s", want().together, a.split.under().Name)
	}
	start, _ := a.split.press(tea.KeyPressMsg{Code: tea.KeyEnter}).(startRunMsg)
	if start.plan == nil || len(start.tests) != len(a.session.picked.tests) {
		t.Errorf("enter runs %d tests, planned %t", len(start.tests), start.plan != nil)
	}
	press(a, "u")
	if start, _ := a.split.press(tea.KeyPressMsg{Code: tea.KeyEnter}).(startRunMsg); start.plan != nil || len(start.tests) == 0 {
		t.Error("the queue is run as if it were planned")
	}
	a.split.planner.have.err = errors.New("a circle")
	if !strings.Contains(a.View().Content, "a circle") {
		t.Error("what is wrong is not shown")
	}
}
