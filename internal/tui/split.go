package tui

import (
	"fmt"
	"image/color"
	"math"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/outcome"
	"fernrelay/core/split"
	"fernrelay/internal/report"
)

// splitView shows the plan for a number of shards: a bar a shard, made of its
// units to scale, the floor as a line through all; below it the finish for other
// numbers, and in words whether another shard is worth it.
type splitView struct {
	session *session
	top     int    // the first shard shown
	shard   int    // of the cursor, from 0
	unit    string // under the cursor; the first of the shard where it is none
	queue   bool   // a shared queue is shown and run, not fixed shards
	longest longest
}

// longest is the longest tests of a unit of a plan, kept while both stay the same.
type longest struct {
	plan  int
	unit  string
	tests []catalog.Test
}

var splitKeys = struct{ fewer, more, together, limit, unlimit, late, queue, pin, carryUp, carryDown, up, down, left, right, run key.Binding }{
	fewer:     key.NewBinding(key.WithKeys("["), key.WithHelp("[ ]", "shards")),
	more:      key.NewBinding(key.WithKeys("]")),
	together:  key.NewBinding(key.WithKeys("t"), key.WithHelp("t", "together")),
	limit:     key.NewBinding(key.WithKeys("l"), key.WithHelp("l L", "limit")),
	unlimit:   key.NewBinding(key.WithKeys("L")),
	late:      key.NewBinding(key.WithKeys("w"), key.WithHelp("w", "late start")),
	queue:     key.NewBinding(key.WithKeys("u"), key.WithHelp("u", "fixed or queue")),
	pin:       key.NewBinding(key.WithKeys("p"), key.WithHelp("p", "pin")),
	carryUp:   key.NewBinding(key.WithKeys("K", "shift+up"), key.WithHelp("J K", "carry")),
	carryDown: key.NewBinding(key.WithKeys("J", "shift+down")),
	up:        key.NewBinding(key.WithKeys("up", "k"), key.WithHelp("↑↓←→", "units")),
	down:      key.NewBinding(key.WithKeys("down", "j")),
	left:      key.NewBinding(key.WithKeys("left", "h")),
	right:     key.NewBinding(key.WithKeys("right")),
	run:       key.NewBinding(key.WithKeys("enter", "r"), key.WithHelp("enter", "run it")),
}

func (v *splitView) name() string { return "Split" }

func (v *splitView) figure() (string, bool) {
	plan := v.session.plan()
	return fmt.Sprintf("%d × %s", len(plan.Shards), history.Clock(plan.Finish)), false
}

func (v *splitView) keys() []key.Binding {
	k := &splitKeys
	return []key.Binding{k.fewer, k.run, k.together, k.pin, k.limit, k.late, k.queue, k.carryUp, k.up}
}

func (v *splitView) press(msg tea.KeyPressMsg) action {
	k := &splitKeys
	switch {
	case key.Matches(msg, k.fewer):
		return v.shards(-1)
	case key.Matches(msg, k.more):
		return v.shards(1)
	case key.Matches(msg, k.together):
		return v.stay()
	case key.Matches(msg, k.limit):
		return v.limit(-1)
	case key.Matches(msg, k.unlimit):
		return v.limit(1)
	case key.Matches(msg, k.late):
		return v.late()
	case key.Matches(msg, k.queue):
		v.queue = !v.queue
	case key.Matches(msg, k.pin):
		return v.pin()
	case key.Matches(msg, k.carryUp):
		return v.carry(-1)
	case key.Matches(msg, k.carryDown):
		return v.carry(1)
	case key.Matches(msg, k.up):
		v.toShard(v.shard - 1)
	case key.Matches(msg, k.down):
		v.toShard(v.shard + 1)
	case key.Matches(msg, k.left):
		v.toUnit(-1)
	case key.Matches(msg, k.right):
		v.toUnit(1)
	case key.Matches(msg, k.run):
		return v.run()
	}
	return action{}
}

func (v *splitView) shards(change int) action {
	want := &v.session.planner.want
	want.shards = min(max(1, want.shards+change), maxShards)
	return action{plan: true}
}

