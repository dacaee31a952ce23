package tui

import (
	"fmt"
	"image/color"
	"math"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/outcome"
	"fernrelay/core/split"
	"fernrelay/core/timing"
	"fernrelay/internal/report"
)

// splitView shows the plan for a number of shards: a bar a shard, made of its
// units to scale, the floor as a line through all; below it the finish for other
// numbers, and in words whether another shard is worth it.
type splitView struct {
	session *session
	top     int // the first shard shown
}

var splitKeys = struct{ fewer, more, up, down, run key.Binding }{
	fewer: key.NewBinding(key.WithKeys("[", "left", "h"), key.WithHelp("[ ]", "shards")),
	more:  key.NewBinding(key.WithKeys("]", "right", "l")),
	up:    key.NewBinding(key.WithKeys("up", "k"), key.WithHelp("↑↓", "scroll")),
	down:  key.NewBinding(key.WithKeys("down", "j")),
	run:   key.NewBinding(key.WithKeys("enter", "r"), key.WithHelp("enter", "run it")),
}

func (v *splitView) name() string { return "Split" }

func (v *splitView) figure() (string, bool) {
	return fmt.Sprintf("%d × %s", v.session.shards, timing.Clock(v.session.plan().Finish)), false
}

func (v *splitView) keys() []key.Binding {
	return []key.Binding{splitKeys.fewer, splitKeys.run, splitKeys.up}
}

func (v *splitView) press(msg tea.KeyPressMsg) action {
	switch {
	case key.Matches(msg, splitKeys.fewer):
		return action{shards: -1}
	case key.Matches(msg, splitKeys.more):
		return action{shards: 1}
	case key.Matches(msg, splitKeys.up):
		v.top--
	case key.Matches(msg, splitKeys.down):
		v.top++
	case key.Matches(msg, splitKeys.run):
		return v.session.runPick()
	}
	return action{}
}

func (v *splitView) click(int, int) {}

func (v *splitView) draw(c canvas) {
	plan := v.session.plan()
	if len(v.session.picked.tests) == 0 {
		c.text(2, 1, style{colour: c.theme.fog}, "the pick holds no test: there is nothing to split")
		return
	}
	v.drawHeading(c, plan)
	step := 2 // rows from shard to shard
	if c.height < 3+2*len(plan.Shards)+14 {
		step = 1
	}
	rows := min(len(plan.Shards), max(3, (c.height-4)/step))
	if c.height >= 30 {
		rows = min(rows, max(4, (c.height-18)/step))
	}
	v.top = max(0, min(v.top, len(plan.Shards)-rows))
	y := 3
	v.drawBars(c.sub(0, y, c.width, rows*step+1), plan, rows, step)
	y += rows*step + 2
	if c.height-y < 6 {
		return
	}
	half := c.width
	if c.width >= wideScreen {
		half = c.width * 11 / 20
	}
	v.drawCurve(c.sub(0, y, half, c.height-y))
	if half < c.width {
		v.drawAdvice(c.sub(half+4, y+1, c.width-half-4, c.height-y-1), plan)
	}
}

func (v *splitView) drawHeading(c canvas, plan *split.Plan) {
	t := c.theme
	fog, ink := style{colour: t.fog}, style{t.ink, true}
	x := c.text(2, 1, ink, report.Plural(len(plan.Shards), "shard"))
	if c.width >= wideScreen {
		x = c.text(x+2, 1, fog, "groups stay together")
	}
	x = c.text(x+4, 1, fog, "finish ")
	x = c.text(x, 1, ink, timing.ClockTenths(plan.Finish))
	x = c.text(x+3, 1, fog, "floor ")
	x = c.text(x, 1, style{t.amber, true}, timing.ClockTenths(plan.Floor))
	x = c.text(x+3, 1, fog, "spread ")
	x = c.text(x, 1, ink, timing.ClockTenths(plan.Spread))
	alone := fmt.Sprintf("alone %s → %.1f ×", timing.Clock(plan.Work), plan.Work/max(plan.Finish, 1e-9))
	if proof := report.Proof(*plan); x+4+width(proof)+2+width(alone) < c.width {
		c.text(x+3, 1, style{colour: t.leaf}, proof)
	}
	if x+width(alone)+3 < c.width {
		c.right(c.width-1, 1, fog, alone)
	}
}

