package irrigation

import (
	"fmt"
	"time"

	"fernrelay/internal/demo/glasshouse/valves"
	"fernrelay/internal/demo/testhost"
)

// reach is how far a sprinkler throws, in metres, at a pressure in bar.
func reach(bar float64) float64 { return min(6, 2.4*bar) }

func init() {
	testhost.Test("rests_with_all_valves_shut", "quick valve", func(t *testhost.T) {
		t.Wait(90 * ms)
		t.Equal("open valves", valves.AllOpen(), []int{})
	})
	for i, row := range []string{"north", "south", "east", "west", "middle", "gallery"} {
		testhost.Test("wets_"+row+"_row", "valve quick", func(t *testhost.T) {
			opened(t, 2*i+1)
			t.Wait(time.Duration(60+40*i) * ms)
			t.Equal("valve is open", valves.IsOpen(2*i+1), true)
		})
		testhost.Test("spares_"+row+"_path", "valve", func(t *testhost.T) {
			t.Wait(time.Duration(110+20*i) * ms)
			t.Equal("reach", reach(1+float64(i)/10) < 5, true)
		})
	}
	for i := 1; i <= 12; i++ {
		tags := ""
		switch {
		case i%6 == 0:
			tags = "store"
		case i == 7:
			tags = "clock"
		case i == 11:
			tags = "bus"
		}
		testhost.Test(fmt.Sprintf("pressure_step_%02d", i), tags, func(t *testhost.T) {
			t.Wait(time.Duration(130+15*i) * ms)
			t.Equal("reach", reach(0.2*float64(i)) <= 6, true)
		})
	}
	testhost.Test("drains_in_autumn", "nightly", func(t *testhost.T) {
		t.Wait(820 * ms)
		t.Equal("reach", reach(0), 0)
	})
}
