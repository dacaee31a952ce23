package screen

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

// DrawDifference shows the sides of a comparison one above the other, from the first
// line that differs on, with what differs marked.
func DrawDifference(c Canvas, y int, sides []sidebyside.Sides) int {
	t := c.Theme
	first := max(0, slices.IndexFunc(sides, func(s sidebyside.Sides) bool { return !s.Same() }))
	shown := sides[first:min(len(sides), first+differenceRows)]
	for i, s := range shown {
		labelRow(c, y, i, first, "expected")
		drawSpans(c, y, s.Expected, t.Leaf)
		y++
	}
	for i, s := range shown {
		labelRow(c, y, i, first, "actual")
		drawSpans(c, y, s.Actual, t.Rust)
		y++
	}
	if more := len(sides) - first - len(shown); more > 0 {
		c.Text(10, y, Style{Colour: t.Faint()}, fmt.Sprintf("… %s more", wording.Plural(more, "line")))
		y++
	}
	return y + 1
}

// labelRow writes what row i of a side begins with: the name of the side, and below it the number of the line if lines
// before it are left out.
func labelRow(c Canvas, y, i, first int, side string) {
	switch {
	case i == 0:
		c.Text(0, y, Style{Colour: c.Theme.Fog}, side)
	case i == 1 && first > 0:
		c.Right(8, y, Style{Colour: c.Theme.Faint()}, fmt.Sprintf("line %d", first+2))
	}
}

// DrawOutput shows what the test printed around the line that names the place of the
// failure, or the end of it.
func DrawOutput(c Canvas, y int, r *run.Result) int {
	room := min(outputRows, c.Height-y-5)
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
		look := Style{Colour: c.Theme.Fog}
		if top+i == failing {
			look.Colour = c.Theme.Ink
		}
		c.Text(0, y, look, Cut("│ "+line, c.Width))
		y++
	}
	return y + 1
}

// differenceRows bounds the lines of a comparison that are shown on each side.
const differenceRows = 4

// drawSpans shows a line with what differs marked, and in view.
func drawSpans(c Canvas, y int, spans []sidebyside.Span, colour color.Color) {
	t := c.Theme
	const left = 10
	skip := 0 // cells at the front, so that the first that differs is in view
	for _, s := range spans {
		if s.Differs {
			break
		}
		skip += Width(s.Text)
	}
	skip = max(0, skip-(c.Width-left)*2/3)
	x := left
	if skip > 0 {
		x = c.Text(x, y, Style{Colour: t.Faint()}, "…")
	}
	for _, s := range spans {
		text := s.Text
		if n := min(skip, Width(text)); n > 0 {
			skip -= n
			text = ansi.TruncateLeft(text, n, "")
		}
		text = Cut(text, c.Width-x)
		look := Style{Colour: t.Ink}
		if s.Differs {
			look.Bold = true
			if !t.Shades {
				c.Fill(x, y, Width(text), 1, colour, 0.6)
			}
		}
		x = c.Text(x, y, look, text)
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
