package tui

import (
	"cmp"
	"fmt"
	"image/color"
	"math"
	"slices"
	"sort"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/split"
	"fernrelay/internal/report"
	"fernrelay/internal/wording"
)

func (v splitView) drawHeading(c canvas, plan *split.Plan) {
	t, have := c.theme, &v.planner.have
	fog, ink := style{colour: t.fog}, style{t.ink, true}
	x := c.text(2, 1, ink, wording.Plural(len(plan.Shards), "shard"))
	where := "on workers here"
	if have.machines {
		where = "on machines"
	}
	x = c.text(x+1, 1, fog, where)
	if have.limit > 0 && have.limit < have.shards {
		x = c.text(x+1, 1, style{colour: t.amber}, fmt.Sprintf("%d at once", have.limit))
	}
	if c.width >= wideScreen {
		words := string(have.study.Together) + "s stay together"
		if have.study.Together == "" {
			words = "what stays together differs"
		}
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

// barsLeft is the column at which the bars begin, after the numbers of the shards.
const barsLeft = 8

// drawBars draws the shards; the floor is a line through all of them.
func (v splitView) drawBars(c canvas, plan *split.Plan, rows, step int) {
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
		if together := cmp.Or(v.planner.have.study.Together, "unit"); c.width >= wideScreen && together != catalog.TestLevel {
			c.right(c.width-12, y, style{colour: t.fog}, wording.Plural(len(shard.Units), string(together)))
		}
		c.right(c.width-1, y, style{colour: t.fog}, wording.Plural(tests, "test"))
	}
	line := barsLeft + int(math.Round(plan.Floor*scale))
	for y := range rows * step {
		if under := c.cells.CellAt(c.left+line, c.top+y); under != nil && strings.TrimSpace(under.Content) == "" {
			c.text(line, y, style{colour: t.amber}, "┊")
		}
	}
	label := "floor " + history.ClockTenths(plan.Floor)
	if setting := plan.Setting(); setting != "" {
		label += " " + cut(plain.Line(setting), 40)
	}
	c.right(max(barsLeft+width(label), min(line+width(label)/2, c.width-right+9)), rows*step, style{colour: t.amber}, label)
	if hidden := len(plan.Shards) - rows; hidden > 0 {
		c.right(c.width-1, rows*step, style{colour: t.fog}, fmt.Sprintf("%d more ↑↓", hidden))
	}
}

// drawUnits draws one shard: what it waits for, its units to scale, and the one
// under the cursor underlined.
func (v splitView) drawUnits(c canvas, plan *split.Plan, shard split.Shard, y int, scale float64) {
	t, have := c.theme, &v.planner.have
	column := func(seconds float64) int { return barsLeft + int(math.Round(seconds*scale)) }
	if begin := column(shard.Start); begin > barsLeft && len(shard.Units) > 0 {
		c.rule(barsLeft, y, begin-barsLeft-1, t.faint(), "╌")
		words, look := "", style{colour: t.fog}
		if plan.Start > 0 {
			words = "start " + history.Short(plan.Start) + " "
		}
		if late := have.late[shard.Number]; late > 0 {
			words, look.colour = words+fmt.Sprintf("%g s late ", late), t.amber
		}
		c.text(barsLeft, y, look, cut(words, begin-barsLeft-1))
	} else if late := have.late[shard.Number]; len(shard.Units) == 0 && late > 0 {
		c.text(barsLeft, y, style{colour: t.amber}, fmt.Sprintf("%g s late: nothing is left for it", late))
	} else if len(shard.Units) == 0 {
		c.text(barsLeft, y, style{colour: t.faint()}, "nothing is left for it")
	}
	n, cursor := len(shard.Units), -1
	if under := v.under(); under != nil && v.plan().Shards[v.shard].Number == shard.Number {
		cursor = v.place(shard.Units)
	}
	for i := 0; i < n; i++ {
		x, end := column(shard.Units[i].Start), column(shard.UnitEnd(i))
		if x >= end { // go on behind those that end within the same cell
			i += sort.Search(n-i-1, func(k int) bool { return column(shard.UnitEnd(i+1+k)) > x })
			continue
		}
		v.drawUnit(c, plan, shard, i, x, y, end-x, i == cursor)
	}
	if cursor >= 0 {
		x, end := column(shard.Units[cursor].Start), column(shard.UnitEnd(cursor))
		v.drawUnit(c, plan, shard, cursor, x, y, max(1, end-x), true)
	}
}

// drawUnit draws the unit of a shard with an index, in a number of columns.
func (v splitView) drawUnit(c canvas, plan *split.Plan, shard split.Shard, i, x, y, columns int, here bool) {
	t, u := c.theme, &shard.Units[i]
	if i < len(shard.Units)-1 && columns > 1 {
		columns-- // air to the next
	}
	colour, amount := t.leaf, 0.62-0.09*float64(min(i, 4))
	if plan.Setter != nil && plan.Setter.Name == u.Name {
		colour, amount = t.amber, 0.5
	}
	label := plain.Line(u.Label)
	if v.planner.have.pins[u.Name] > 0 {
		label = "• " + label
	}
	c.fill(x, y, columns, 1, colour, amount)
	if columns > 4 {
		c.text(x+1, y, style{colour: t.ink, bold: here}, cut(label, columns-2))
	}
	if here {
		c.mark(x, y, columns)
	}
}

// drawUnder draws the tests of the unit under the cursor, how long it takes, and how certain that is.
func (v splitView) drawUnder(c canvas, y int) {
	u := v.under()
	if u == nil {
		return
	}
	t := c.theme
	fog := style{colour: t.fog}
	x := c.text(2, y, style{t.leaf, true}, cut(plain.Line(u.Label), c.width/3))
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
	if number := v.planner.have.pins[u.Name]; number > 0 {
		x = c.text(x+2, y, style{colour: t.leaf}, "• pinned")
	}
	x = c.text(x+2, y, fog, wording.Plural(len(u.Tests), "test"))
	for i, test := range v.longest.tests {
		words := fmt.Sprintf("%s %s", plain.Line(test.Name), history.Short(test.Expected))
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

// namedTests bounds the tests of a unit that are named.
const namedTests = 8

// findLongest finds the longest tests of a unit, the longest first, unless they are known.
func (v *splitView) findLongest(u *split.Placed) {
	if v.longest.plan == v.planner.answered && v.longest.unit == u.Name {
		return
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
	v.longest = longestTests{v.planner.answered, u.Name, longest}
}

// drawSpread shows when fixed shards and a shared queue end, in many runs in which the times of tests vary: darker
// where more of them end.
func (v splitView) drawSpread(c canvas) {
	advice := v.planner.have.advice
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
func (v splitView) drawCurve(c canvas) {
	t, have := c.theme, &v.planner.have
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

// drawAdvice says in words what the numbers come to.
func (v splitView) drawAdvice(c canvas) {
	have := &v.planner.have
	if have.advice == nil {
		c.text(0, 0, style{colour: c.theme.fog}, "working it out …")
		return
	}
	blocks := [][]report.Line{report.Worth(*have.advice), report.InTheWay(*have.advice), report.Bearing(have.advice.Outlook)}
	if have.fleet != nil {
		blocks = append(blocks, report.FleetForecast(have.fleet))
	}
	if have.plan.Unknown > 0 {
		blocks = append(blocks, []report.Line{{{Tone: report.Warning, Text: report.NeverMeasured(have.plan.Unknown)}}})
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
			drawLine(c, 0, y, line)
			y++
		}
		y++
	}
}

// wrapped breaks a line between words if it is too wide, and indents what follows.
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

// line writes a line of phrases, and cuts it at the edge.
func drawLine(c canvas, x, y int, line report.Line) {
	tones := map[report.Tone]style{
		report.Plain: {colour: c.theme.fog}, report.Figure: {colour: c.theme.ink}, report.Heading: {c.theme.ink, true},
		report.Well: {colour: c.theme.leaf}, report.Warning: {colour: c.theme.amber}, report.Bad: {colour: c.theme.rust},
	}
	for _, p := range line {
		x = c.text(x, y, tones[p.Tone], cut(p.Text, c.width-x))
	}
}
