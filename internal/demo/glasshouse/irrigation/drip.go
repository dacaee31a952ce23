// Package irrigation waters the beds by drip lines and sprinklers.
package irrigation

import (
	"fmt"
	"time"

	"fernrelay/internal/demo/glasshouse/valves"
	"fernrelay/internal/demo/testhost"
)

const ms = time.Millisecond

// dose is the water for a bed in litres, by the weight of its soil in
// kilograms and how dry it is, from 0 to 1.
func dose(kilograms, dry float64) float64 { return kilograms * dry * 0.12 }

func opened(t *testhost.T, numbers ...int) {
	for _, n := range numbers {
		if err := valves.Open(n); err != nil {
			t.Fatalf("valve %d: %v", n, err)
		}
		t.Cleanup(func() { valves.Close(n) })
	}
}

func init() {
	testhost.Test("opens_at_dawn", "quick valve", func(t *testhost.T) {
		opened(t, 1)
		t.Wait(240 * ms)
		t.Equal("valve 1 is open", valves.IsOpen(1), true)
	})
	testhost.Test("holds_when_dry", "quick valve store", func(t *testhost.T) {
		t.Wait(840 * ms)
		t.Equal("dose", dose(10, 0), 0)
	})
	testhost.Test("closes_on_frost", "quick valve frost", func(t *testhost.T) {
		t.Equal("valve 2 is open", valves.IsOpen(2), false)
	}, testhost.Skip("the frost sensor is out for calibration"))
	testhost.Test("night_cycle", "valve nightly", func(t *testhost.T) {
		for _, bed := range []string{"palms", "ferns", "citrus"} {
			t.Step(bed, func() {
				opened(t, 3)
				t.Wait(1500 * ms)
				t.Equal("litres", valves.Litres(1, 40), 10)
			})
		}
	})
	testhost.Test("reopens_after_fault", "quick valve", func(t *testhost.T) {
		// The fault is simulated; the valve is opened again as the pump would do it.
		if err := valves.Open(4); err != nil {
			t.Fatalf("valve 4: %v", err)
		}
		t.Wait(420 * ms)
		t.Equal("valve 4 is open", valves.IsOpen(4), true)
	})
	testhost.Test("doses_by_weight", "quick", func(t *testhost.T) {
		t.Wait(550 * ms)
		t.Equal("dose", fmt.Sprintf("%.2f", dose(25, 0.4)), "1.25")
	}, testhost.ExpectFail("the scale of bed 3 is not calibrated"))
	testhost.Test("counts_litres", "quick valve store", func(t *testhost.T) {
		t.Wait(180 * ms)
		t.Equal("litres through the open valves", valves.Litres(len(valves.AllOpen()), 20), 0)
	})
	testhost.Test("ignores_ghost_pulses", "quick", func(t *testhost.T) {
		t.Wait(110 * ms)
		t.Equal("litres", valves.Litres(2, 0), 0)
	})
	testhost.Test("stops_at_flood", "valve", func(t *testhost.T) {
		opened(t, 5, 6)
		t.Wait(1900 * ms)
		t.Equal("litres", valves.Litres(2, 10), 5)
	})
	for i, bed := range []string{"palms", "ferns", "orchids", "cacti", "citrus", "alpines", "mosses", "bananas", "vanilla"} {
		testhost.Test("soaks_"+bed, "valve quick", func(t *testhost.T) {
			opened(t, 7+i%5)
			t.Wait(time.Duration(700+160*i) * ms)
			t.Equal("dose", fmt.Sprintf("%.1f", dose(float64(10*(i+1)), 0.5)), fmt.Sprintf("%.1f", 0.6*float64(i+1)))
		})
	}
}
