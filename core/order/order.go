// Package order sorts tests into the order in which they run.
//
//	rule, err := order.Parse("seed:7")
//	tests, err = rule.Apply(tests)
//	tests, err = order.Settle(tests) // needed tests first
package order

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"

	"fernrelay/core/catalog"
)

// Order is a rule that sorts tests. Its zero value is Declared.
type Order struct {
	kind string
	seed uint64
	ids  []string
}

// Declared keeps the order of the catalog.
var Declared = Order{}

// Listed is the order of the given IDs; tests that are not listed are left out.
func Listed(ids []string) Order { return Order{kind: "listed", ids: ids} }

// Cover is one of a series of orders in which every test of a group comes before every other one: number counts
// them from 0, and the series repeats after as many orders as a group has tests, or twice as many if that number
// is odd.
func Cover(number uint64) Order { return Order{kind: "cover", seed: number} }

// Parse reads declared, reverse, seed:N or cover:N.
func Parse(text string) (Order, error) {
	kind, number, _ := strings.Cut(text, ":")
	switch {
	case text == "declared":
		return Declared, nil
	case text == "reverse":
		return Order{kind: "reverse"}, nil
	case kind == "seed", kind == "cover":
		n, err := strconv.ParseUint(number, 10, 64)
		if err != nil {
			return Order{}, fmt.Errorf("the order is %q: %s: takes a whole number, as in %s:7", text, kind, kind)
		}
		return Order{kind: kind, seed: n}, nil
	}
	return Order{}, fmt.Errorf("the order is %q: declared, reverse, seed:N, cover or file:FILE is expected", text)
}

// IsDeclared reports whether the catalog's order is kept, so that a scheduler
// may put long groups first.
func (o Order) IsDeclared() bool { return o.kind == "" }

// Apply returns the tests in this order, and does not change its argument. A listed ID that no test has is an
// error.
func (o Order) Apply(tests []catalog.Test) ([]catalog.Test, error) {
	switch o.kind {
	case "reverse":
		return regroup(tests, slices.Reverse), nil
	case "seed":
		random := rand.New(rand.NewPCG(o.seed, 0))
		return regroup(tests, func(members []catalog.Test) {
			random.Shuffle(len(members), func(i, j int) { members[i], members[j] = members[j], members[i] })
		}), nil
	case "cover":
		return o.cover(tests), nil
	case "listed":
		return o.listed(tests)
	}
	return tests, nil
}

// regroup applies a reordering to the whole and brings each group together again at the place of its first test.
func regroup(tests []catalog.Test, reorder func([]catalog.Test)) []catalog.Test {
	mixed := slices.Clone(tests)
	reorder(mixed)
	out := make([]catalog.Test, 0, len(mixed))
	for _, group := range groups(mixed) {
		out = append(out, seedsLast(group)...)
	}
	return out
}

// groups parts tests into their groups, in the order of their first tests.
func groups(tests []catalog.Test) [][]catalog.Test {
	type place struct{ suite, group string }
	var parts [][]catalog.Test
	at := map[place]int{}
	for _, t := range tests {
		p := place{t.Suite, t.Group}
		i, known := at[p]
		if !known {
			i = len(parts)
			at[p] = i
			parts = append(parts, nil)
		}
		parts[i] = append(parts[i], t)
	}
	return parts
}

// seedsLast lets fuzz seeds close their group: the toolchain runs them after the
// tests, so only there is the order that of one process.
func seedsLast(group []catalog.Test) []catalog.Test {
	slices.SortStableFunc(group, func(a, b catalog.Test) int { return fuzzLast(a) - fuzzLast(b) })
	return group
}

func fuzzLast(t catalog.Test) int {
	if t.Kind == catalog.KindFuzz {
		return 1
	}
	return 0
}

func (o Order) listed(tests []catalog.Test) ([]catalog.Test, error) {
	byID := make(map[string]int, len(tests))
	for i, t := range tests {
		byID[t.ID] = i
	}
	out := make([]catalog.Test, 0, len(o.ids))
	for n, id := range o.ids {
		i, ok := byID[id]
		if !ok {
			return nil, fmt.Errorf("line %d of the order names %q, which is not among the picked tests, or is there twice", n+1, id)
		}
		delete(byID, id)
		out = append(out, tests[i])
	}
	return out, nil
}
