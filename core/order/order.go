// Package order sorts tests into the order in which they run.
//
//	rule, err := order.Named(order.Shuffled, 7)
//	tests, err = rule.Apply(tests)
//	tests, err = order.Settle(tests) // needed tests first
package order

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"fernrelay/core/catalog"
)

// The names of the orders.
const (
	AsWritten = "as-written"
	Backwards = "backwards"
	Shuffled  = "shuffled"
	NewPairs  = "new-pairs"
	Troubled  = "troubled"
)

// kind is an order that can be asked for by name.
type kind struct {
	name   string
	seeded bool                                               // a number says which of many orders it is
	apply  func(o Order, tests []catalog.Test) []catalog.Test // nil if it keeps the order of the catalog
}

// kinds is the registry of the orders.
var kinds = []kind{
	{AsWritten, false, nil},
	{Backwards, false, func(_ Order, tests []catalog.Test) []catalog.Test { return regroup(tests, slices.Reverse) }},
	{Shuffled, true, Order.shuffle},
	{NewPairs, true, Order.cover},
	{Troubled, false, nil}, // the ledger knows the ranks of its tests
}

// Names lists the names of the orders.
func Names() []string {
	names := make([]string, len(kinds))
	for i, k := range kinds {
		names[i] = k.name
	}
	return names
}

// An Order is a rule that sorts tests. Its zero value keeps them as written.
type Order struct {
	kind  kind
	seed  uint64
	from  string // the file that has the IDs
	ids   []string
	loose bool // IDs without a test are left out
}

// Listed is the order of the IDs that a file lists: an ID without a test is an error. Tests that are not listed are left out.
func Listed(file string, ids []string) Order { return Order{from: file, ids: ids} }

// Recorded is the order of the tests in a report. Tests that are not in both are left out.
func Recorded(file string, ids []string) Order { return Order{from: file, ids: ids, loose: true} }

// Named returns the order with a name. Of Shuffled, seed is any number. Of NewPairs, seed counts, from 0, a series of orders
// in which every test of a group runs right before every other one; it repeats after as many orders as a group has tests,
// or twice as many if that number is odd. Other orders ignore seed.
func Named(name string, seed uint64) (Order, error) {
	for _, k := range kinds {
		if k.name == name {
			return Order{kind: k, seed: seed}, nil
		}
	}
	if flags := flags(name); flags != "" {
		return Order{}, fmt.Errorf("the order is %q, which is now %s", name, flags)
	}
	return Order{}, fmt.Errorf("the order is %q: %s is expected", name, strings.Join(Names(), ", "))
}

// IsSeeded reports whether the order with a name takes a seed.
func IsSeeded(name string) bool {
	return slices.ContainsFunc(kinds, func(k kind) bool { return k.name == name && k.seeded })
}

// earlier has, for the orders of earlier versions, the words of today. A seed or a file followed their names after a colon.
// They are read in ledgers, journals and reports, and refused on the command line with the flags of today.
var earlier = map[string]string{"declared": AsWritten, "reverse": Backwards, "seed": Shuffled, "random": Shuffled, "cover": NewPairs, "file": from}

// from begins the text of an order that a file has.
const from = "from"

// Words returns an order as a run of any version keeps it, in the words of today.
func Words(kept string) string {
	name, rest, _ := strings.Cut(kept, ":")
	if today, ok := earlier[name]; ok {
		return strings.TrimSpace(today + " " + rest)
	}
	return kept
}

// flags returns the flags of today for an order of an earlier version, or "".
func flags(kept string) string {
	name, seed, _ := strings.Cut(Words(kept), " ")
	switch {
	case name == kept:
		return ""
	case name == from:
		return "--order-from " + cmp.Or(seed, "FILE")
	case seed != "":
		return "--order " + name + " --seed " + seed
	}
	return "--order " + name
}

// String returns the order as a run keeps it.
func (o Order) String() string {
	switch {
	case o.from != "":
		return from + " " + o.from
	case o.kind.seeded:
		return fmt.Sprint(o.kind.name, " ", o.seed)
	}
	return cmp.Or(o.kind.name, AsWritten)
}

// KeepsWritten reports whether the catalog's order is kept, so that a scheduler
// may put long groups first.
func (o Order) KeepsWritten() bool { return o.kind.apply == nil && o.from == "" }

// Apply returns the tests in this order, and does not change its argument. A listed ID that no test has is an
// error.
func (o Order) Apply(tests []catalog.Test) ([]catalog.Test, error) {
	switch {
	case o.from != "":
		return o.listed(tests)
	case o.kind.apply != nil:
		return o.kind.apply(o, tests), nil
	}
	return tests, nil
}

func (o Order) shuffle(tests []catalog.Test) []catalog.Test {
	random := rand.New(rand.NewPCG(o.seed, 0))
	return regroup(tests, func(members []catalog.Test) {
		random.Shuffle(len(members), func(i, j int) { members[i], members[j] = members[j], members[i] })
	})
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
		if !ok && o.loose {
			continue
		}
		if !ok {
			return nil, fmt.Errorf("line %d of the order names %q, which is not among the picked tests, or is there twice", n+1, id)
		}
		delete(byID, id)
		out = append(out, tests[i])
	}
	return out, nil
}
