// Package misting keeps the air of the fern house wet.
package misting

import (
	"fmt"
	"os"
	"time"

	"fernrelay/internal/demo/glasshouse/clock"
	"fernrelay/internal/demo/glasshouse/store"
	"fernrelay/internal/demo/testhost"
)

// bursts returns how many bursts of mist lift the humidity from one figure to another, in percent; each lifts it
// by 4.
func bursts(from, to int) int { return max(0, (to-from+3)/4) }

func init() {
	testhost.Test("fog_night", "frost nightly clock", func(t *testhost.T) {
		clock.Advance(3 * time.Hour) // to be in the night at once
		t.Wait(620 * time.Millisecond)
		t.Equal("bursts", bursts(60, 92), 8)
	})
	testhost.Test("starts_below_60_percent", "quick", func(t *testhost.T) {
		t.Wait(80 * time.Millisecond)
		t.Equal("bursts", bursts(58, 60), 1)
	})
	testhost.Test("freezes_no_fronds", "quick frost", func(t *testhost.T) {
		t.Wait(140 * time.Millisecond)
		t.Equal("bursts", bursts(95, 90), 0)
	})
	for i := range 20 {
		testhost.Test(fmt.Sprintf("holds_%d_percent", 50+2*i), "quick", func(t *testhost.T) {
			t.Wait(time.Duration(90+(i*37)%160) * time.Millisecond)
			t.Equal("bursts", bursts(50, 50+2*i), (2*i+3)/4)
			wanted := fmt.Sprint(50 + 2*i)
			if os.Getenv("GLASS_SEASON") == "summer" {
				wanted += ".5" // the air is measured more finely when it is dry
			}
			t.Check(store.Put("wanted", wanted))
			noted, err := store.Get("wanted")
			t.Check(err)
			t.Equal("noted percent", noted, wanted)
		})
	}
}
