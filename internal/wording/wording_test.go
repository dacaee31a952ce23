package wording

import (
	"slices"
	"testing"
)

// TestTicks holds that an axis of any length has at least two ticks, no more than there is room for, and labels that
// differ.
func TestTicks(t *testing.T) {
	for to := 0.0011; to < 1e9; to *= 1.37 {
		for _, room := range []int{3, 5, 12} {
			ticks := Ticks(to, room)
			if len(ticks) < 2 || len(ticks) > room+1 {
				t.Errorf("an axis of %g s with room for %d steps has %d ticks", to, room, len(ticks))
			}
			labels := map[string]bool{}
			for _, tick := range ticks {
				labels[tick.Label] = true
			}
			if len(labels) != len(ticks) || ticks[len(ticks)-1].Seconds > to {
				t.Errorf("an axis of %g s has the ticks %v", to, ticks)
			}
		}
	}
	for _, c := range []struct {
		to     float64
		labels []string
	}{
		{0.1, []string{"0", "20 ms", "40 ms", "60 ms", "80 ms", "100 ms"}},
		{2.2, []string{"0", "0.5 s", "1.0 s", "1.5 s", "2.0 s"}},
		{130, []string{"0", "0:30", "1:00", "1:30", "2:00"}},
	} {
		var labels []string
		for _, tick := range Ticks(c.to, 6) {
			labels = append(labels, tick.Label)
		}
		if !slices.Equal(labels, c.labels) {
			t.Errorf("an axis of %g s has the labels %q, not %q", c.to, labels, c.labels)
		}
	}
}