// stay goes to the next finer of what stays together, and behind the finest to
// the coarsest. What was pinned is no unit then.
func (v *splitView) stay() action {
	want := &v.session.planner.want
	next := map[split.Together]split.Together{split.Group: split.File, split.File: split.Test, split.Test: split.Group, split.Suite: split.Group}
	want.together, want.pins, v.unit = next[want.together], nil, ""
	return action{plan: true}
}

// limit changes how many shards run at once, from all of them down to one.
func (v *splitView) limit(change int) action {
	want := &v.session.planner.want
	at := want.limit
	if at == 0 || at > want.shards {
		at = want.shards
	}
	if at += change; at < 1 || at >= want.shards {
		at = 0
	}
	want.limit = at
	return action{plan: true}
}

// lateStarts are those that a shard can be given, in seconds.
var lateStarts = []float64{0, 15, 30, 60, 120}

// late gives the shard under the cursor the next later start.
func (v *splitView) late() action {
	want := &v.session.planner.want
	if want.late == nil {
		want.late = map[int]float64{}
	}
	at := slices.Index(lateStarts, want.late[v.shard+1])
	if want.late[v.shard+1] = lateStarts[(at+1)%len(lateStarts)]; want.late[v.shard+1] == 0 {
		delete(want.late, v.shard+1)
	}
	v.unit = "" // the cursor stays with the shard, not with what is taken from it
	return action{plan: true}
}

// pin keeps the unit under the cursor on its shard, or lets it go again.
func (v *splitView) pin() action {
	unit, want := v.under(), &v.session.planner.want
	if unit == nil {
		return action{}
	}
	if want.pins[unit.Name] > 0 {
		delete(want.pins, unit.Name)
		return action{plan: true}
	}
	return v.pinTo(unit.Name, v.shard+1)
}

// carry takes the unit under the cursor to another shard and pins it there.
func (v *splitView) carry(change int) action {
	unit, want := v.under(), &v.session.planner.want
	if unit == nil {
		return action{}
	}
	number := v.shard + 1
	if pinned := want.pins[unit.Name]; pinned > 0 {
		number = pinned // which the plan that is shown may not know yet
	}
	if number += change; number < 1 || number > want.shards {
		return action{}
	}
	return v.pinTo(unit.Name, number)
}

func (v *splitView) pinTo(name string, number int) action {
	want := &v.session.planner.want
	if want.pins == nil {
		want.pins = map[string]int{}
	}
	want.pins[name] = number
	v.unit = name
	return action{plan: true}
}

// run runs the plan that is shown: each shard on a worker of its own, or all of it
// from one queue.
func (v *splitView) run() action {
	have := &v.session.planner.have
	if have.study == nil || len(have.study.Tests) == 0 {
		return v.session.runPick()
	}
	act := action{run: have.study.Tests}
	if !v.queue {
		act.planning = have
	}
	return act
}

// click moves the cursor to a shard.
func (v *splitView) click(_, y int) {
	if step := v.step(v.session.height); y >= barsTop && y < barsTop+step*v.rows(v.session.height) {
		v.toShard(v.top + (y-barsTop)/step)
	}
}

func (v *splitView) toShard(at int) {
	v.shard, v.unit = max(0, min(at, len(v.session.plan().Shards)-1)), ""
}

// toUnit moves the cursor along the shard.
func (v *splitView) toUnit(change int) {
	units := v.session.plan().Shards[v.shard].Units
	if len(units) == 0 {
		return
	}
	at := max(0, min(v.place(units)+change, len(units)-1))
	v.unit = units[at].Name
}

// place is the index of the unit under the cursor among those of its shard.
func (v *splitView) place(units []split.Placed) int {
	return max(0, slices.IndexFunc(units, func(u split.Placed) bool { return u.Name == v.unit }))
}

// under is the unit under the cursor, nil where there is none.
func (v *splitView) under() *split.Placed {
	plan := v.session.plan()
	if v.shard >= len(plan.Shards) || len(plan.Shards[v.shard].Units) == 0 {
		return nil
	}
	units := plan.Shards[v.shard].Units
	return &units[v.place(units)]
}

// planned lets the cursor follow its unit to where a new plan has put it.
func (v *splitView) planned() {
	plan := v.session.plan()
	v.shard = min(v.shard, len(plan.Shards)-1)
	if v.unit == "" {
		return
	}
	for i, s := range plan.Shards {
		if slices.ContainsFunc(s.Units, func(u split.Placed) bool { return u.Name == v.unit }) {
			v.shard = i
			return
		}
	}
	v.unit = ""
}

