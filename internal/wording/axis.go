package wording

import (
	"fmt"

	"fernrelay/core/history"
)

// Tick is a round time on an axis.
type Tick struct {
	Seconds float64
	Label   string // 40 ms, 1.5 s or 0:30: all labels of an axis have one unit
}

// steps are the distances between ticks, in seconds. None is more than three times the one before it, so that an axis
// with room for three ticks has two.
var steps = []float64{0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 3600, 2 * 3600, 6 * 3600, 12 * 3600, 86400}

// Ticks returns the round times from 0 to a time in seconds, with at most room steps between them.
func Ticks(to float64, room int) []Tick {
	step := steps[0]
	for _, s := range steps {
		step = s
		if to/s <= float64(room) {
			break
		}
	}
	for to/step > float64(room) {
		step *= 2
	}
	var ticks []Tick
	for i := 0; float64(i)*step <= to; i++ {
		seconds := float64(i) * step
		ticks = append(ticks, Tick{seconds, tickLabel(seconds, step)})
	}
	return ticks
}

func tickLabel(seconds, step float64) string {
	switch {
	case seconds == 0:
		return "0"
	case step < 0.1:
		return fmt.Sprintf("%.0f ms", seconds*1000)
	case step < 1:
		return fmt.Sprintf("%.1f s", seconds)
	}
	return history.Clock(seconds)
}
