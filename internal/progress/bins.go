package progress

import "fernrelay/core/run"

// Bins counts the tests of a crossing that ended in equal parts of its time.
type Bins struct {
	width float64 // in seconds
	Done  []int
	bad   []int
}

// MostBins bounds the parts; if the crossing takes longer, parts become twice as long.
const MostBins = 1024

// Add counts a test that ended some seconds after the crossing began.
func (b *Bins) Add(at float64, o run.Outcome) {
	if b.width == 0 {
		b.width = 1.0 / 64
	}
	for at = max(0, at); at/b.width >= MostBins; b.width *= 2 {
		b.Done, b.bad = joined(b.Done), joined(b.bad)
	}
	n := int(at / b.width)
	for len(b.Done) <= n {
		b.Done, b.bad = append(b.Done, 0), append(b.bad, 0)
	}
	b.Done[n]++
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

// Between counts the tests that ended from one second on and before another.
func (b *Bins) Between(from, to float64) (done, bad int) {
	if b.width == 0 {
		return 0, 0
	}
	for i := max(0, int(from/b.width)); i < min(len(b.Done), int(to/b.width)); i++ {
		done, bad = done+b.Done[i], bad+b.bad[i]
	}
	return done, bad
}
