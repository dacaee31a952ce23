package split

import (
	"cmp"
	"math"
	"slices"
	"sort"
)

// floor is a time before which no deal of lengths, the longest first, can end.
func floor(lengths []int64, machines []machine) int64 {
	if alike(machines) {
		return floorAlike(lengths, len(machines))
	}
	busy := int64(0) // until then some machine is busy in any case
	for _, m := range machines {
		busy = max(busy, m.end(0))
	}
	total := int64(0)
	for _, l := range lengths {
		total += l
	}
	high := busy + 1
	for !roomy(lengths, machines, total, high) {
		high *= 2
	}
	return busy + int64(sort.Search(int(high-busy), func(t int) bool { return roomy(lengths, machines, total, busy+int64(t)) }))
}

// roomy reports whether the machines have room by time t for all work, and for
// every k for the k longest jobs as if all of them were as short as the last.
func roomy(lengths []int64, machines []machine, total, t int64) bool {
	rooms := map[int64]int64{} // how many machines have which
	sum := int64(0)
	for _, m := range machines {
		room := max(0, m.room(t))
		rooms[room]++
		sum += room
	}
	if sum < total {
		return false
	}
	for k := 1; k <= min(len(lengths), 3*len(machines)); k++ {
		length, places := max(1, lengths[k-1]), int64(0)
		for room, n := range rooms {
			places += n * (room / length)
		}
		if places < int64(k) {
			return false
		}
	}
	return true
}

// floorAlike is the greatest of these bounds on the finish: the even share of the
// work; for every k, as of the k·machines+1 longest jobs some k+1 must share a
// machine, the k+1 shortest of those; and the one of pairs.
func floorAlike(lengths []int64, machines int) int64 {
	upTo := make([]int64, len(lengths)+1) // the sum of the n longest
	for i, l := range lengths {
		upTo[i+1] = upTo[i] + l
	}
	n := int64(machines)
	least := (upTo[len(lengths)] + n - 1) / n
	for k := 0; k*machines < len(lengths); k++ {
		least = max(least, upTo[k*machines+1]-upTo[k*machines-k])
	}
	return max(least, floorOfPairs(lengths, machines))
}

// floorOfPairs bounds the finish of the longest jobs alone, for as many as may go
// two to a machine: either some three of them share one, or at most two do, and
// then longest first is the best that can be done (Coffman and Sethi, "A
// generalized bound on LPT sequencing", 1976).
func floorOfPairs(lengths []int64, machines int) int64 {
	least, latest := int64(0), int64(0)
	for n := machines + 1; n <= min(2*machines, len(lengths)); n++ {
		// The n-th joins the one that is as far before the middle as it is behind.
		latest = 0
		for behind := machines; behind < n; behind++ {
			latest = max(latest, lengths[behind]+lengths[2*machines-1-behind])
		}
		three := int64(math.MaxInt64)
		if n >= 3 {
			three = lengths[n-1] + lengths[n-2] + lengths[n-3]
		}
		least = max(least, min(latest, three))
	}
	return least
}

// raise proves by the configuration linear program that no deal finishes before the present one, or else raises
// the floor as far as possible.
func (d *assignment) raise(steps int) {
	if d.proved() || !alike(d.machines) || len(d.lengths) > patterned*len(d.machines) {
		return
	}
	left := d.steps - steps
	high := d.finish // not proved to be too soon
	for t := high - 1; d.floor < high && d.steps > left; t = d.floor + (high-d.floor)/2 {
		c := newConfiguration(d, t, d.steps-left)
		if c == nil {
			return
		}
		before := c.steps
		overfull := c.overfull()
		d.steps -= before - c.steps
		if overfull {
			d.floor = t + 1
		} else {
			high = t
		}
	}
}

// patterned is the average number of jobs per machine up to which the linear program says more than the even share
// of the work.
const patterned = 4

// mostRows bounds the linear program: the number of different lengths.
const mostRows = 160

// configuration is the linear program of Gilmore and Gomory ("A linear programming approach to the cutting-stock
// problem", 1961): cover the demand for every length with as few patterns as possible, where a pattern is lengths
// that fit together into one machine. If that takes more patterns than there are machines, even in fractions, the
// jobs do not fit.
//
// Products are rounded by a conversion before they are added to anything, because otherwise some machines would
// round once and others twice, and plan differently.
type configuration struct {
	lengths  []int64 // different ones, the longest first
	demand   []float64
	room     int64
	machines int
	inverse  [][]float64 // of the basis
	amount   []float64   // of each pattern of the basis
	steps    int
	nodes    int // of knapsacks
}

