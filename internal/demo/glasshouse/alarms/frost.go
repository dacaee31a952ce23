// Package alarms wakes the gardener.
package alarms

import (
	"fmt"
	"time"

	"fernrelay/internal/demo/glasshouse/clock"
	"fernrelay/internal/demo/testhost"
)

// lamp is the colour of the alarm lamp at a temperature in degrees Celsius.
func lamp(celsius float64) string {
	switch {
	case celsius < 1:
		return "red"
	case celsius < 4:
		return "amber"
	}
	return "green"
}

func init() {
	testhost.Test("frost_at_dawn", "valve clock", func(t *testhost.T) {
		t.Wait(310 * time.Millisecond)
		alarm := fmt.Sprintf("alarm at %s lamp %s, vents shut", clock.Show(clock.At(clock.Dawn)), lamp(2))
		t.Equal("the log", alarm, "alarm at 05:40 lamp amber, vents shut")
	})
	testhost.Test("sleeps_by_day", "clock", func(t *testhost.T) {
		t.Wait(200 * time.Millisecond)
		t.Equal("lamp", lamp(15), "green")
	})
	for i := range 13 {
		testhost.Test(fmt.Sprintf("lamp_at_%d_tenths", 5*i), "", func(t *testhost.T) {
			t.Wait(time.Duration(140+(i*29)%190) * time.Millisecond)
			want := "green"
			if i < 2 {
				want = "red"
			} else if i < 8 {
				want = "amber"
			}
			t.Equal("lamp", lamp(0.5*float64(i)), want)
		})
	}
}
