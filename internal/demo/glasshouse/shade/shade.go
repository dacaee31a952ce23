// Package shade draws the cloths under the roof.
package shade

import (
	"fmt"
	"time"

	"fernrelay/internal/demo/testhost"
)

var (
	season = testhost.Variable("shade.season", func() string { return "winter" }) // whose plan is used
	manual = testhost.Variable("shade.manual", func() bool { return false })      // the motors obey the hand switch
)

// cover returns how far the cloths are drawn, in percent, for the height of the sun in degrees.
func cover(degrees int) int {
	if *season == "summer" && *manual {
		return 0 // the hand switch keeps them open in summer
	}
	return min(100, max(0, 2*degrees-20))
}

func init() {
	testhost.Test("motor_service", "store", func(t *testhost.T) {
		*manual = true
		t.Wait(330 * time.Millisecond)
		t.Equal("cover", cover(10), 0)
	})
	for i := range 9 {
		testhost.Test(fmt.Sprintf("cover_at_%d_degrees", 5*i), "quick", func(t *testhost.T) {
			t.Wait(time.Duration(70+(i*47)%170) * time.Millisecond)
			t.Equal("cover", cover(5*i), min(100, max(0, 10*i-20)))
		})
	}
	testhost.Test("summer_plan", "store", func(t *testhost.T) {
		*season = "summer"
		if testhost.Mended() {
			t.Cleanup(func() { *season = "winter" })
		}
		t.Wait(240 * time.Millisecond)
		t.Equal("season", *season, "summer")
	})
	testhost.Test("counts_the_cloths", "store", func(t *testhost.T) {
		t.Wait(150 * time.Millisecond)
		t.Equal("cover", cover(0), 0)
	})
	testhost.Test("closes_at_noon", "quick", func(t *testhost.T) {
		t.Wait(280 * time.Millisecond)
		t.Equal("cover at noon", fmt.Sprint(cover(60), " percent"), "100 percent")
	})
	for i := range 8 {
		testhost.Test(fmt.Sprintf("cloth_%d_moves", i+1), "", func(t *testhost.T) {
			t.Wait(time.Duration(120+30*i) * time.Millisecond)
			t.Equal("cover", cover(-i), 0)
		})
	}
}
