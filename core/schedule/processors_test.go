package schedule

import (
	"math"
	"math/rand/v2"
	"testing"
)

// TestPaces compares the paces with a simulation in which tests compute and wait in turn, for random times.
func TestPaces(t *testing.T) {
	for _, c := range []struct {
		shares     []float64
		processors int
		within     float64
	}{
		{[]float64{1, 1, 1, 1, 1, 1, 1, 1}, 2, 0.02},
		{[]float64{1, 1}, 2, 0},
		{[]float64{0, 0, 0, 0}, 1, 0},
		{[]float64{1, 0, 0, 0}, 1, 0.02},
		{[]float64{1, 1, 1, 1, 0, 0, 0, 0}, 2, 0.02},
		{[]float64{0.5, 0.5, 0.5, 0.5}, 2, 0.1},
		{[]float64{0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5}, 2, 0.1},
		{[]float64{1, 0.2, 0.2, 0.2, 0.2}, 1, 0.2},
		{[]float64{0.9, 0.7, 0.5, 0.3, 0.1, 1, 1, 1}, 4, 0.1},
	} {
		got, want := Paces(c.shares, c.processors), simulatedPaces(c.shares, c.processors)
		for i := range got {
			if math.Abs(got[i]/want[i]-1) > c.within+1e-3 {
				t.Errorf("%v on %d processors: paces %.2f, simulated %.2f", c.shares, c.processors, got, want)
				break
			}
		}
	}
}

// simulatedPaces plays tests that compute and wait in turn on processors that all computing ones share equally.
func simulatedPaces(shares []float64, processors int) []float64 {
	const span, step = 4000.0, 0.01
	random := rand.New(rand.NewPCG(1, 2))
	computing, left, progress := make([]bool, len(shares)), make([]float64, len(shares)), make([]float64, len(shares))
	for now := 0.0; now < span; now += step {
		busy := 0
		for i, share := range shares {
			if left[i] <= 0 {
				computing[i] = !computing[i]
				mean := share
				if !computing[i] {
					mean = 1 - share
				}
				left[i] = random.ExpFloat64() * mean
			}
			if computing[i] {
				busy++
			}
		}
		speed := min(1, float64(processors)/max(1, float64(busy)))
		for i := range shares {
			done := step
			if computing[i] {
				done *= speed
			}
			left[i] -= done
			progress[i] += done
		}
	}
	paces := make([]float64, len(shares))
	for i := range paces {
		paces[i] = span / progress[i]
	}
	return paces
}
