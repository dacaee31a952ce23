package catalog

import "math/bits"

// Set is a set of tests, by their index in a catalog.
type Set []uint64

// NewSet makes an empty set for a catalog of n tests.
func NewSet(n int) Set { return make(Set, (n+63)/64) }

// Has reports whether test i is in the set.
func (s Set) Has(i int) bool { return s[i/64]&(1<<(i%64)) != 0 }

// Add adds test i to the set.
func (s Set) Add(i int) { s[i/64] |= 1 << (i % 64) }

// AddRange adds n tests from first on to the set.
func (s Set) AddRange(first, n int) {
	for i := first; i < first+n; {
		if i%64 == 0 && first+n-i >= 64 {
			s[i/64] = ^uint64(0)
			i += 64
			continue
		}
		s.Add(i)
		i++
	}
}

// Len counts the tests in the set.
func (s Set) Len() int {
	n := 0
	for _, word := range s {
		n += bits.OnesCount64(word)
	}
	return n
}

// And, Or and AndNot change the set to what both hold, either holds, or the other does not.
func (s Set) And(other Set) {
	for i := range s {
		s[i] &= other[i]
	}
}

func (s Set) Or(other Set) {
	for i := range s {
		s[i] |= other[i]
	}
}

func (s Set) AndNot(other Set) {
	for i := range s {
		s[i] &^= other[i]
	}
}

// From returns up to n members in order, after skipping skip of them.
func (s Set) From(skip, n int) []int {
	var members []int
	for i, word := range s {
		count := bits.OnesCount64(word)
		if skip >= count {
			skip -= count
			continue
		}
		for ; word != 0 && len(members) < n; word &= word - 1 {
			if skip > 0 {
				skip--
				continue
			}
			members = append(members, i*64+bits.TrailingZeros64(word))
		}
		if len(members) >= n {
			break
		}
	}
	return members
}

// All yields every member in order.
func (s Set) All(yield func(i int) bool) {
	for at, word := range s {
		for ; word != 0; word &= word - 1 {
			if !yield(at*64 + bits.TrailingZeros64(word)) {
				return
			}
		}
	}
}
