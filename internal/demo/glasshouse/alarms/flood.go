package alarms

import (
	"fmt"
	"time"

	"fernrelay/internal/demo/testhost"
)

// rising reports whether levels in millimetres rise from end to end.
func rising(levels ...int) bool {
	for i := 1; i < len(levels); i++ {
		if levels[i] < levels[i-1] {
			return false
		}
	}
	return len(levels) > 1 && levels[0] < levels[len(levels)-1]
}

func init() {
	testhost.Test("shuts_the_main_valve", "quick valve", func(t *testhost.T) {
		t.Wait(260 * time.Millisecond)
		t.Equal("rising", rising(10, 20, 35), true)
	})
	for i := range 11 {
		tags := "quick"
		if i > 8 {
			tags = "quick store"
		}
		testhost.Test(fmt.Sprintf("level_at_%d_mm", 10*i), tags, func(t *testhost.T) {
			t.Wait(time.Duration(80+(i*41)%150) * time.Millisecond)
			t.Equal("rising", rising(0, 10*i), i > 0)
		})
	}
}
