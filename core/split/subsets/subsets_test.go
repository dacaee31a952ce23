package subsets

import (
	"math/bits"
	"math/rand/v2"
	"testing"
)

// TestOf compares with every subset, counted one by one.
func TestOf(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 9))
	for range 200 {
		lengths := make([]int64, 12)
		for i := range lengths {
			lengths[i] = int64(random.IntN(20)) // with equal ones, and 0
		}
		items := random.Perm(len(lengths))[:random.IntN(9)]
		got := Of(lengths, items)
		if len(got) != 1<<len(items) {
			t.Fatalf("%d subsets of %d items", len(got), len(items))
		}
		seen := map[uint32]bool{}
		for i, s := range got {
			sum := int64(0)
			for set := s.Set; set != 0; set &= set - 1 {
				sum += lengths[items[bits.TrailingZeros32(set)]]
			}
			if sum != s.Sum || seen[s.Set] || i > 0 && s.Sum < got[i-1].Sum {
				t.Fatalf("subset %b sums to %d, not %d, after %d", s.Set, sum, s.Sum, got[max(0, i-1)].Sum)
			}
			seen[s.Set] = true
		}
	}
}
