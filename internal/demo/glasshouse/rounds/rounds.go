// Package rounds plans the walks of the gardeners.
package rounds

import (
	"time"

	"fernrelay/internal/demo/glasshouse/clock"
	"fernrelay/internal/demo/glasshouse/valves"
	"fernrelay/internal/demo/testhost"
)

// walk returns how long a round past a number of stations takes.
func walk(stations int) time.Duration { return time.Duration(stations) * 4 * time.Minute }

func init() {
	testhost.Test("night_watch", "clock nightly", func(t *testhost.T) {
		for _, hall := range []string{"palm house", "fern house", "orangery"} {
			t.Step(hall, func() { t.Wait(800 * time.Millisecond) })
		}
		t.Equal("end", clock.Show(walk(15)), "01:00")
	})
	for i, round := range []string{"morning", "noon", "evening"} {
		testhost.Test(round+"_valves", "valve quick", func(t *testhost.T) {
			t.Wait(time.Duration(420+90*i) * time.Millisecond)
			t.Equal("valves to look at", valves.Count/3*(i+1), 4*(i+1))
		})
	}
	testhost.Test("writes_the_book", "store", func(t *testhost.T) {
		t.Wait(520 * time.Millisecond)
		t.Equal("walk", walk(1), 4*time.Minute)
	})
	for i, hall := range []string{"palm_house", "fern_house", "orangery", "alpine_house", "seedbank", "cellar", "roof"} {
		testhost.Test("passes_"+hall, "", func(t *testhost.T) {
			t.Wait(time.Duration(310+70*i) * time.Millisecond)
			t.Equal("walk", walk(i+1).Minutes(), 4*(i+1))
		})
	}
}
