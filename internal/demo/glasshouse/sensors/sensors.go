// Package sensors reads the air and the soil.
package sensors

import (
	"fmt"
	"math"
	"time"

	"fernrelay/internal/demo/glasshouse/units"
	"fernrelay/internal/demo/testhost"
)

// dewPoint is the temperature at which a leaf gets wet, in degrees Celsius, by
// temperature in the default unit and relative humidity in percent (Magnus).
func dewPoint(reading, humidity float64) float64 {
	t := units.Celsius(reading)
	g := math.Log(humidity/100) + 17.62*t/(243.12+t)
	return 243.12 * g / (17.62 - g)
}

func init() {
	testhost.Test("dew_point_curve", "store", func(t *testhost.T) {
		t.Wait(770 * time.Millisecond)
		t.Equal("dew point", fmt.Sprintf("%.1f °C", dewPoint(22, 70)), "16.3 °C")
	})
	testhost.Test("reads_the_sun", "quick clock", func(t *testhost.T) {
		t.Wait(130 * time.Millisecond)
		t.Equal("dew point", dewPoint(20, 100) > 15 || units.Default() != "celsius", true)
	})
	for i := range 26 {
		tags := ""
		switch {
		case i < 4:
			tags = "quick"
		case i < 9:
			tags = "store"
		}
		testhost.Test(fmt.Sprintf("probe_%02d_answers", i+1), tags, func(t *testhost.T) {
			t.Wait(time.Duration(70+(i*43)%180) * time.Millisecond)
			t.Equal("answer", i%26, i)
		})
	}
}
