package tui

import "fernrelay/core/run"

// bins counts the tests of a crossing that ended in equal parts of its time.
type bins struct {
	width float64 // in seconds
	done  []int
	bad   []int
}

// mostBins bounds the parts; if the crossing takes longer, parts become twice as long.
const mostBins = 1024

// add counts a test that ended some seconds after the crossing began.
func (b *bins) add(at float64, o run.Outcome) {
	if b.width == 0 {
		b.width = 1.0 / 64
	}
	for at = max(0, at); at/b.width >= mostBins; b.width *= 2 {
		b.done, b.bad = joined(b.done), joined(b.bad)
	}
	n := int(at / b.width)
	for len(b.done) <= n {
		b.done, b.bad = append(b.done, 0), append(b.bad, 0)
	}
	b.done[n]++
	if o.Bad() {
		b.bad[n]++
	}
}

// joined adds up each two neighbours.
func joined(counts []int) []int {
	for i, n := range counts {
		if counts[i] = 0; i%2 == 0 {
			counts[i/2] = n
		} else {
			counts[i/2] += n
		}
	}
	return counts[:(len(counts)+1)/2]
}

// between counts the tests that ended from one second on and before another.
func (b *bins) between(from, to float64) (done, bad int) {
	if b.width == 0 {
		return 0, 0
	}
	for i := max(0, int(from/b.width)); i < min(len(b.done), int(to/b.width)); i++ {
		done, bad = done+b.done[i], bad+b.bad[i]
	}
	return done, bad
}
