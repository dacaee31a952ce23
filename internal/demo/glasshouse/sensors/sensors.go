// Package sensors reads the rain, the light and the soil.
package sensors

import (
	"fmt"
	"time"

	"fernrelay/internal/demo/glasshouse/units"
	"fernrelay/internal/demo/testhost"
)

// cistern returns the litres that a roof brings, for its square metres and the reading of the rain gauge in the
// default unit. The first two millimetres wet the glass.
func cistern(reading, roof float64) float64 {
	return roof * max(0, units.Millimetres(reading)-2)
}

func init() {
	testhost.Test("rain_fills_the_cistern", "store", func(t *testhost.T) {
		t.Wait(770 * time.Millisecond)
		t.Equal("litres in the cistern", fmt.Sprintf("%.0f", cistern(12, 85)), "850")
	})
	testhost.Test("reads_the_sun", "quick clock", func(t *testhost.T) {
		t.Wait(130 * time.Millisecond)
		t.Equal("a dry roof", cistern(1, 85) == 0 || units.Default() != "millimetres", true)
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
