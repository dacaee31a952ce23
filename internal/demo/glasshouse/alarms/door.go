package alarms

import (
	"time"

	"fernrelay/internal/demo/testhost"
)

// patience returns how long a door may be open, in minutes, by the cold outside.
func patience(celsius int) int { return max(1, 10+celsius/2) }

func init() {
	for i, door := range []string{"north", "south", "palm_house", "boiler_room", "seedbank", "gallery", "lorry", "garden", "kiosk", "cellar"} {
		tags := ""
		if i < 3 {
			tags = "quick"
		}
		testhost.Test("calls_for_"+door+"_door", tags, func(t *testhost.T) {
			t.Wait(time.Duration(90+22*i) * time.Millisecond)
			t.Equal("patience", patience(-2*i), 10-i)
		})
	}
}
