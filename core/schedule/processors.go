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

// Piece is what a worker does without a break.
type Piece struct {
	Seconds float64 // that it takes alone
	Share   float64 // of a processor, or processors, that it keeps busy then
}

// SideBySide plays what workers do, each piece after piece, on a number of processors, at the Paces of the pieces that run side by side.
// It calls ended at the end of each piece, in the order of their ends, with its worker and its place, both from 0, and the time in
// seconds since the start.
//
// Two workers with a piece of 3 seconds each, which both keep a processor busy, need 6 seconds on one processor. If the piece of the
// second takes 1 second, that ends after 2, and the other, which then has 2 seconds left, after 4.
func SideBySide(workers [][]Piece, processors int, ended func(worker, piece int, at float64)) {
	at, left := make([]int, len(workers)), make([]float64, len(workers))
	for w, pieces := range workers {
		if len(pieces) > 0 {
			left[w] = pieces[0].Seconds
		}
	}
	var active []int
	var shares []float64
	for now := 0.0; ; {
		active, shares = active[:0], shares[:0]
		for w, pieces := range workers {
			if at[w] < len(pieces) {
				active, shares = append(active, w), append(shares, pieces[at[w]].Share)
			}
		}
		if len(active) == 0 {
			return
		}
		pace, step := Paces(shares, processors), math.Inf(1)
		for k, w := range active {
			step = min(step, left[w]*pace[k])
		}
		now += step
		for k, w := range active {
			if left[w] -= step / pace[k]; left[w] > negligible {
				continue
			}
			ended(w, at[w], now)
			if at[w]++; at[w] < len(workers[w]) {
				left[w] = workers[w][at[w]].Seconds
			}
		}
	}
}

// negligible is a time, in seconds, that is due to rounding.
const negligible = 1e-12
