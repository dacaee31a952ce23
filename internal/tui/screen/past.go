package screen

import "fernrelay/core/run"

// DrawPast draws the last outcomes as shapes, the newest to the right.
func DrawPast(c Canvas, x, y int, past []run.Outcome, room int) int {
	past = past[max(0, len(past)-room):]
	x += room - len(past)
	for _, o := range past {
		x = c.Text(x, y, Style{Colour: c.Theme.Outcome(o)}, o.Shape())
	}
	return x
}
