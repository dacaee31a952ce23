package history

import (
	"fmt"
	"math"
)

// Clock writes seconds as minutes and seconds: 0:33, 1:02:33 from an hour on, and what is less than a second as 0.84 s.
func Clock(seconds float64) string {
	if seconds < 0.995 {
		return belowSecond(seconds)
	}
	s := int(math.Round(seconds))
	if s >= 3600 {
		return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%d:%02d", s/60, s%60)
}

// ClockTenths writes seconds as Clock does, with tenths between a second and an hour: 0:33.1.
func ClockTenths(seconds float64) string {
	if seconds < 0.995 || seconds >= 3600 {
		return Clock(seconds)
	}
	tenths := int(math.Round(seconds * 10))
	return fmt.Sprintf("%d:%02d.%d", tenths/600, tenths/10%60, tenths%10)
}

func belowSecond(seconds float64) string {
	if seconds == 0 {
		return "0 s"
	}
	return Short(seconds)
}

// Short writes the seconds of one test: <1 ms, 12 ms, 0.84 s, 14.8 s.
func Short(seconds float64) string {
	switch {
	case 0 < seconds && seconds < 0.0005:
		return "<1 ms"
	case seconds < 0.0995:
		return fmt.Sprintf("%.0f ms", seconds*1000)
	case seconds < 9.995:
		return fmt.Sprintf("%.2f s", seconds)
	case seconds < 599.5:
		return fmt.Sprintf("%.1f s", seconds)
	}
	return Clock(seconds)
}

// OfWhichEstimated says which part of a sum of expected times belongs to tests that were never measured; "" if it is
// not worth a word: below a tenth of a second, or a hundredth of the sum.
func OfWhichEstimated(sum, estimated float64) string {
	if estimated < max(0.05, sum/100) {
		return ""
	}
	return ", of which " + ClockTenths(estimated) + " estimated"
}
