package order

import (
	"slices"

	"fernrelay/core/catalog"
)

// Coverage records which ordered pairs of a group's tests have run in one process, one right before the other and
// one anywhere before the other. It grows with the group.
type Coverage struct {
	Tests      []string // names; a test keeps its place
	Neighbours Pairs
	Before     Pairs

	place map[string]int
}

// Pairs is a set of ordered pairs of small numbers: the bit of a pair does not depend on how many there are
// (Rosenberg and Strong's pairing function, 1972).
type Pairs []byte

func pairBit(a, b int) int {
	if a < b {
		return b*b + a
	}
	return a*a + a + b
}

func (p *Pairs) add(a, b int) {
	bit := pairBit(a, b)
	for len(*p) <= bit/8 {
		*p = append(*p, make([]byte, bit/8+1-len(*p))...)
	}
	(*p)[bit/8] |= 1 << (bit % 8)
}

// Has reports whether a pair is in the set.
func (p Pairs) Has(a, b int) bool {
	bit := pairBit(a, b)
	return bit/8 < len(p) && p[bit/8]>>(bit%8)&1 == 1
}

// placeOf returns the number of a test, and adds it if it is new.
func (c *Coverage) placeOf(name string) int {
	if c.place == nil {
		c.place = make(map[string]int, len(c.Tests))
		for i, known := range c.Tests {
			c.place[known] = i
		}
	}
	at, ok := c.place[name]
	if !ok {
		at = len(c.Tests)
		c.place[name] = at
		c.Tests = append(c.Tests, name)
	}
	return at
}

// Add adds the pairs of tests that ran one after the other in one process.
func (c *Coverage) Add(names []string) {
	places := c.places(names)
	for i, at := range places {
		for _, before := range places[:i] {
			if before != at {
				c.Before.add(before, at)
			}
		}
		if i > 0 && places[i-1] != at {
			c.Neighbours.add(places[i-1], at)
		}
	}
}

func (c *Coverage) places(names []string) []int {
	places := make([]int, len(names))
	for i, name := range names {
		places[i] = c.placeOf(name)
	}
	return places
}

// gain counts the pairs that an order of tests, given by their places, would add.
func (c *Coverage) gain(places []int) int {
	gain := 0
	for i, at := range places {
		if i > 0 && !c.Neighbours.Has(places[i-1], at) {
			gain++
		}
		for _, before := range places[:i] {
			if !c.Before.Has(before, at) {
				gain++
			}
		}
	}
	return gain
}

// rowsTried bounds the orders of a group that are compared.
const rowsTried = 64

// Revealing sorts tests into the order that adds most to the pairs that have run: for each group the best of its
// declared order, its reverse and the orders of its neighbour cover. of returns what has run of a group, nil if
// the group is not followed. gain is the number of pairs that the order adds.
func Revealing(tests []catalog.Test, of func(group string) *Coverage, number uint64) (ordered []catalog.Test, gain int) {
	parts := groups(tests)
	for _, i := range neighbours(len(parts), number) {
		group := parts[i]
		c := of(group[0].Suite + ":" + group[0].Group)
		if c == nil {
			ordered = append(ordered, group...)
			continue
		}
		best, most := group, 0
		for _, candidate := range candidates(group) {
			places := make([]int, len(candidate))
			for j, t := range candidate {
				places[j] = c.placeOf(t.Name)
			}
			if g := c.gain(places); g > most {
				best, most = candidate, g
			}
		}
		ordered, gain = append(ordered, best...), gain+most
	}
	return ordered, gain
}

// candidates are the orders of a group that are weighed.
func candidates(group []catalog.Test) [][]catalog.Test {
	reversed := slices.Clone(group)
	slices.Reverse(reversed)
	all := [][]catalog.Test{group, seedsLast(reversed)}
	rows := 2 * len(group)
	for n := range min(rows, rowsTried) {
		row := make([]catalog.Test, 0, len(group))
		for _, j := range neighbours(len(group), uint64(n*max(1, rows/rowsTried))) {
			row = append(row, group[j])
		}
		all = append(all, seedsLast(row))
	}
	return all
}

// Gauge is the number of ordered pairs, and of those that have run.
type Gauge struct{ Neighbours, Before, Pairs int }

// Of counts, among the tests named, the pairs that have run.
func (c *Coverage) Of(names []string) Gauge {
	g := Gauge{Pairs: len(names) * (len(names) - 1)}
	places := c.places(names)
	for _, first := range places {
		for _, second := range places {
			if c.Neighbours.Has(first, second) {
				g.Neighbours++
			}
			if c.Before.Has(first, second) {
				g.Before++
			}
		}
	}
	return g
}

// Add adds the pairs of another group.
func (g *Gauge) Add(other Gauge) {
	g.Neighbours += other.Neighbours
	g.Before += other.Before
	g.Pairs += other.Pairs
}
