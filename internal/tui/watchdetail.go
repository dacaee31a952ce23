package tui

import (
	"fmt"
	"math"
	"path"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/report"
	"fernrelay/internal/sidebyside"
	"fernrelay/internal/wording"
)

func (v watch) drawDetail(c canvas) {
	t, r := c.theme, v.current()
	if r == nil {
		return
	}
	group, name := groupAndName(r.ID)
	at := plain.Line(r.Where())
	at = cutGroup(at, c.width/2)
	c.right(c.width, 0, style{colour: t.water}, at)
	y := 1 + drawName(c, group, name, width(at)+2)
	switch {
	case r.Expected != "" || r.Actual != "":
		y = drawDifference(c, y, sidebyside.Align(plain.Text(r.Expected), plain.Text(r.Actual)))
	case r.Message != "":
		lines := wrap(plain.Text(r.Message), c.width)
		for _, line := range lines[:min(3, len(lines))] {
			c.text(0, y, style{colour: t.outcome(r.Outcome)}, line)
			y++
		}
		y++
	}
	y = v.drawSteps(c, y, r)
	if v.unfolded && len(r.Steps) > 0 {
		return
	}
	y = v.drawSource(c, y, r)
	y = drawOutput(c, y, r)
	v.drawBefore(c, y, r)
}

// stepsFolded bounds the failing steps that are shown while the steps are folded.
const stepsFolded = 3

// drawSteps shows the steps of a test: folded those that failed, with their lines,
// unfolded all, with the first that failed in view.
func (v watch) drawSteps(c canvas, y int, r *run.Result) int {
	t := c.theme
	if len(r.Steps) == 0 {
		return y
	}
	var bad []int
	for i, s := range r.Steps {
		if s.Outcome.Bad() {
			bad = append(bad, i)
		}
	}
	words := wording.Plural(len(r.Steps), "step")
	if len(bad) > 0 {
		words += fmt.Sprintf(", %d failed", len(bad))
	}
	hint := "enter unfolds"
	if v.unfolded {
		hint = "enter folds"
	}
	c.text(c.text(0, y, style{colour: t.fog}, words)+2, y, style{colour: t.faint()}, hint)
	y++
	if v.unfolded {
		rows := max(1, c.height-y)
		top := 0
		if len(bad) > 0 {
			top = max(0, min(bad[0]-rows/2, len(r.Steps)-rows))
		}
		for i := top; i < min(len(r.Steps), top+rows); i++ {
			drawStep(c, y, &r.Steps[i])
			y++
		}
		return y + 1
	}
	for _, i := range bad[:min(len(bad), stepsFolded)] {
		drawStep(c, y, &r.Steps[i])
		y++
	}
	return y + 1
}

func drawStep(c canvas, y int, s *run.Step) {
	t := c.theme
	at := history.Short(s.Seconds)
	if s.File != "" {
		at = path.Base(plain.Line(s.Where()))
	}
	c.text(2, y, style{t.outcome(s.Outcome), true}, s.Outcome.Shape())
	c.right(c.width, y, style{colour: t.fog}, at)
	x := c.text(4, y, style{colour: t.ink}, cut(plain.Line(s.Name), max(10, c.width/2)))
	c.text(x+2, y, style{colour: t.outcome(s.Outcome)}, cut(plain.Line(s.Message), c.width-x-4-width(at)))
}

// drawSource shows the lines around the place of the failure.
func (v watch) drawSource(c canvas, y int, r *run.Result) int {
	t := c.theme
	if len(v.source.lines) == 0 || c.height-y < 8 {
		return y
	}
	for i, line := range v.source.lines {
		number := v.source.first + i
		look := style{colour: t.fog}
		if number == r.Line {
			look.colour = t.ink
			c.text(5, y, style{colour: t.rust}, "▸")
		}
		c.right(4, y, style{colour: t.faint()}, fmt.Sprint(number))
		c.text(8, y, look, cut(line, c.width-8))
		y++
	}
	return y + 1
}

// drawBefore says what ran before the failure on its worker, and offers the hunt.
func (v watch) drawBefore(c canvas, y int, r *run.Result) {
	t := c.theme
	if r.Worker == 0 || y >= c.height {
		return
	}
	before := v.run.before(r)
	n := len(before)
	var last []string
	for _, b := range before[max(0, n-3):] {
		last = append(last, report.Name(b.result.ID))
	}
	past := v.run.past(r.ID)
	c.text(0, y, style{colour: t.fog}, "past")
	if len(past) == 0 {
		c.text(10, y, style{colour: t.fog}, "this was the first run")
	}
	drawPast(c, 10, y, past, min(len(past), 20))
	c.text(0, y+1, style{colour: t.fog}, cut(fmt.Sprintf("before it %s on %s, the last:", wording.Plural(n, "test"), v.run.workerWords(r)), c.width))
	c.text(10, y+2, style{colour: t.ink}, cut(strings.Join(last, ", "), c.width-10))
	if machine := v.run.machineOf(r); n > 0 && r.Outcome.Bad() && machine != "" {
		c.text(0, y+4, style{colour: t.orchid}, cut(fmt.Sprintf("h hunts it here: %s sent the order it ran in", machine), c.width))
	} else if n > 0 && r.Outcome.Bad() {
		c.text(0, y+4, style{colour: t.orchid}, cut(fmt.Sprintf("h hunts it: about %d halvings of what ran before it", int(math.Ceil(math.Log2(float64(n+1))))), c.width))
	}
}