// The rows of the view: the heading stands in row 1, the bars begin below it.
const barsTop = 3

// leastCurve is how many rows are kept for the curve and the sentences.
func leastCurve(height int) int { return max(8, min(15, height*2/5)) }

// step is how many rows a shard takes.
func (v *splitView) step(height int) int {
	if height < barsTop+2*len(v.session.plan().Shards)+3+leastCurve(height) {
		return 1
	}
	return 2
}

// rows is how many shards are shown.
func (v *splitView) rows(height int) int {
	return max(1, min(len(v.session.plan().Shards), (height-barsTop-3-leastCurve(height))/v.step(height)))
}

func (v *splitView) draw(c canvas) {
	plan := v.session.plan()
	v.session.height = c.height
	if len(v.session.picked.tests) == 0 {
		c.text(2, 1, style{colour: c.theme.fog}, "the pick holds no test: there is nothing to split")
		return
	}
	if err := v.session.planner.have.err; err != nil {
		for i, line := range strings.Split(ansi.Wrap(outcome.PlainLine(err.Error()), c.width-4, " "), "\n") {
			c.text(2, 1+i, style{colour: c.theme.amber}, line)
		}
		return
	}
	v.drawHeading(c, plan)
	step, rows := v.step(c.height), v.rows(c.height)
	y := barsTop + rows*step + 1
	if v.queue {
		v.drawSpread(c.sub(0, barsTop, c.width, rows*step+1))
	} else {
		v.top = max(0, min(v.top, len(plan.Shards)-rows, v.shard), v.shard-rows+1)
		v.drawBars(c.sub(0, barsTop, c.width, rows*step+1), plan, rows, step)
		v.drawUnder(c, y)
	}
	y += 2
	half := c.width
	if c.width >= wideScreen {
		half = c.width * 11 / 20
	}
	v.drawCurve(c.sub(0, y, half, c.height-y))
	if half < c.width {
		v.drawAdvice(c.sub(half+4, y, c.width-half-5, c.height-y))
	}
}

func (v *splitView) drawHeading(c canvas, plan *split.Plan) {
	t, have := c.theme, &v.session.planner.have
	fog, ink := style{colour: t.fog}, style{t.ink, true}
	x := c.text(2, 1, ink, report.Plural(len(plan.Shards), "shard"))
	if have.limit > 0 && have.limit < have.shards {
		x = c.text(x+1, 1, style{colour: t.amber}, fmt.Sprintf("%d at once", have.limit))
	}
	if c.width >= wideScreen {
		words := string(have.together) + "s stay together"
		if v.queue {
			words = "a shared queue"
		}
		x = c.text(x+2, 1, fog, words)
	}
	x = c.text(x+3, 1, fog, "finish ")
	x = c.text(x, 1, ink, history.ClockTenths(plan.Finish))
	x = c.text(x+2, 1, fog, "floor ")
	x = c.text(x, 1, style{t.amber, true}, history.ClockTenths(plan.Floor))
	x = c.text(x+2, 1, fog, "spread ")
	x = c.text(x, 1, ink, history.ClockTenths(plan.Spread))
	alone := fmt.Sprintf("alone %s → %.1f ×", history.Clock(plan.Work), plan.Work/max(plan.Finish, 1e-9))
	if proof := report.Proof(*plan); x+3+width(proof)+2+width(alone) < c.width {
		c.text(x+3, 1, style{colour: t.leaf}, proof)
	}
	if x+width(alone)+3 < c.width {
		c.right(c.width-1, 1, fog, alone)
	}
}

// barsLeft is where the bars begin, behind the numbers of the shards.
const barsLeft = 8

