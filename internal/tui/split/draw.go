package split

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
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
)

func (v View) drawHeading(c screen.Canvas, plan *split.Plan) {
	t, have := c.Theme, &v.Planner.Have
	fog, ink := screen.Style{Colour: t.Fog}, screen.Style{Colour: t.Ink, Bold: true}
	x := c.Text(2, 1, ink, wording.Plural(len(plan.Shards), "shard"))
	where := "on workers here"
	if have.machines {
		where = "on machines"
	}
	x = c.Text(x+1, 1, fog, where)
	if have.Limit > 0 && have.Limit < have.Shards {
		x = c.Text(x+1, 1, screen.Style{Colour: t.Amber}, fmt.Sprintf("%d at once", have.Limit))
	}
	if c.Width >= screen.WideScreen {
		words := string(have.study.Together) + "s stay together"
		if have.study.Together == "" {
			words = "what stays together differs"
		}
		if v.queue {
			words = "a shared queue"
		}
		x = c.Text(x+2, 1, fog, words)
	}
	x = c.Text(x+3, 1, fog, "finish ")
	x = c.Text(x, 1, ink, history.ClockTenths(plan.Finish))
	x = c.Text(x+2, 1, fog, "floor ")
	x = c.Text(x, 1, screen.Style{Colour: t.Amber, Bold: true}, history.ClockTenths(plan.Floor))
	x = c.Text(x+2, 1, fog, "spread ")
	x = c.Text(x, 1, ink, history.ClockTenths(plan.Spread))
	alone := fmt.Sprintf("alone %s → %.1f ×", history.Clock(plan.Work), plan.Work/max(plan.Finish, 1e-9))
	if proof := report.Proof(*plan); x+3+screen.Width(proof)+2+screen.Width(alone) < c.Width {
		c.Text(x+3, 1, screen.Style{Colour: t.Leaf}, proof)
	}
	if x+screen.Width(alone)+3 < c.Width {
		c.Right(c.Width-1, 1, fog, alone)
	}
}

// barsLeft is the column at which the bars begin, after the numbers of the shards.
const barsLeft = 8

// drawBars draws the shards; the floor is a line through all of them.
func (v View) drawBars(c screen.Canvas, plan *split.Plan, rows, step int) {
	t := c.Theme
	right := 33
	if c.Width < screen.WideScreen {
		right = 20
	}
	scale := float64(c.Width-barsLeft-right) / max(plan.Finish, plan.Floor, 1e-9)
	for i := range rows {
		shard := plan.Shards[v.top+i]
		y := i * step
		last := len(shard.Units) > 0 && shard.End >= plan.Finish
		number := screen.Style{Colour: t.Ink, Bold: true}
		if last {
			number.Colour = t.Amber
		}
		if v.top+i == v.Shard {
			c.Text(1, y, screen.Style{Colour: t.Leaf, Bold: true}, "›")
		}
		c.Right(5, y, number, fmt.Sprint(shard.Number))
		v.drawUnits(c.Sub(0, 0, c.Width-right, c.Height), plan, shard, y, scale)
		c.Right(c.Width-right+9, y, screen.Style{Colour: t.Ink, Bold: last}, history.ClockTenths(shard.Seconds()))
		tests := 0
		for _, u := range shard.Units {
			tests += len(u.Tests)
		}
		if together := cmp.Or(v.Planner.Have.study.Together, "unit"); c.Width >= screen.WideScreen && together != catalog.TestLevel {
			c.Right(c.Width-12, y, screen.Style{Colour: t.Fog}, wording.Plural(len(shard.Units), string(together)))
		}
		c.Right(c.Width-1, y, screen.Style{Colour: t.Fog}, wording.Plural(tests, "test"))
	}
	line := barsLeft + int(math.Round(plan.Floor*scale))
	for y := range rows * step {
		if under := c.Cells.CellAt(c.Left+line, c.Top+y); under != nil && strings.TrimSpace(under.Content) == "" {
			c.Text(line, y, screen.Style{Colour: t.Amber}, "┊")
		}
	}
	label := "floor " + history.ClockTenths(plan.Floor)
	if setting := plan.Setting(); setting != "" {
		label += " " + screen.Cut(plain.Line(setting), 40)
	}
	c.Right(max(barsLeft+screen.Width(label), min(line+screen.Width(label)/2, c.Width-right+9)), rows*step, screen.Style{Colour: t.Amber}, label)
	if hidden := len(plan.Shards) - rows; hidden > 0 {
		c.Right(c.Width-1, rows*step, screen.Style{Colour: t.Fog}, fmt.Sprintf("%d more ↑↓", hidden))
	}
}

