package watch

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
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
)

func (v View) drawDetail(c screen.Canvas) {
	t, r := c.Theme, v.Current()
	if r == nil {
		return
	}
	group, name := leg.GroupAndName(r.ID)
	at := plain.Line(r.Where())
	at = screen.CutGroup(at, c.Width/2)
	c.Right(c.Width, 0, screen.Style{Colour: t.Water}, at)
	y := 1 + screen.DrawName(c, group, name, screen.Width(at)+2)
	switch {
	case r.Expected != "" || r.Actual != "":
		y = screen.DrawDifference(c, y, sidebyside.Align(plain.Text(r.Expected), plain.Text(r.Actual)))
	case r.Message != "":
		y = drawMessage(c, y, r)
	}
	y = v.drawSteps(c, y, r)
	if v.unfolded && len(r.Steps) > 0 {
		return
	}
	y = v.drawSource(c, y, r)
	y = screen.DrawOutput(c, y, r)
	v.drawBefore(c, y, r)
}

// drawMessage draws the first lines of the message, and returns the row after the blank one below them.
func drawMessage(c screen.Canvas, y int, r *run.Result) int {
	lines := screen.Wrap(plain.Text(r.Message), c.Width)
	for _, line := range lines[:min(3, len(lines))] {
		c.Text(0, y, screen.Style{Colour: c.Theme.Outcome(r.Outcome)}, line)
		y++
	}
	return y + 1
}

// stepsFolded bounds the failing steps that are shown while the steps are folded.
const stepsFolded = 3

// drawSteps shows the steps of a test: folded those that failed, with their lines,
// unfolded all, with the first that failed in view.
func (v View) drawSteps(c screen.Canvas, y int, r *run.Result) int {
	t := c.Theme
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
	c.Text(c.Text(0, y, screen.Style{Colour: t.Fog}, words)+2, y, screen.Style{Colour: t.Faint()}, hint)
	y++
	if v.unfolded {
		rows := max(1, c.Height-y)
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

func drawStep(c screen.Canvas, y int, s *run.Step) {
	t := c.Theme
	at := history.Short(s.Seconds)
	if s.File != "" {
		at = path.Base(plain.Line(s.Where()))
	}
	c.Text(2, y, screen.Style{Colour: t.Outcome(s.Outcome), Bold: true}, s.Outcome.Shape())
	c.Right(c.Width, y, screen.Style{Colour: t.Fog}, at)
	x := c.Text(4, y, screen.Style{Colour: t.Ink}, screen.Cut(plain.Line(s.Name), max(10, c.Width/2)))
	c.Text(x+2, y, screen.Style{Colour: t.Outcome(s.Outcome)}, screen.Cut(plain.Line(s.Message), c.Width-x-4-screen.Width(at)))
}

// drawSource shows the lines around the place of the failure.
func (v View) drawSource(c screen.Canvas, y int, r *run.Result) int {
	t := c.Theme
	if len(v.source.Lines) == 0 || c.Height-y < 8 {
		return y
	}
	for i, line := range v.source.Lines {
		number := v.source.First + i
		look := screen.Style{Colour: t.Fog}
		if number == r.Line {
			look.Colour = t.Ink
			c.Text(5, y, screen.Style{Colour: t.Rust}, "▸")
		}
		c.Right(4, y, screen.Style{Colour: t.Faint()}, fmt.Sprint(number))
		c.Text(8, y, look, screen.Cut(line, c.Width-8))
		y++
	}
	return y + 1
}

// drawBefore says what ran before the failure on its worker, and offers the hunt.
func (v View) drawBefore(c screen.Canvas, y int, r *run.Result) {
	t := c.Theme
	if r.Worker == 0 || y >= c.Height {
		return
	}
	before := v.Run.Before(r)
	n := len(before)
	var last []string
	for _, b := range before[max(0, n-3):] {
		last = append(last, report.Name(b.Result.ID))
	}
	past := v.Run.Past(r.ID)
	c.Text(0, y, screen.Style{Colour: t.Fog}, "past")
	if len(past) == 0 {
		c.Text(10, y, screen.Style{Colour: t.Fog}, "this was the first run")
	}
	screen.DrawPast(c, 10, y, past, min(len(past), 20))
	c.Text(0, y+1, screen.Style{Colour: t.Fog}, screen.Cut(fmt.Sprintf("before it %s on %s, the last:", wording.Plural(n, "test"), v.Run.WorkerWords(r)), c.Width))
	c.Text(10, y+2, screen.Style{Colour: t.Ink}, screen.Cut(strings.Join(last, ", "), c.Width-10))
	if machine := v.Run.MachineOf(r); n > 0 && r.Outcome.Bad() && machine != "" {
		c.Text(0, y+4, screen.Style{Colour: t.Orchid}, screen.Cut(fmt.Sprintf("h hunts it here: %s sent the order it ran in", machine), c.Width))
	} else if n > 0 && r.Outcome.Bad() {
		c.Text(0, y+4, screen.Style{Colour: t.Orchid}, screen.Cut(fmt.Sprintf("h hunts it: about %d halvings of what ran before it", int(math.Ceil(math.Log2(float64(n+1))))), c.Width))
	}
}
