package schedule

import (
	"math"

	"fernrelay/core/catalog"
)

// Tests that run side by side on one machine share its processors. A test that keeps a share of a processor busy when
// it runs alone, from 0 for one that only waits, computes for a part of its time. That part takes longer by a factor if
// the tests that compute at the same time are more than the processors. Which tests do so at a moment is taken to be
// chance, each by the part of its time in which it computes or waits for a processor: the mean-field approximation of
// a closed queueing network (Kleinrock, "Queueing Systems", volume 2, 1976).

// Paces returns for tests that run side by side, given the shares of a processor that they use alone, how many times as
// long each takes on a number of processors; 0 means that there are always enough.
func Paces(shares []float64, processors int) []float64 {
	paces := make([]float64, len(shares))
	most := 0.0 // that can be wanted at once
	for i, share := range shares {
		paces[i] = 1
		if share > 0 {
			most += max(1, share)
		}
	}
	if processors == 0 || most <= float64(processors) {
		return paces
	}
	low, high := 1.0, most/float64(processors)*2 // of the factor by which computing slows down
	for range 30 {
		slowdown := (low + high) / 2
		used := 0.0
		for _, share := range shares {
			used += share / pace(share, slowdown)
		}
		if used > busy(shares, slowdown, processors) {
			low = slowdown
		} else {
			high = slowdown
		}
		if high-low < 1e-4 {
			break
		}
	}
	for i, share := range shares {
		paces[i] = pace(share, high)
	}
	return paces
}

// pace is how many times as long a test takes whose computing slows down by a factor.
func pace(share, slowdown float64) float64 {
	computing := min(1, share)
	return 1 - computing + computing*slowdown
}

// busy returns how many processors are busy on average if computing slows down by a factor.
func busy(shares []float64, slowdown float64, processors int) float64 {
	chance := make([]float64, processors+1) // by the number of processors that are wanted; the last for that or more
	chance[0] = 1
	for _, share := range shares {
		if share == 0 {
			continue
		}
		wanted := max(1, int(math.Round(share)))
		computes := min(1, share) * slowdown / pace(share, slowdown)
		for n := processors; n >= 0; n-- {
			moved := chance[n] * computes
			chance[n] -= moved
			chance[min(processors, n+wanted)] += moved
		}
	}
	mean := 0.0
	for n, p := range chance {
		mean += float64(n) * p
	}
	return mean
}

// shareOf returns the share of a processor that tests use together, one after the other.
func shareOf(tests []catalog.Test) float64 {
	used, seconds := 0.0, 0.0
	for i := range tests {
		used += tests[i].Share * tests[i].Expected
		seconds += tests[i].Expected
	}
	if seconds == 0 {
		return 0
	}
	return used / seconds
}
