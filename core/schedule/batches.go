package schedule

import (
	"cmp"
	"container/heap"
	"math"
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
)

// Options say how to divide tests into batches.
type Options struct {
	Workers  int             // at least 1
	InOrder  bool            // the batches come and run in the order of the tests
	Worker   map[string]int  // by ID: the only worker that runs it; with InOrder
	Parted   bool            // the parts of a group that hold different resources are batches of their own also in order
	Together catalog.Level   // what never runs side by side; empty for what each test says
	First    map[string]int  // by ID, from 1: the rank of tests whose batches go before others
	Lasting  map[string]bool // by suite: its processes live on from batch to batch, so that their order matters

	Undivided map[string]catalog.Level // by suite whose program cannot run some tests without others: FileLevel or SuiteLevel, which are one batch

	Resources map[string]int // how many batches may hold each at once; 1 if it is not named
}

// New divides tests into batches. A test comes after those that it depends on; if those are in another place,
// it is in a later batch of its own place, so that no two batches wait for each other.
//
// In order, a group whose processes serve only that group becomes one batch; if state reaches further, only
// neighbours are joined. Otherwise the longest batch comes first, tests that hold a resource have batches of their
// own, and everything that may be divided is dealt in batches that shrink toward the end.
func New(tests []catalog.Test, o Options) *Schedule {
	if o.InOrder {
		return Of(o.inOrder(tests), o.Resources)
	}
	return Of(o.longestFirst(tests), o.Resources)
}

// apart names what a test must not run side by side with, unless a plan decides.
func (o *Options) apart(t *catalog.Test) string {
	if o.Worker[t.ID] > 0 && !o.Parted {
		return ""
	}
	switch o.Together.Of(t) {
	case catalog.SuiteLevel:
		return t.Suite
	case catalog.GroupLevel:
		return t.GroupName()
	}
	return ""
}

// unit names what a test of an undivided suite runs with.
func (o *Options) unit(t *catalog.Test) string {
	if o.Undivided[t.Suite] == catalog.FileLevel {
		return t.File
	}
	return ""
}

func (o *Options) inOrder(tests []catalog.Test) []Batch {
	type place struct {
		suite, group, cell, uses string
		level, worker            int
	}
	var queue []Batch
	at := map[place]int{}
	levels := levels(tests, func(t *catalog.Test) place { return place{suite: t.Suite, group: t.Group, cell: t.Asks().Cell} })
	for i, t := range tests {
		p := place{t.Suite, t.Group, t.Asks().Cell, "", levels[i], o.Worker[t.ID]}
		if o.Parted {
			p.uses = strings.Join(holds(&t), "\n")
		}
		if unit := o.Undivided[t.Suite]; unit != "" {
			p = place{suite: t.Suite, group: o.unit(&t)}
		}
		i, ok := at[p]
		if ok && i != len(queue)-1 && o.Lasting[t.Suite] {
			ok = false
		}
		if !ok {
			i = len(queue)
			at[p] = i
			queue = append(queue, Batch{Suite: t.Suite, Worker: p.worker, Apart: o.apart(&t), Fresh: t.Asks().Cell != ""})
		}
		queue[i].Tests = append(queue[i].Tests, t)
	}
	return queue
}

// levels returns for each test how many times its chain of dependencies goes from one place to another.
func levels[P comparable](tests []catalog.Test, place func(t *catalog.Test) P) []int {
	levels := make([]int, len(tests))
	index := make(map[string]int, len(tests))
	for i := range tests {
		t := &tests[i]
		index[t.ID] = i
		for _, id := range order.Dependencies(t) {
			d, ok := index[id]
			if !ok {
				continue
			}
			level := levels[d]
			if place(&tests[d]) != place(t) {
				level++
			}
			levels[i] = max(levels[i], level)
		}
	}
	return levels
}

// stack is the tests of one place that are not in a batch yet.
type stack struct {
	suite, apart string
	together     catalog.Level
	fresh        bool // its tests are a cell
	tests        []catalog.Test
	next         int              // while the tests are neighbours, the place of the next one
	units        [][]catalog.Test // what is never parted, the longest first
	left         float64          // weight of the units
	cost         float64          // seconds that a batch takes to begin
}

// longestFirst deals the tests as a queue from which each next batch takes a part of
// what is left (Polychronopoulos and Kuck, "Guided self-scheduling", 1987).
func (o *Options) longestFirst(tests []catalog.Test) []Batch {
	weigh := weights(tests)
	stacks := o.stacks(tests)
	left := 0.0
	for _, s := range stacks {
		o.divide(s, weigh)
		left += s.left
	}
	open := stackHeap(stacks)
	heap.Init(&open)
	var queue []Batch
	for open.Len() > 0 {
		s := open[0]
		most := max(batchShare*left/float64(max(1, o.Workers)), costShare*s.cost)
		b, taken := s.take(most, weigh)
		left -= taken
		queue = append(queue, b)
		if len(s.units) == 0 {
			heap.Pop(&open)
		} else {
			heap.Fix(&open, 0)
		}
	}
	slices.SortStableFunc(queue, func(a, b Batch) int {
		return cmp.Or(lastOf(a.Fresh, b.Fresh), cmp.Compare(o.rank(a.Tests), o.rank(b.Tests)), cmp.Compare(b.Seconds(), a.Seconds()))
	})
	return queue
}

