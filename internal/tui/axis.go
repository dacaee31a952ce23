package tui

import (
	"image/color"
	"math"

	"fernrelay/internal/wording"
)

// axis places seconds on columns.
type axis struct {
	left, span int
	scale      float64 // columns a second
}

func (a axis) at(seconds float64) int { return a.left + int(math.Floor(seconds*a.scale)) }

func (a axis) time(column int) float64 { return float64(column-a.left) / a.scale }

// fill fills the columns that begin within a time, without the last, so that there is air between neighbours.
func (a axis) fill(c canvas, y, rows int, from, to float64, colour color.Color, amount float64) {
	x, end := a.at(from), min(a.at(to), a.left+a.span)
	if end-x > 2 {
		end--
	}
	c.fill(x, y, max(end-x, 1), rows, colour, amount)
}

// draw writes round times above the tracks.
func (a axis) draw(c canvas, end float64) {
	for _, tick := range wording.Ticks(float64(a.span)/a.scale, max(3, a.span/12)) {
		if x := a.at(tick.Seconds); tick.Seconds <= end && x+width(tick.Label) < c.width {
			c.text(x, 0, style{colour: c.theme.faint()}, tick.Label)
		}
	}
}
