package order

import (
	"slices"

	"fernrelay/core/catalog"
)

// cover puts the groups, and the tests of each group, into an order of their series.
func (o Order) cover(tests []catalog.Test) []catalog.Test {
	type place struct{ suite, group string }
	var places []place
	members := map[place][]catalog.Test{}
	for _, t := range tests {
		at := place{t.Suite, t.Group}
		if members[at] == nil {
			places = append(places, at)
		}
		members[at] = append(members[at], t)
	}
	out := make([]catalog.Test, 0, len(tests))
	for _, i := range neighbours(len(places), o.seed) {
		group := members[places[i]]
		mixed := make([]catalog.Test, 0, len(group))
		for _, j := range neighbours(len(group), o.seed) {
			mixed = append(mixed, group[j])
		}
		slices.SortStableFunc(mixed, func(a, b catalog.Test) int { return fuzzLast(a) - fuzzLast(b) })
		out = append(out, mixed...)
	}
	return out
}

// neighbours gives one of the orders of 0 to n-1 in which each of them comes to stand
// right before each other one: once in n orders where n is even, twice in 2n where it
// is odd (Williams, "Experimental designs balanced for the estimation of residual
// effects of treatments", 1949).
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