// drawBars draws the shards; the floor is a line through all of them.
func (v *splitView) drawBars(c canvas, plan *split.Plan, rows, step int) {
	t := c.theme
	right := 33
	if c.width < wideScreen {
		right = 20
	}
	const left = 8
	scale := float64(c.width-left-right) / max(plan.Finish, plan.Floor, 1e-9)
	for i := range rows {
		shard := plan.Shards[v.top+i]
		y := i * step
		number := style{t.ink, true}
		last := shard.Seconds >= plan.Finish
		if last {
			number.colour = t.amber
		}
		c.right(5, y, number, fmt.Sprint(shard.Number))
		v.drawUnits(c.sub(0, 0, c.width-right, c.height), plan, shard, left, y, scale)
		c.right(c.width-right+9, y, style{t.ink, last}, timing.ClockTenths(shard.Seconds))
		tests := 0
		for _, u := range shard.Units {
			tests += len(u.Tests)
		}
		if c.width >= wideScreen {
			c.right(c.width-12, y, style{colour: t.fog}, report.Plural(len(shard.Units), "group"))
		}
		c.right(c.width-1, y, style{colour: t.fog}, report.Plural(tests, "test"))
	}
	line := left + int(math.Round(plan.Floor*scale))
	for y := range rows * step {
		if under := c.cells.CellAt(c.left+line, c.top+y); under != nil && strings.TrimSpace(under.Content) == "" {
			c.text(line, y, style{colour: t.amber}, "┊")
		}
	}
	label := "floor " + timing.ClockTenths(plan.Floor)
	if plan.Setter != nil {
		label += " " + outcome.PlainLine(plan.Setter.Label)
	}
	c.right(min(line+width(label)/2, c.width-right+9), rows*step, style{colour: t.amber}, label)
}

func (v *splitView) drawUnits(c canvas, plan *split.Plan, shard split.Shard, left, y int, scale float64) {
	t := c.theme
	from := 0.0
	for i, u := range shard.Units {
		x, end := left+int(math.Round(from*scale)), left+int(math.Round((from+u.Seconds)*scale))
		from += u.Seconds
		if x >= end {
			continue
		}
		w := end - x
		if i < len(shard.Units)-1 && w > 1 {
			w-- // air to the next
		}
		colour, amount := t.leaf, 0.62-0.09*float64(min(i, 4))
		if plan.Setter != nil && plan.Setter.Name == u.Name {
			colour, amount = t.amber, 0.5
		}
		c.fill(x, y, w, 1, colour, amount)
		if w > 4 {
			c.text(x+1, y, style{colour: t.ink}, cut(outcome.PlainLine(u.Label), w-2))
		}
	}
}

// drawCurve draws the finish for every number of shards as columns, with the
// floor of each.
func (v *splitView) drawCurve(c canvas) {
	t, s := c.theme, v.session
	c.text(2, 0, style{colour: t.fog}, "finish by number of shards")
	plans := s.picked.plans
	height := min(c.height-3, 14)
	if height < 3 {
		return
	}
	const left, pitch, thick = 9, 5, 4
	shown := min(len(plans), (c.width-left-1)/pitch)
	most := plans[0].Finish
	for i := range shown {
		p := plans[i]
		x := left + i*pitch
		eighths := int(math.Round(8 * float64(height) * p.Finish / max(most, 1e-9)))
		colour, amount := t.leaf, 0.42
		number := style{colour: t.fog}
		if i+1 == s.shards {
			amount, number = 0.9, style{t.ink, true}
		}
		column(c, x, 1+height, thick, eighths, colour, amount)
		c.right(x+3, 2+height, number, fmt.Sprint(i+1))
	}
	mark := func(seconds float64) {
		y := 1 + height - int(math.Round(float64(height)*seconds/max(most, 1e-9)))
		c.right(left-2, max(1, y), style{colour: t.fog}, timing.Clock(seconds))
	}
	mark(most)
	mark(plans[min(s.shards, shown)-1].Finish)
}