// drawBars draws the shards; the floor is a line through all of them.
func (v *splitView) drawBars(c canvas, plan *split.Plan, rows, step int) {
	t := c.theme
	right := 33
	if c.width < wideScreen {
		right = 20
	}
	scale := float64(c.width-barsLeft-right) / max(plan.Finish, plan.Floor, 1e-9)
	for i := range rows {
		shard := plan.Shards[v.top+i]
		y := i * step
		last := len(shard.Units) > 0 && shard.End >= plan.Finish
		number := style{t.ink, true}
		if last {
			number.colour = t.amber
		}
		if v.top+i == v.shard {
			c.text(1, y, style{t.leaf, true}, "›")
		}
		c.right(5, y, number, fmt.Sprint(shard.Number))
		v.drawUnits(c.sub(0, 0, c.width-right, c.height), plan, shard, y, scale)
		c.right(c.width-right+9, y, style{t.ink, last}, history.ClockTenths(shard.Seconds()))
		tests := 0
		for _, u := range shard.Units {
			tests += len(u.Tests)
		}
		if together := v.session.planner.have.together; c.width >= wideScreen && together != split.Test {
			c.right(c.width-12, y, style{colour: t.fog}, report.Plural(len(shard.Units), string(together)))
		}
		c.right(c.width-1, y, style{colour: t.fog}, report.Plural(tests, "test"))
	}
	line := barsLeft + int(math.Round(plan.Floor*scale))
	for y := range rows * step {
		if under := c.cells.CellAt(c.left+line, c.top+y); under != nil && strings.TrimSpace(under.Content) == "" {
			c.text(line, y, style{colour: t.amber}, "┊")
		}
	}
	label := "floor " + history.ClockTenths(plan.Floor)
	if setting := plan.Setting(); setting != "" {
		label += " " + cut(outcome.PlainLine(setting), 40)
	}
	c.right(max(barsLeft+width(label), min(line+width(label)/2, c.width-right+9)), rows*step, style{colour: t.amber}, label)
	if hidden := len(plan.Shards) - rows; hidden > 0 {
		c.right(c.width-1, rows*step, style{colour: t.fog}, fmt.Sprintf("%d more ↑↓", hidden))
	}
}

// drawUnits draws one shard: what it waits for, its units to scale, and the one
// under the cursor underlined.
func (v *splitView) drawUnits(c canvas, plan *split.Plan, shard split.Shard, y int, scale float64) {
	t, have := c.theme, &v.session.planner.have
	column := func(seconds float64) int { return barsLeft + int(math.Round(seconds*scale)) }
	if begin := column(shard.Start); begin > barsLeft && len(shard.Units) > 0 {
		c.rule(barsLeft, y, begin-barsLeft-1, t.faint(), "╌")
		if late := have.late[shard.Number]; late > 0 {
			c.text(barsLeft, y, style{colour: t.amber}, cut(fmt.Sprintf("%g s late ", late), begin-barsLeft-1))
		}
	} else if late := have.late[shard.Number]; len(shard.Units) == 0 && late > 0 {
		c.text(barsLeft, y, style{colour: t.amber}, fmt.Sprintf("%g s late: nothing is left for it", late))
	} else if len(shard.Units) == 0 {
		c.text(barsLeft, y, style{colour: t.faint()}, "nothing is left for it")
	}
	cursor := v.under()
	for i, u := range shard.Units {
		x, end := column(u.Start), column(shard.UnitEnd(i))
		here := cursor != nil && cursor.Name == u.Name
		if x >= end && !here {
			continue
		}
		w := max(1, end-x)
		if i < len(shard.Units)-1 && w > 1 {
			w-- // air to the next
		}
		colour, amount := t.leaf, 0.62-0.09*float64(min(i, 4))
		if plan.Setter != nil && plan.Setter.Name == u.Name {
			colour, amount = t.amber, 0.5
		}
		label := outcome.PlainLine(u.Label)
		if have.pins[u.Name] > 0 {
			label = "• " + label
		}
		c.fill(x, y, w, 1, colour, amount)
		if w > 4 {
			c.text(x+1, y, style{colour: t.ink, bold: here}, cut(label, w-2))
		}
		if here {
			c.mark(x, y, w)
		}
	}
}

