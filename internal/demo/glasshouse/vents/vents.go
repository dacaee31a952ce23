// Package vents opens the roof.
package vents

import (
	"fmt"
	"math/rand/v2"
	"time"

	"fernrelay/internal/demo/testhost"
)

// angle is how far the vents open, in degrees, by temperature in degrees Celsius
// and wind in metres a second.
func angle(celsius, wind float64) float64 {
	if wind > 17 {
		return 0
	}
	return min(60, max(0, 4*(celsius-18)))
}

func init() {
	testhost.Test("opens_in_gale", "", func(t *testhost.T) {
		// The wind gauge is read while it turns; gusts are as they are.
		t.Wait(240 * time.Millisecond)
		gust := 10 + 10*rand.Float64()
		t.Equal(fmt.Sprintf("angle in a gust of %.0f m/s", gust), angle(30, gust), 48)
	})
	testhost.Test("frost_keeps_them_shut", "quick frost", func(t *testhost.T) {
		t.Wait(90 * time.Millisecond)
		t.Equal("angle", angle(-3, 2), 0)
	})
	for i := range 15 {
		testhost.Test(fmt.Sprintf("angle_at_%d_degrees", 14+2*i), "quick", func(t *testhost.T) {
			t.Wait(time.Duration(60+(i*31)%140) * time.Millisecond)
			t.Equal("angle", angle(float64(14+2*i), 3), min(60, max(0, float64(8*i-16))))
		})
	}
}
