package order

import (
	"slices"

	"fernrelay/core/catalog"
)

// cover sorts the groups, and the tests of each group, into an order of their series.
func (o Order) cover(tests []catalog.Test) []catalog.Test {
	parts := groups(tests)
	out := make([]catalog.Test, 0, len(tests))
	for _, i := range neighbours(len(parts), o.seed) {
		group := parts[i]
		mixed := make([]catalog.Test, 0, len(group))
		for _, j := range neighbours(len(group), o.seed) {
			mixed = append(mixed, group[j])
		}
		out = append(out, seedsLast(mixed)...)
	}
	return out
}

// neighbours returns one of the orders of 0 to n-1 in which each number comes right before each other one: once in
// n orders if n is even, twice in 2n if it is odd (Williams, "Experimental designs balanced for the estimation of
// residual effects of treatments", 1949).
func neighbours(n int, number uint64) []int {
	row := make([]int, n)
	if n == 0 {
		return row
	}
	shift := int(number % uint64(n))
	for i := range row {
		step := (i + 1) / 2 // 0, 1, n-1, 2, n-2, …
		if i%2 == 0 {
			step = (n - step) % n
		}
		row[i] = (step + shift) % n
	}
	if n%2 == 1 && number/uint64(n)%2 == 1 {
		slices.Reverse(row)
	}
	return row
}
