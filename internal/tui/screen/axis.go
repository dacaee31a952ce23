package screen

import (
	"image/color"
	"math"

	"fernrelay/internal/wording"
)

// Axis places seconds on columns.
type Axis struct {
	Left, Span int
	Scale      float64 // columns a second
}

// At returns the column of a second, and Time the second at which a column begins.
func (a Axis) At(seconds float64) int { return a.Left + int(math.Floor(seconds*a.Scale)) }

func (a Axis) Time(column int) float64 { return float64(column-a.Left) / a.Scale }

// Fill fills the columns that begin within a time, without the last, so that there is air between neighbours.
func (a Axis) Fill(c Canvas, y, rows int, from, to float64, colour color.Color, amount float64) {
	x, end := a.At(from), min(a.At(to), a.Left+a.Span)
	if end-x > 2 {
		end--
	}
	c.Fill(x, y, max(end-x, 1), rows, colour, amount)
}

// Draw writes round times above the tracks.
func (a Axis) Draw(c Canvas, end float64) {
	for _, tick := range wording.Ticks(float64(a.Span)/a.Scale, max(3, a.Span/12)) {
		if x := a.At(tick.Seconds); tick.Seconds <= end && x+Width(tick.Label) < c.Width {
			c.Text(x, 0, Style{Colour: c.Theme.Faint()}, tick.Label)
		}
	}
}
