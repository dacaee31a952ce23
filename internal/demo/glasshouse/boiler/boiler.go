// Package boiler heats the pipes in winter.
package boiler

import (
	"fmt"
	"time"

	"fernrelay/internal/demo/testhost"
)

// flow is the temperature of the water that leaves the boiler for a
// temperature outside, both in degrees Celsius.
func flow(outside float64) float64 { return min(80, max(25, 55-1.5*outside)) }

// hysteresis decides whether the burner runs.
func hysteresis(burning bool, water, wanted float64) bool {
	if burning {
		return water < wanted+3
	}
	return water < wanted-3
}

func init() {
	testhost.Test("relights", "clock", func(t *testhost.T) {
		t.Step("cools down", func() {
			t.Wait(900 * time.Millisecond)
			t.Equal("burner", hysteresis(false, 50, 55), true)
		})
		t.Step("catches fire", func() {
			t.Wait(700 * time.Millisecond)
			t.Equal("burner", hysteresis(true, 57, 55), true)
		})
	})
	testhost.Test("talks_to_the_bus", "bus", func(t *testhost.T) {
		t.Wait(640 * time.Millisecond)
		t.Equal("flow", flow(0), 55)
	})
	testhost.Test("keeps_the_hour", "clock", func(t *testhost.T) {
		t.Wait(350 * time.Millisecond)
		t.Equal("flow", flow(20), 25)
	})
	for i := range 11 {
		outside := float64(-20 + 4*i)
		tags := "quick"
		if outside < -4 {
			tags = "quick frost"
		}
		testhost.Test(fmt.Sprintf("flow_at_%g_degrees", outside), tags, func(t *testhost.T) {
			t.Wait(time.Duration(120+(i*53)%200) * time.Millisecond)
			t.Equal("flow", flow(outside), min(80, max(25, 55-1.5*outside)))
		})
		testhost.Test(fmt.Sprintf("holds_flow_%d", 40+2*i), "", func(t *testhost.T) {
			t.Wait(time.Duration(160+(i*71)%260) * time.Millisecond)
			wanted := float64(40 + 2*i)
			t.Equal("burner below", hysteresis(false, wanted-4, wanted), true)
			t.Equal("burner above", hysteresis(true, wanted+4, wanted), false)
		})
	}
}
