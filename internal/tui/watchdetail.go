package tui

import (
	"fmt"
	"image/color"
	"math"
	"path"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

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

// differenceRows bounds the lines of a comparison that are shown on each side.
const differenceRows = 4

// drawDifference shows the sides of a comparison one above the other, from the first
// line that differs on, with what differs marked.
func drawDifference(c canvas, y int, sides []sidebyside.Sides) int {
	t := c.theme
	first := max(0, slices.IndexFunc(sides, func(s sidebyside.Sides) bool { return !s.Same() }))
	shown := sides[first:min(len(sides), first+differenceRows)]
	label := func(y, i int, words string) {
		switch {
		case i == 0:
			c.text(0, y, style{colour: t.fog}, words)
		case i == 1 && first > 0:
			c.right(8, y, style{colour: t.faint()}, fmt.Sprintf("line %d", first+2))
		}
	}
	for i, s := range shown {
		label(y, i, "expected")
		drawSpans(c, y, s.Expected, t.leaf)
		y++
	}
	for i, s := range shown {
		label(y, i, "actual")
		drawSpans(c, y, s.Actual, t.rust)
		y++
	}
	if more := len(sides) - first - len(shown); more > 0 {
		c.text(10, y, style{colour: t.faint()}, fmt.Sprintf("… %s more", wording.Plural(more, "line")))
		y++
	}
	return y + 1
}

// drawSpans shows a line with what differs marked, and in view.
func drawSpans(c canvas, y int, spans []sidebyside.Span, colour color.Color) {
	t := c.theme
	const left = 10
	skip := 0 // cells at the front, so that the first that differs is in view
	for _, s := range spans {
		if s.Differs {
			break
		}
		skip += width(s.Text)
	}
	skip = max(0, skip-(c.width-left)*2/3)
	x := left
	if skip > 0 {
		x = c.text(x, y, style{colour: t.faint()}, "…")
	}
	for _, s := range spans {
		text := s.Text
		if n := min(skip, width(text)); n > 0 {
			skip -= n
			text = ansi.TruncateLeft(text, n, "")
		}
		text = cut(text, c.width-x)
		look := style{colour: t.ink}
		if s.Differs {
			look.bold = true
			if !t.shades {
				c.fill(x, y, width(text), 1, colour, 0.6)
			}
		}
		x = c.text(x, y, look, text)
	}
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

// outputRows is how much of the output is shown at most.
const outputRows = 6

// drawOutput shows what the test printed around the line that names the place of the
// failure, or the end of it.
func drawOutput(c canvas, y int, r *run.Result) int {
	room := min(outputRows, c.height-y-5)
	output := strings.TrimSpace(plain.Text(run.WithoutBlock(string(r.Output[max(0, len(r.Output)-16<<10):]), r.Message)))
	if output == "" || room < 2 {
		return y
	}
	lines := strings.Split(output, "\n")
	failing := failingLine(lines, r)
	top := max(0, len(lines)-room)
	if failing >= 0 {
		top = max(0, min(top, failing-room/2))
	}
	for i, line := range lines[top:min(len(lines), top+room)] {
		look := style{colour: c.theme.fog}
		if top+i == failing {
			look.colour = c.theme.ink
		}
		c.text(0, y, look, cut("│ "+line, c.width))
		y++
	}
	return y + 1
}

// failingLine returns the line of an output that names the place of the failure, or begins as its message does; -1
// if none does.
func failingLine(lines []string, r *run.Result) int {
	if r.File != "" {
		at := path.Base(r.Where())
		if i := slices.IndexFunc(lines, func(line string) bool { return strings.Contains(line, at) }); i >= 0 {
			return i
		}
	}
	message, _, _ := strings.Cut(plain.Text(r.Message), "\n")
	if message == "" {
		return -1
	}
	return slices.IndexFunc(lines, func(line string) bool { return strings.Contains(line, message) })
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

// wrap breaks a text into lines of at most a number of cells.
func wrap(text string, cells int) []string {
	return strings.Split(ansi.Wrap(strings.TrimSpace(text), cells, ""), "\n")
}

// hasEnded reports whether a test has an outcome.
func (l *liveRun) hasEnded(id string) bool {
	r := l.run.Result(id)
	return r != nil && r.Outcome != ""
}

// isRecovered reports whether a test passes that was bad when it ran before.
func (l *liveRun) isRecovered(r *run.Result) bool {
	return r.Outcome == run.Passed && history.Last(l.past(r.ID)).Bad()
}
