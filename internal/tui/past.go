package tui

import "fernrelay/core/run"

// drawPast draws the last outcomes as shapes, the newest to the right.
func drawPast(c canvas, x, y int, past []run.Outcome, room int) int {
	past = past[max(0, len(past)-room):]
	x += room - len(past)
	for _, o := range past {
		x = c.text(x, y, style{colour: c.theme.outcome(o)}, o.Shape())
	}
	return x
}
