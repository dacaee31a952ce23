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

// has counts the pairs that an order of tests, given by their places, has and that are covered.
func (c *Coverage) has(places []int) int {
	n := 0
	for i, at := range places {
		if i > 0 && c.Neighbours.Has(places[i-1], at) {
			n++
		}
		for _, before := range places[:i] {
			if c.Before.Has(before, at) {
				n++
			}
		}
	}
	return n
}

// gain counts the pairs that an order would add.
func (c *Coverage) gain(tests []catalog.Test) int {
	n := len(tests)
	return max(0, n-1) + n*(n-1)/2 - c.has(c.placesOf(tests))
}

// rowsTried bounds the orders of a group that are compared.
const rowsTried = 64

// Shares has for each test of a group the set of those, by index, that may depend on what it changes, as far as their sources
// say.
type Shares []catalog.Set

// sharingWeight is how many other pairs a pair is worth of which the first may change what the second depends on.
const sharingWeight = 10

// Revealing sorts tests into the order that adds most to the pairs that have run: for each group the best of its
// declared order, its reverse and the orders of its neighbour cover, or an order of only such tests that share state, if that
// adds clearly more for each test. of returns what has run of a group, nil if the group is not followed; shares returns how its
// tests share state, nil if that is not known. gain is the number of pairs that the order adds.
func Revealing(tests []catalog.Test, of func(group string) *Coverage, shares func(group []catalog.Test) Shares, number uint64) (ordered []catalog.Test, gain int) {
	parts := groups(tests)
	for _, i := range neighbours(len(parts), number) {
		group := parts[i]
		c := of(group[0].GroupName())
		if c == nil {
			ordered = append(ordered, group...)
			continue
		}
		best, most := c.best(group)
		if s := shares(group); s != nil && most > 0 {
			best, most = c.sharing(group, s, best, most)
		}
		ordered, gain = append(ordered, best...), gain+most
	}
	return ordered, gain
}

// best returns the most revealing order of all tests of a group, and what it adds.
func (c *Coverage) best(group []catalog.Test) (best []catalog.Test, most int) {
	best = group
	for _, candidate := range candidates(group) {
		if g := c.gain(candidate); g > most {
			best, most = candidate, g
		}
	}
	return best, most
}

func (c *Coverage) placesOf(tests []catalog.Test) []int {
	places := make([]int, len(tests))
	for i := range tests {
		places[i] = c.placeOf(tests[i].Name)
	}
	return places
}

// clearlyMore is how many times as much as an order of all tests one of some must be worth, for each test.
const clearlyMore = 1.5

// sharing returns an order of tests that share state, and what it adds, if that is worth clearly more for each test than an
// order of all that adds a number of pairs.
func (c *Coverage) sharing(group []catalog.Test, shares Shares, all []catalog.Test, gain int) ([]catalog.Test, int) {
	places := c.placesOf(group)
	left := &Coverage{} // the pairs that share state and have not run
	p := newPaths(len(group))
	for i, others := range shares {
		for j := range others.All {
			if i == j {
				continue
			}
			if !c.Neighbours.Has(places[i], places[j]) {
				left.Neighbours.add(places[i], places[j])
				if p.free(i, j) && fuzzLast(group[i]) == fuzzLast(group[j]) {
					p.join(i, j)
				}
			}
			if !c.Before.Has(places[i], places[j]) {
				left.Before.add(places[i], places[j])
			}
		}
	}
	var some []catalog.Test
	for _, i := range p.joined() {
		some = append(some, group[i])
	}
	if len(some) == 0 {
		return all, gain
	}
	some = seedsLast(some)
	few := c.gain(some)
	worth := func(tests []catalog.Test, gain int) float64 {
		return float64(gain+(sharingWeight-1)*left.has(c.placesOf(tests))) / float64(len(tests))
	}
	if worth(some, few) < clearlyMore*worth(all, gain) {
		return all, gain
	}
	return some, few
}

// paths are paths through numbers from 0, none of them twice. In the beginning each number is a path by itself.
type paths struct {
	next  []int // the number behind each; -1 for none
	first []int // the first of the path of which this number is the last
	last  []int // the last of the path of which this number is the first; -1 if it is not the first
}

func newPaths(n int) paths {
	p := paths{make([]int, n), make([]int, n), make([]int, n)}
	for i := range n {
		p.next[i], p.first[i], p.last[i] = -1, i, i
	}
	return p
}

// free reports whether one path ends with a and another one begins with b.
func (p paths) free(a, b int) bool { return p.next[a] < 0 && p.last[b] >= 0 && p.first[a] != b }

// join makes one path of the two that end with a and begin with b.
func (p paths) join(a, b int) {
	first, last := p.first[a], p.last[b]
	p.next[a], p.last[b] = b, -1
	p.last[first], p.first[last] = last, first
}

// joined returns the paths of more than one number, one after the other.
func (p paths) joined() (numbers []int) {
	for i, last := range p.last {
		for at := i; last >= 0 && last != i && at >= 0; at = p.next[at] {
			numbers = append(numbers, at)
		}
	}
	return numbers
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
