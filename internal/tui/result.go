package tui

import (
	"fmt"
	"image/color"
	"path"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/sidebyside"
	"fernrelay/internal/wording"
)

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

// differenceRows bounds the lines of a comparison that are shown on each side.
const differenceRows = 4

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

// outputRows is how much of the output is shown at most.
const outputRows = 6

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
