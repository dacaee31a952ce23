package matrix

import (
	"math"
	"math/rand/v2"
	"slices"
)

// The efforts of looking for few crossings, in changes tried for each number of them.
const (
	Quick    = 20_000
	Thorough = 400_000
)

// Pairs returns crossings in which every pair of values of two names occurs that occurs in any crossing that runs: as few as
// can be found. It adds crossings greedily, and then looks for fewer by simulated annealing (Cohen, Gibbons, Mugridge and
// Colbourn, "Constructing test suites for interaction testing", 2003). The same matrix and effort give the same crossings.
func (m *Matrix) Pairs(effort int) []Crossing {
	var open []Crossing
	for _, c := range m.Crossings {
		if c.LeaveOut == "" {
			open = append(open, c)
		}
	}
	p := newPairing(open, m.Spec.Names)
	best := p.greedy()
	for len(best) > p.least() {
		fewer := p.anneal(best[:len(best)-1], effort)
		if fewer == nil {
			break
		}
		best = fewer
	}
	slices.Sort(best)
	out := make([]Crossing, len(best))
	for i, at := range best {
		out[i] = open[at]
	}
	return out
}

// pairing is the pairs of values that crossings have.
type pairing struct {
	rows   [][]int // by crossing: the numbers of its pairs
	pairs  int
	values []int       // by name: how many
	index  map[int]int // by the crossing's digits: its place, for those of the product
	digits [][]int     // by crossing: the place of its value, by name
	scale  []int       // by name: what a digit counts
}

func newPairing(open []Crossing, names []Name) *pairing {
	p := &pairing{index: map[int]int{}}
	places := make([]map[string]int, len(names))
	for i, n := range names {
		places[i] = map[string]int{}
		for j, v := range n.Values {
			places[i][v] = j
		}
	}
	for _, c := range open { // values that only added crossings have
		for i, n := range names {
			if _, ok := places[i][c.Of[n.Name]]; !ok {
				places[i][c.Of[n.Name]] = len(places[i])
			}
		}
	}
	p.scale = make([]int, len(names))
	for i, unit := len(names)-1, 1; i >= 0; i-- {
		p.scale[i] = unit
		unit *= len(places[i])
		p.values = append([]int{len(places[i])}, p.values...)
	}
	type pair struct{ name, value, other, otherValue int }
	numbers := map[pair]int{}
	number := func(which pair) int {
		if _, known := numbers[which]; !known {
			numbers[which] = len(numbers)
		}
		return numbers[which]
	}
	for at, c := range open {
		digits, key := make([]int, len(names)), 0
		for i, n := range names {
			digits[i] = places[i][c.Of[n.Name]]
			key += digits[i] * p.scale[i]
		}
		var row []int
		for i := range names {
			for j := i + 1; j < len(names); j++ {
				row = append(row, number(pair{i, digits[i], j, digits[j]}))
			}
		}
		if len(names) == 1 { // then each value by itself
			row = []int{number(pair{value: digits[0]})}
		}
		p.rows, p.digits = append(p.rows, row), append(p.digits, digits)
		p.index[key] = at
	}
	p.pairs = len(numbers)
	return p
}

// least is a number of crossings that no covering goes below: the product of the two greatest numbers of values.
func (p *pairing) least() int {
	sorted := slices.Sorted(slices.Values(p.values))
	least := sorted[len(sorted)-1]
	if len(sorted) > 1 {
		least *= sorted[len(sorted)-2]
	}
	return min(least, p.pairs) // crossings that are left out may make it less
}

// greedy adds, one after the other, the crossing with the most pairs that are not covered yet.
func (p *pairing) greedy() []int {
	covered, left := make([]bool, p.pairs), p.pairs
	var chosen []int
	for left > 0 {
		best, most := 0, -1
		for at, row := range p.rows {
			fresh := 0
			for _, n := range row {
				if !covered[n] {
					fresh++
				}
			}
			if fresh > most {
				best, most = at, fresh
			}
		}
		chosen = append(chosen, best)
		for _, n := range p.rows[best] {
			if !covered[n] {
				covered[n] = true
				left--
			}
		}
	}
	return chosen
}

// anneal looks for as many crossings as given that cover all pairs, nil if it does not find them: it changes one value of one
// crossing at a time.
func (p *pairing) anneal(start []int, effort int) []int {
	random := rand.New(rand.NewPCG(uint64(len(start)), uint64(len(p.rows))))
	chosen := slices.Clone(start)
	times, left := make([]int, p.pairs), p.pairs // how often each pair is covered
	for _, at := range chosen {
		for _, n := range p.rows[at] {
			if times[n]++; times[n] == 1 {
				left--
			}
		}
	}
	for step := 0; step < effort && left > 0; step++ {
		at := random.IntN(len(chosen))
		next, ok := p.neighbour(chosen[at], random)
		if !ok {
			continue
		}
		worse := p.change(times, chosen[at], next)
		heat := 0.6 * (1 - float64(step)/float64(effort))
		if worse > 0 && random.Float64() >= math.Exp(-float64(worse)/max(heat, 1e-9)) {
			p.change(times, next, chosen[at])
			continue
		}
		chosen[at] = next
		left += worse
	}
	if left > 0 {
		return nil
	}
	return chosen
}

// neighbour returns a crossing that differs from another in one value, and whether there is that one.
func (p *pairing) neighbour(at int, random *rand.Rand) (int, bool) {
	name := random.IntN(len(p.values))
	if p.values[name] < 2 {
		return 0, false
	}
	value := random.IntN(p.values[name] - 1)
	if value >= p.digits[at][name] {
		value++
	}
	key := 0
	for i, digit := range p.digits[at] {
		if i == name {
			digit = value
		}
		key += digit * p.scale[i]
	}
	next, ok := p.index[key]
	return next, ok
}

// change replaces a crossing by another in what is covered, and returns by how many pairs less is covered.
func (p *pairing) change(times []int, from, to int) (worse int) {
	for _, n := range p.rows[from] {
		if times[n]--; times[n] == 0 {
			worse++
		}
	}
	for _, n := range p.rows[to] {
		if times[n]++; times[n] == 1 {
			worse--
		}
	}
	return worse
}