// drawUnder tells of the unit under the cursor which tests it holds, how long it
// takes, and how sure that is.
func (v *splitView) drawUnder(c canvas, y int) {
	u := v.under()
	if u == nil {
		return
	}
	t := c.theme
	fog := style{colour: t.fog}
	x := c.text(2, y, style{t.leaf, true}, cut(outcome.PlainLine(u.Label), c.width/3))
	x = c.text(x+2, y, style{colour: t.ink}, history.Short(u.Seconds))
	if u.Deviation >= 0.0005 {
		x = c.text(x, y, fog, " ± "+history.Short(u.Deviation))
	}
	for _, s := range u.Setups {
		x = c.text(x, y, fog, fmt.Sprintf(" + %s to begin", history.Short(s.Seconds)))
		break
	}
	if u.Unknown > 0 {
		x = c.text(x+2, y, style{colour: t.amber}, fmt.Sprintf("%d never measured", u.Unknown))
	}
	if number := v.session.planner.have.pins[u.Name]; number > 0 {
		x = c.text(x+2, y, style{colour: t.leaf}, "• pinned")
	}
	x = c.text(x+2, y, fog, report.Plural(len(u.Tests), "test"))
	for i, test := range v.longestOf(u) {
		words := fmt.Sprintf("%s %s", outcome.PlainLine(test.Name), history.Short(test.Expected))
		if x+2+width(words) >= c.width-1 {
			c.text(x, y, fog, ", …")
			return
		}
		separator := ", "
		if i == 0 {
			separator = ": "
		}
		x = c.text(x, y, fog, separator+words)
	}
}

// namedTests is how many tests of a unit are named.
const namedTests = 8

// longestOf gives the longest tests of a unit, the longest first.
func (v *splitView) longestOf(u *split.Placed) []catalog.Test {
	if v.longest.plan == v.session.planner.answered && v.longest.unit == u.Name {
		return v.longest.tests
	}
	var longest []catalog.Test
	for _, id := range u.Tests {
		t, ok := v.session.picked.Catalog.Lookup(id)
		if !ok {
			continue
		}
		at, _ := slices.BinarySearchFunc(longest, t.Expected, func(other catalog.Test, seconds float64) int {
			if other.Expected >= seconds {
				return -1
			}
			return 1
		})
		if at < namedTests {
			longest = slices.Insert(longest, at, *t)
			longest = longest[:min(len(longest), namedTests)]
		}
	}
	v.longest.plan, v.longest.unit, v.longest.tests = v.session.planner.answered, u.Name, longest
	return longest
}

// drawSpread shows how fixed shards and a shared queue would end, in many runs in
// which tests take as long as they may: darker where more of them end.
func (v *splitView) drawSpread(c canvas) {
	advice := v.session.planner.have.advice
	t := c.theme
	fog := style{colour: t.fog}
	if advice == nil {
		c.text(2, 0, fog, "working it out …")
		return
	}
	o := advice.Outlook
	const left, right = 26, 34
	most := max(o.FixedLate[split.Rounds-1], o.Fixed[split.Rounds-1], o.QueueLate[split.Rounds-1], 1e-9)
	column := func(seconds float64) int {
		return left + int(float64(c.width-left-right-1)*seconds/most)
	}
	step := max(1, min(2, (c.height-1)/4))
	for i, row := range []struct {
		label    string
		finishes []float64
		colour   color.Color
	}{
		{"fixed shards", o.Fixed, t.leaf}, {"a shared queue", o.Queue, t.leaf},
		{fmt.Sprintf("fixed, one %d s late", split.Lateness), o.FixedLate, t.rust}, {fmt.Sprintf("queue, one %d s late", split.Lateness), o.QueueLate, t.amber},
	} {
		y := i * step
		c.text(2, y, fog, row.label)
		counts := map[int]int{}
		for _, f := range row.finishes {
			counts[column(f)]++
		}
		c.rule(left, y, column(row.finishes[0])-left, t.faint(), "╌")
		for x, n := range counts {
			c.fill(x, y, 1, 1, row.colour, 0.2+0.8*min(1, 6*float64(n)/split.Rounds))
		}
		c.right(c.width-right+10, y, style{t.ink, true}, history.ClockTenths(split.Quantile(row.finishes, 0.5)))
		c.text(c.width-right+12, y, fog, "19 of 20 by "+history.ClockTenths(split.Quantile(row.finishes, 0.95)))
	}
}

