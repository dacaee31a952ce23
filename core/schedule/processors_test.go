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

// TestSideBySide compares it with a plain reference that moves time on in small steps, for random workers, and holds that each piece
// ends once, in order.
func TestSideBySide(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for range 150 {
		processors := random.IntN(4) // 0 for always enough
		workers := make([][]Piece, random.IntN(5))
		for w := range workers {
			for range random.IntN(4) {
				workers[w] = append(workers[w], Piece{Seconds: float64(random.IntN(40)) / 10, Share: float64(random.IntN(4)) / 3})
			}
		}
		got, next, before := make([][]float64, len(workers)), make([]int, len(workers)), 0.0
		SideBySide(workers, processors, func(w, piece int, at float64) {
			if piece != next[w] || at < before-1e-9 {
				t.Fatalf("piece %d of worker %d ends at %g, after one at %g; piece %d is expected", piece, w, at, before, next[w])
			}
			next[w], before = piece+1, at
			got[w] = append(got[w], at)
		})
		want := steppedSideBySide(workers, processors)
		for w := range workers {
			if len(got[w]) != len(workers[w]) {
				t.Fatalf("%d pieces of worker %d end, of %d", len(got[w]), w, len(workers[w]))
			}
			for i := range got[w] {
				if math.Abs(got[w][i]-want[w][i]) > 0.05 {
					t.Fatalf("%v on %d processors: ends %v, in small steps %v", workers, processors, got, want)
				}
			}
		}
	}
}

// steppedSideBySide returns when each piece ends, in steps of a thousandth of a second.
func steppedSideBySide(workers [][]Piece, processors int) [][]float64 {
	const step = 0.001
	ends, at, done := make([][]float64, len(workers)), make([]int, len(workers)), make([]float64, len(workers))
	for now := 0.0; ; now += step {
		var active []int
		var shares []float64
		for w, pieces := range workers {
			for at[w] < len(pieces) && done[w] >= pieces[at[w]].Seconds-1e-9 {
				ends[w], done[w] = append(ends[w], now), 0
				at[w]++
			}
			if at[w] < len(pieces) {
				active, shares = append(active, w), append(shares, pieces[at[w]].Share)
			}
		}
		if len(active) == 0 {
			return ends
		}
		for i, pace := range Paces(shares, processors) {
			done[active[i]] += step / pace
		}
	}
}