// column draws an upright bar of so many eighths of rows that stands on row y.
func column(c canvas, x, y, thick, eighths int, colour color.Color, amount float64) {
	whole := eighths / 8
	c.fill(x, y-whole, thick, whole, colour, amount)
	if part := eighths % 8; part > 0 && !c.theme.shades {
		glyph := string([]rune("▁▂▃▄▅▆▇")[part-1])
		for i := range thick {
			c.text(x+i, y-whole-1, style{colour: c.theme.mix(colour, amount)}, glyph)
		}
	}
}

// drawAdvice says in words what the numbers come to.
func (v *splitView) drawAdvice(c canvas, plan *split.Plan) {
	t, s := c.theme, v.session
	fog, ink := style{colour: t.fog}, style{t.ink, true}
	y := 0
	say := func(parts ...any) {
		x := 0
		for i := 0; i < len(parts); i += 2 {
			x = c.text(x, y, parts[i].(style), parts[i+1].(string))
		}
		y++
	}
	n := s.shards
	say(ink, "Is another machine worth it?")
	y++
	if n > 1 {
		saved := s.picked.plans[n-2].Finish - plan.Finish
		say(fog, fmt.Sprintf("the %s shard saved ", ordinal(n)), style{colour: t.ink}, buys(saved))
	}
	if n < maxShards {
		next := s.picked.plans[n]
		say(fog, fmt.Sprintf("%s %s would save ", article(n+1), ordinal(n+1)), style{colour: t.ink}, buys(plan.Finish-next.Finish),
			fog, fmt.Sprintf(" for %.0f %% more machine time", 100*(float64(n+1)*next.Finish/max(float64(n)*plan.Finish, 1e-9)-1)))
	}
	y++
	say(ink, "What stands in the way?")
	y++
	if plan.Setter == nil {
		say(fog, "nothing yet but the work itself")
		if n, setter := firstSetter(s); setter != nil {
			say(fog, fmt.Sprintf("from %d shards on ", n), style{colour: t.amber}, cut(outcome.PlainLine(setter.Label), 30),
				fog, fmt.Sprintf(", %s in one piece", timing.Short(setter.Seconds)))
		}
	} else {
		say(style{colour: t.amber}, cut(outcome.PlainLine(plan.Setter.Label), 30), fog, fmt.Sprintf(" is %s in one piece", timing.Short(plan.Setter.Seconds)))
		if test := longest(s, plan.Setter); test != "" {
			say(fog, test)
		}
	}
	if plan.Unknown > 0 {
		y++
		say(style{colour: t.amber}, report.Plural(plan.Unknown, "test"), fog, " never measured: times are estimates")
	}
}

// firstSetter gives the least number of shards at which one unit is the floor,
// so that more shards bring nothing, and that unit.
func firstSetter(s *session) (int, *split.Unit) {
	for i := range s.picked.plans {
		if setter := s.picked.plans[i].Setter; setter != nil {
			return i + 1, setter
		}
	}
	return 0, nil
}

// buys writes seconds saved.
func buys(seconds float64) string {
	if seconds < 0.05 {
		return "nothing"
	}
	return timing.Short(seconds)
}

// longest names the longest test of a unit.
func longest(s *session, u *split.Unit) string {
	name, seconds := "", 0.0
	for _, id := range u.Tests {
		if t, ok := s.picked.Catalog.Lookup(id); ok && t.Expected > seconds {
			name, seconds = t.Name, t.Expected
		}
	}
	if name == "" {
		return ""
	}
	return fmt.Sprintf("%s alone is %s of it", outcome.PlainLine(name), timing.Short(seconds))
}

func ordinal(n int) string {
	switch {
	case n%10 == 1 && n%100 != 11:
		return fmt.Sprintf("%dst", n)
	case n%10 == 2 && n%100 != 12:
		return fmt.Sprintf("%dnd", n)
	case n%10 == 3 && n%100 != 13:
		return fmt.Sprintf("%drd", n)
	}
	return fmt.Sprintf("%dth", n)
}

func article(n int) string {
	if n == 8 || n == 11 {
		return "an"
	}
	return "a"
}