// drawUnits draws one shard: what it waits for, its units to scale, and the one
// under the cursor underlined.
func (v View) drawUnits(c screen.Canvas, plan *split.Plan, shard split.Shard, y int, scale float64) {
	t, have := c.Theme, &v.Planner.Have
	column := func(seconds float64) int { return barsLeft + int(math.Round(seconds*scale)) }
	if begin := column(shard.Start); begin > barsLeft && len(shard.Units) > 0 {
		c.Rule(barsLeft, y, begin-barsLeft-1, t.Faint(), "╌")
		words, look := "", screen.Style{Colour: t.Fog}
		if plan.Start > 0 {
			words = "start " + history.Short(plan.Start) + " "
		}
		if late := have.Late[shard.Number]; late > 0 {
			words, look.Colour = words+fmt.Sprintf("%g s late ", late), t.Amber
		}
		c.Text(barsLeft, y, look, screen.Cut(words, begin-barsLeft-1))
	} else if late := have.Late[shard.Number]; len(shard.Units) == 0 && late > 0 {
		c.Text(barsLeft, y, screen.Style{Colour: t.Amber}, fmt.Sprintf("%g s late: nothing is left for it", late))
	} else if len(shard.Units) == 0 {
		c.Text(barsLeft, y, screen.Style{Colour: t.Faint()}, "nothing is left for it")
	}
	n, cursor := len(shard.Units), -1
	if under := v.Under(); under != nil && v.Plan().Shards[v.Shard].Number == shard.Number {
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
func (v View) drawUnit(c screen.Canvas, plan *split.Plan, shard split.Shard, i, x, y, columns int, here bool) {
	t, u := c.Theme, &shard.Units[i]
	if i < len(shard.Units)-1 && columns > 1 {
		columns-- // air to the next
	}
	colour, amount := t.Leaf, 0.62-0.09*float64(min(i, 4))
	if plan.Setter != nil && plan.Setter.Name == u.Name {
		colour, amount = t.Amber, 0.5
	}
	label := plain.Line(u.Label)
	if v.Planner.Have.Pins[u.Name] > 0 {
		label = "• " + label
	}
	c.Fill(x, y, columns, 1, colour, amount)
	if columns > 4 {
		c.Text(x+1, y, screen.Style{Colour: t.Ink, Bold: here}, screen.Cut(label, columns-2))
	}
	if here {
		c.Mark(x, y, columns)
	}
}

// drawUnder draws the tests of the unit under the cursor, how long it takes, and how certain that is.
func (v View) drawUnder(c screen.Canvas, y int) {
	u := v.Under()
	if u == nil {
		return
	}
	t := c.Theme
	fog := screen.Style{Colour: t.Fog}
	x := c.Text(2, y, screen.Style{Colour: t.Leaf, Bold: true}, screen.Cut(plain.Line(u.Label), c.Width/3))
	x = c.Text(x+2, y, screen.Style{Colour: t.Ink}, history.Short(u.Seconds))
	if u.Deviation >= 0.0005 {
		x = c.Text(x, y, fog, " ± "+history.Short(u.Deviation))
	}
	for _, s := range u.Setups {
		x = c.Text(x, y, fog, fmt.Sprintf(" + %s to begin", history.Short(s.Seconds)))
		break
	}
	if u.Unknown > 0 {
		x = c.Text(x+2, y, screen.Style{Colour: t.Amber}, fmt.Sprintf("%d never measured", u.Unknown))
	}
	if number := v.Planner.Have.Pins[u.Name]; number > 0 {
		x = c.Text(x+2, y, screen.Style{Colour: t.Leaf}, "• pinned")
	}
	x = c.Text(x+2, y, fog, wording.Plural(len(u.Tests), "test"))
	for i, test := range v.longest.tests {
		words := fmt.Sprintf("%s %s", plain.Line(test.Name), history.Short(test.Expected))
		if x+2+screen.Width(words) >= c.Width-1 {
			c.Text(x, y, fog, ", …")
			return
		}
		separator := ", "
		if i == 0 {
			separator = ": "
		}
		x = c.Text(x, y, fog, separator+words)
	}
}

// namedTests bounds the tests of a unit that are named.
const namedTests = 8

// findLongest finds the longest tests of a unit, the longest first, unless they are known.
func (v *View) findLongest(u *split.Placed) {
	if v.longest.plan == v.Planner.answered && v.longest.unit == u.Name {
		return
	}
	var longest []catalog.Test
	for _, id := range u.Tests {
		t, ok := v.session.Picked.Catalog.Lookup(id)
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
	v.longest = longestTests{v.Planner.answered, u.Name, longest}
}

// drawSpread shows when fixed shards and a shared queue end, in many runs in which the times of tests vary: darker
// where more of them end.
func (v View) drawSpread(c screen.Canvas) {
	advice := v.Planner.Have.Advice
	t := c.Theme
	fog := screen.Style{Colour: t.Fog}
	if advice == nil {
		c.Text(2, 0, fog, "working it out …")
		return
	}
	o := advice.Outlook
	const left, right = 26, 34
	most := max(o.FixedLate[split.Rounds-1], o.Fixed[split.Rounds-1], o.QueueLate[split.Rounds-1], 1e-9)
	column := func(seconds float64) int {
		return left + int(float64(c.Width-left-right-1)*seconds/most)
	}
	step := max(1, min(2, (c.Height-1)/4))
	for i, row := range []struct {
		label    string
		finishes []float64
		colour   color.Color
	}{
		{"fixed shards", o.Fixed, t.Leaf}, {"a shared queue", o.Queue, t.Leaf},
		{fmt.Sprintf("fixed, one %d s late", split.Lateness), o.FixedLate, t.Rust}, {fmt.Sprintf("queue, one %d s late", split.Lateness), o.QueueLate, t.Amber},
	} {
		y := i * step
		c.Text(2, y, fog, row.label)
		counts := map[int]int{}
		for _, f := range row.finishes {
			counts[column(f)]++
		}
		c.Rule(left, y, column(row.finishes[0])-left, t.Faint(), "╌")
		for x, n := range counts {
			c.Fill(x, y, 1, 1, row.colour, 0.2+0.8*min(1, 6*float64(n)/split.Rounds))
		}
		c.Right(c.Width-right+10, y, screen.Style{Colour: t.Ink, Bold: true}, history.ClockTenths(history.Quantile(row.finishes, 0.5)))
		c.Text(c.Width-right+12, y, fog, "19 of 20 by "+history.ClockTenths(history.Quantile(row.finishes, 0.95)))
	}
}

// drawCurve draws the finish for the numbers of shards as columns, with the floor
// of each as a line and what the machines cost together as points.
func (v View) drawCurve(c screen.Canvas) {
	t, have := c.Theme, &v.Planner.Have
	x := c.Text(2, 0, screen.Style{Colour: t.Fog}, "finish by number of shards")
	if have.Advice == nil || c.Height < 6 {
		return
	}
	points := have.Advice.Points
	height := min(c.Height-3, 14)
	const left, pitch, thick = 9, 6, 4
	shown := max(1, min(len(points), (c.Width-left-1)/pitch))
	first := max(0, min(have.Shards-1-shown*2/3, len(points)-shown))
	points = points[first : first+shown]
	most, dearest := points[0].Finish, 0.0
	for _, p := range points {
		dearest = max(dearest, p.Machines())
	}
	if x+45 < c.Width {
		x = c.Text(x+4, 0, screen.Style{Colour: t.Leaf}, "▪ finish")
		x = c.Text(x+2, 0, screen.Style{Colour: t.Amber}, "┈ floor")
		c.Text(x+2, 0, screen.Style{Colour: t.Water}, "▫ machine time, up to "+history.Clock(dearest))
	}
	row := func(part float64) int { return 1 + height - int(math.Ceil(float64(height)*part-0.06)) }
	for i, p := range points {
		at := left + i*pitch
		eighths := int(math.Round(8 * float64(height) * p.Finish / max(most, 1e-9)))
		amount, number := 0.42, screen.Style{Colour: t.Fog}
		if p.Shards == have.Shards {
			amount, number = 0.9, screen.Style{Colour: t.Ink, Bold: true}
		}
		if y := row(p.Floor / max(most, 1e-9)); y <= height {
			c.Rule(at-1, y, pitch, t.Amber, "┈")
		}
		screen.DrawColumn(c, at, 1+height, thick, eighths, t.Leaf, amount)
		c.Text(at+thick, min(height, row(p.Machines()/max(dearest, 1e-9))), screen.Style{Colour: t.Water}, "▫")
		c.Right(at+3, 1+height, number, fmt.Sprint(p.Shards))
		if p.Shards == have.Advice.Knee {
			c.Text(at, 2+height, screen.Style{Colour: t.Leaf}, "knee")
		}
	}
	c.Right(left-2, 1, screen.Style{Colour: t.Fog}, history.Clock(most))
	if y := row(have.plan.Finish / max(most, 1e-9)); y > 1 {
		c.Right(left-2, min(y, height), screen.Style{Colour: t.Ink}, history.Clock(have.plan.Finish))
	}
}

// drawAdvice says in words what the numbers come to.
func (v View) drawAdvice(c screen.Canvas) {
	have := &v.Planner.Have
	if have.Advice == nil {
		c.Text(0, 0, screen.Style{Colour: c.Theme.Fog}, "working it out …")
		return
	}
	y := 0
	for _, block := range have.adviceBlocks() {
		var lines []report.Line
		for _, line := range block {
			lines = append(lines, wrapped(line, c.Width)...)
		}
		if y+len(lines) > c.Height {
			return // half an answer is none
		}
		for _, line := range lines {
			drawLine(c, 0, y, line)
			y++
		}
		y++
	}
}

// adviceBlocks are the paragraphs below the shards, the most important first.
func (p *planning) adviceBlocks() [][]report.Line {
	blocks := [][]report.Line{report.Worth(*p.Advice), report.InTheWay(*p.Advice), report.Bearing(p.Advice.Outlook)}
	if p.fleet != nil {
		blocks = append(blocks, report.FleetForecast(p.fleet))
	}
	if p.plan.Unknown > 0 {
		blocks = append(blocks, []report.Line{{{Tone: report.Warning, Text: report.NeverMeasured(p.plan.Unknown)}}})
	}
	return blocks
}

// wrapped breaks a line between words if it is too wide, and indents what follows.
func wrapped(line report.Line, cells int) []report.Line {
	const inset = "  "
	lines, x := []report.Line{nil}, 0
	for _, p := range line {
		for _, word := range strings.SplitAfter(p.Text, " ") {
			if x > len(inset) && x+screen.Width(strings.TrimRight(word, " ")) > cells {
				lines, x = append(lines, report.Line{{Text: inset}}), len(inset)
			}
			if x+screen.Width(word) > cells {
				word = strings.TrimRight(word, " ")
			}
			last := len(lines) - 1
			lines[last] = append(lines[last], report.Phrase{Tone: p.Tone, Text: word})
			x += screen.Width(word)
		}
	}
	return lines
}

// line writes a line of phrases, and cuts it at the edge.
func drawLine(c screen.Canvas, x, y int, line report.Line) {
	tones := map[report.Tone]screen.Style{
		report.Plain: {Colour: c.Theme.Fog}, report.Figure: {Colour: c.Theme.Ink}, report.Heading: {Colour: c.Theme.Ink, Bold: true},
		report.Well: {Colour: c.Theme.Leaf}, report.Warning: {Colour: c.Theme.Amber}, report.Bad: {Colour: c.Theme.Rust},
	}
	for _, p := range line {
		x = c.Text(x, y, tones[p.Tone], screen.Cut(p.Text, c.Width-x))
	}
}