// newConfiguration returns the program for the jobs of a deal and the room that a machine has by time t; nil if it
// would be too large.
func newConfiguration(d *assignment, t int64, steps int) *configuration {
	c := &configuration{room: t, machines: len(d.machines), steps: steps}
	rows := make([]int, len(d.lengths))
	for i, l := range d.lengths {
		if i == 0 || l != d.lengths[i-1] {
			if len(c.lengths) == mostRows {
				return nil
			}
			c.lengths, c.demand = append(c.lengths, l), append(c.demand, 0)
		}
		rows[i] = len(c.demand) - 1
		c.demand[rows[i]]++
	}
	if c.lengths[0] > t || c.lengths[len(c.lengths)-1] == 0 {
		return nil
	}
	for i := range c.lengths {
		// The first patterns hold one length each, as often as it fits.
		row := make([]float64, len(c.lengths))
		times := min(c.demand[i], float64(t/c.lengths[i]))
		row[i] = 1 / times
		c.inverse = append(c.inverse, row)
		c.amount = append(c.amount, c.demand[i]/times)
	}
	for at, members := range d.members {
		if d.loads[at] > t {
			continue
		}
		pattern := make([]int, len(c.lengths)) // a good one to begin with
		for _, job := range members {
			pattern[rows[job]]++
		}
		c.enter(pattern)
	}
	return c
}

// tolerance is the difference that the linear program ignores.
const tolerance = 1e-7

// overfull reports whether the jobs are proved not to fit. It needs not trust the
// arithmetic of the program: any prices of lengths prove a bound once the dearest
// of all patterns is known (Farley, "A note on bounding a class of linear
// programming problems", 1990).
func (c *configuration) overfull() bool {
	for c.steps > 0 {
		prices, needed := c.prices(), 0.0
		for _, a := range c.amount {
			needed += a
		}
		if needed <= float64(c.machines)+tolerance {
			return false // they fit, in fractions
		}
		pattern, value := c.dearest(prices)
		if pattern == nil {
			return false // the steps are used up
		}
		worth := 0.0
		for i, price := range prices {
			worth += float64(price * c.demand[i])
		}
		if worth/value > float64(c.machines)+tolerance {
			return true
		}
		if value <= 1+tolerance || !c.enter(pattern) {
			return false
		}
	}
	return false
}

// prices are what each length is worth in the present basis, none below 0.
func (c *configuration) prices() []float64 {
	prices := make([]float64, len(c.lengths))
	for _, row := range c.inverse {
		for i, v := range row {
			prices[i] += v
		}
	}
	for i := range prices {
		prices[i] = max(0, prices[i])
	}
	c.steps -= len(prices) * len(prices) / 128
	return prices
}

// dearest finds the most valuable pattern, a knapsack, by branch and bound; nil if the steps do not suffice.
func (c *configuration) dearest(prices []float64) (pattern []int, value float64) {
	k := &knapsack{configuration: c, prices: prices, pattern: make([]int, len(prices))}
	for i, price := range prices {
		if price > 0 {
			k.order = append(k.order, i)
		}
	}
	slices.SortStableFunc(k.order, func(a, b int) int {
		return cmp.Compare(prices[b]/float64(c.lengths[b]), prices[a]/float64(c.lengths[a]))
	})
	k.choose(0, c.room, 0)
	if c.steps <= 0 {
		return nil, 0
	}
	return k.best, k.most
}

type knapsack struct {
	*configuration
	prices  []float64
	order   []int // the dearest by length first
	pattern []int
	best    []int
	most    float64
}

// choose decides how often the length at a place of the order occurs, and continues.
func (k *knapsack) choose(at int, room int64, value float64) {
	if k.nodes++; k.nodes%8 == 0 {
		k.steps--
	}
	if k.steps <= 0 {
		return
	}
	if value > k.most+tolerance/10 {
		k.most, k.best = value, slices.Clone(k.pattern)
	}
	for ; at < len(k.order); at++ {
		i := k.order[at]
		if value+float64(float64(room)*k.prices[i])/float64(k.lengths[i]) <= k.most+tolerance/10 {
			return
		}
		times := min(int(k.demand[i]), int(room/k.lengths[i]))
		for n := times; n > 0; n-- {
			k.pattern[i] = n
			k.choose(at+1, room-int64(n)*k.lengths[i], value+float64(float64(n)*k.prices[i]))
		}
		k.pattern[i] = 0
	}
}

// enter brings a pattern into the basis; false if that has no effect.
func (c *configuration) enter(pattern []int) bool {
	rows := len(c.lengths)
	column := make([]float64, rows)
	for r, row := range c.inverse {
		for i, n := range pattern {
			if n > 0 {
				column[r] += float64(row[i] * float64(n))
			}
		}
	}
	leave, ratio := -1, math.Inf(1)
	for r, v := range column {
		if v > tolerance && c.amount[r]/v < ratio {
			leave, ratio = r, c.amount[r]/v
		}
	}
	if leave < 0 {
		return false
	}
	pivot := column[leave]
	for i := range c.inverse[leave] {
		c.inverse[leave][i] /= pivot
	}
	c.amount[leave] = ratio
	for r, v := range column {
		if r == leave || v == 0 {
			continue
		}
		for i, w := range c.inverse[leave] {
			c.inverse[r][i] -= float64(v * w)
		}
		c.amount[r] = max(0, c.amount[r]-float64(v*ratio))
	}
	c.steps -= rows * rows / 64
	return true
}