// drawCurve draws the finish for the numbers of shards as columns, with the floor
// of each as a line and what the machines cost together as points.
func (v *splitView) drawCurve(c canvas) {
	t, have := c.theme, &v.session.planner.have
	x := c.text(2, 0, style{colour: t.fog}, "finish by number of shards")
	if have.advice == nil || c.height < 6 {
		return
	}
	points := have.advice.Points
	height := min(c.height-3, 14)
	const left, pitch, thick = 9, 6, 4
	shown := max(1, min(len(points), (c.width-left-1)/pitch))
	first := max(0, min(have.shards-1-shown*2/3, len(points)-shown))
	points = points[first : first+shown]
	most, dearest := points[0].Finish, 0.0
	for _, p := range points {
		dearest = max(dearest, p.Machines())
	}
	if x+45 < c.width {
		x = c.text(x+4, 0, style{colour: t.leaf}, "▪ finish")
		x = c.text(x+2, 0, style{colour: t.amber}, "┈ floor")
		c.text(x+2, 0, style{colour: t.water}, "▫ machine time, up to "+history.Clock(dearest))
	}
	row := func(part float64) int { return 1 + height - int(math.Ceil(float64(height)*part-0.06)) }
	for i, p := range points {
		at := left + i*pitch
		eighths := int(math.Round(8 * float64(height) * p.Finish / max(most, 1e-9)))
		amount, number := 0.42, style{colour: t.fog}
		if p.Shards == have.shards {
			amount, number = 0.9, style{t.ink, true}
		}
		if y := row(p.Floor / max(most, 1e-9)); y <= height {
			c.rule(at-1, y, pitch, t.amber, "┈")
		}
		column(c, at, 1+height, thick, eighths, t.leaf, amount)
		c.text(at+thick, min(height, row(p.Machines()/max(dearest, 1e-9))), style{colour: t.water}, "▫")
		c.right(at+3, 1+height, number, fmt.Sprint(p.Shards))
		if p.Shards == have.advice.Knee {
			c.text(at, 2+height, style{colour: t.leaf}, "knee")
		}
	}
	c.right(left-2, 1, style{colour: t.fog}, history.Clock(most))
	if y := row(have.plan.Finish / max(most, 1e-9)); y > 1 {
		c.right(left-2, min(y, height), style{colour: t.ink}, history.Clock(have.plan.Finish))
	}
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
func (v *splitView) drawAdvice(c canvas) {
	have := &v.session.planner.have
	if have.advice == nil {
		c.text(0, 0, style{colour: c.theme.fog}, "working it out …")
		return
	}
	blocks := [][]report.Line{report.Worth(*have.advice), report.InTheWay(*have.advice), report.Bearing(have.advice.Outlook)}
	if have.plan.Unknown > 0 {
		blocks = append(blocks, []report.Line{{{Tone: report.Warning, Text: report.Plural(have.plan.Unknown, "test")}, {Text: " never measured: their times are estimates"}}})
	}
	y := 0
	for _, block := range blocks {
		var lines []report.Line
		for _, line := range block {
			lines = append(lines, wrapped(line, c.width)...)
		}
		if y+len(lines) > c.height {
			return // half an answer is none
		}
		for _, line := range lines {
			c.line(0, y, line)
			y++
		}
		y++
	}
}

// wrapped breaks a line between words where it is wider than so many cells; what
// goes on below is set in.
func wrapped(line report.Line, cells int) []report.Line {
	const inset = "  "
	lines, x := []report.Line{nil}, 0
	for _, p := range line {
		for _, word := range strings.SplitAfter(p.Text, " ") {
			if x > len(inset) && x+width(strings.TrimRight(word, " ")) > cells {
				lines, x = append(lines, report.Line{{Text: inset}}), len(inset)
			}
			if x+width(word) > cells {
				word = strings.TrimRight(word, " ")
			}
			last := len(lines) - 1
			lines[last] = append(lines[last], report.Phrase{Tone: p.Tone, Text: word})
			x += width(word)
		}
	}
	return lines
}

// line writes a line of phrases, cut where there is no more room.
func (c canvas) line(x, y int, line report.Line) {
	tones := map[report.Tone]style{
		report.Plain: {colour: c.theme.fog}, report.Figure: {colour: c.theme.ink}, report.Heading: {c.theme.ink, true},
		report.Well: {colour: c.theme.leaf}, report.Warning: {colour: c.theme.amber}, report.Bad: {colour: c.theme.rust},
	}
	for _, p := range line {
		x = c.text(x, y, tones[p.Tone], cut(p.Text, c.width-x))
	}
}