// lastOf orders what is fresh after what is not.
func lastOf(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

// rank is the least rank of some tests in First, and greater than all of those for tests that have none.
func (o *Options) rank(tests []catalog.Test) int {
	least := math.MaxInt
	for i := range tests {
		if rank := o.First[tests[i].ID]; rank > 0 {
			least = min(least, rank)
		}
	}
	return least
}

// batchShare is the part of what remains, over the workers, that a batch takes from the
// queue: so batches shrink, and the last ones are single units (Polychronopoulos
// and Kuck, "Guided self-scheduling", 1987).
const batchShare = 0.5

// costShare is the least duration of a batch as a multiple of the cost to begin it, if that much work is left.
const costShare = 8

// weights returns the weights of tests: their expected times, or all the same if none is known.
func weights(tests []catalog.Test) func(t *catalog.Test) float64 {
	const least = 0.001
	known := slices.ContainsFunc(tests, func(t catalog.Test) bool { return t.Expected > 0 })
	return func(t *catalog.Test) float64 {
		if known {
			return max(t.Expected, least)
		}
		return 1
	}
}

// stacks divides the tests into stacks, one for each place, in which they hold the same resources and wait only
// for tests on the same stack.
func (o *Options) stacks(tests []catalog.Test) []*stack {
	type place struct {
		suite, group, cell, uses string
		together                 catalog.Level
		level                    int
	}
	where := func(t *catalog.Test) place {
		if o.Undivided[t.Suite] != "" {
			return place{suite: t.Suite, group: o.unit(t), together: catalog.GroupLevel}
		}
		if cell := t.Asks().Cell; cell != "" {
			return place{suite: t.Suite, group: t.Group, cell: cell, together: catalog.GroupLevel} // it stays whole
		}
		p := place{suite: t.Suite, group: t.Group, together: o.Together.Of(t)}
		if p.together != catalog.FileLevel { // a file stays whole
			p.uses = strings.Join(holds(t), "\n")
		}
		return p
	}
	var stacks []*stack
	at := map[place]*stack{}
	levels := levels(tests, where)
	for i := range tests {
		t := &tests[i]
		p := where(t)
		if o.Undivided[t.Suite] == "" {
			p.level = levels[i]
		}
		s := at[p]
		if s == nil {
			s = &stack{suite: t.Suite, together: p.together, apart: o.apart(t), fresh: t.Asks().Cell != "", cost: t.Setup}
			at[p] = s
			stacks = append(stacks, s)
		}
		switch {
		case len(s.tests) == 0: // neighbours are not copied
			s.tests, s.next = tests[i:i+1:i+1], i+1
		case s.next == i:
			s.tests, s.next = tests[i-len(s.tests):i+1:i+1], i+1
		default:
			s.tests, s.next = append(s.tests, *t), -1
		}
	}
	return stacks
}

// divide makes units of a stack's tests: what stays together, the longest first.
func (o *Options) divide(s *stack, weigh func(*catalog.Test) float64) {
	s.units = [][]catalog.Test{s.tests}
	if s.together == catalog.TestLevel || s.together == catalog.FileLevel {
		if units, err := Units(s.tests, s.together); err == nil { // otherwise there is a circle, which settling the tests reports
			s.units = members(s.tests, units)
		}
	}
	for _, unit := range s.units {
		s.left += weight(unit, weigh)
	}
	slices.SortStableFunc(s.units, func(a, b []catalog.Test) int {
		return cmp.Or(cmp.Compare(o.rank(a), o.rank(b)), cmp.Compare(weight(b, weigh), weight(a, weigh)))
	})
}

// members returns the tests of units, in their order.
func members(tests []catalog.Test, units []Unit) [][]catalog.Test {
	unit := make(map[string]int, len(tests))
	for u := range units {
		for _, id := range units[u].Tests {
			unit[id] = u
		}
	}
	out := make([][]catalog.Test, len(units))
	for _, t := range tests {
		out[unit[t.ID]] = append(out[unit[t.ID]], t)
	}
	return out
}

func weight(tests []catalog.Test, weigh func(*catalog.Test) float64) float64 {
	sum := 0.0
	for i := range tests {
		sum += weigh(&tests[i])
	}
	return sum
}

// take makes a batch of the first units, up to a weight.
func (s *stack) take(most float64, weigh func(*catalog.Test) float64) (b Batch, taken float64) {
	b = Batch{Suite: s.suite, Apart: s.apart, Fresh: s.fresh}
	for len(s.units) > 0 && (taken == 0 || taken < most) {
		taken += weight(s.units[0], weigh)
		if b.Tests == nil {
			b.Tests = slices.Clip(s.units[0]) // not copied if it is everything
		} else {
			b.Tests = append(b.Tests, s.units[0]...)
		}
		s.units = s.units[1:]
	}
	s.left -= taken
	return b, taken
}

// stackHeap has the stack with the most left on top.
type stackHeap []*stack

func (h stackHeap) Len() int           { return len(h) }
func (h stackHeap) Less(i, j int) bool { return h[i].left > h[j].left }
func (h stackHeap) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *stackHeap) Push(x any)        { *h = append(*h, x.(*stack)) }
func (h *stackHeap) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}
