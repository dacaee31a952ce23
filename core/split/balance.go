package split

import (
	"container/heap"
	"slices"
	"strings"
)

// Balance deals the units out to shards so that the last shard ends as soon as
// can be found: longest first, or by differencing where that is better, then by
// moves and swaps, and for few units by a search that proves the least finish.
// The effort is bounded by steps, not by a clock, so that the same units give the
// same plan on every machine, whatever their order. shards is at least 1.
func Balance(units []Unit, shards int) Plan {
	sorted := slices.Clone(units)
	slices.SortFunc(sorted, func(a, b Unit) int {
		if a.Seconds != b.Seconds {
			if a.Seconds > b.Seconds {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Name, b.Name)
	})
	lengths := make([]float64, len(sorted))
	plan := Plan{}
	for i, u := range sorted {
		lengths[i] = u.Seconds
		plan.Work += u.Seconds
		plan.Unknown += u.Unknown
	}
	plan.Floor = floor(lengths, shards)
	if len(sorted) > 0 && sorted[0].Seconds >= plan.Floor {
		plan.Setter = &sorted[0]
	}
	d := longestFirst(lengths, shards)
	d.improve(plan.Floor)
	if !d.reaches(plan.Floor, near) && len(lengths)*shards <= differenced {
		if other := differencing(lengths, shards); other.improve(plan.Floor) < d.finish() {
			d = other
		}
	}
	if !d.reaches(plan.Floor, within) && len(lengths) <= searched {
		if least, proven := d.search(plan.Floor); proven {
			plan.Floor = least
		}
	}
	plan.Optimal = d.reaches(plan.Floor, within)
	plan.fill(sorted, d)
	return plan
}

// fill writes a deal into the plan. The shard that holds the longest unit is the
// first, of the others the one with the next, and so on.
func (p *Plan) fill(units []Unit, d *deal) {
	p.Shards = make([]Shard, len(d.loads))
	numbers := map[int]int{}
	for i, u := range units {
		at, seen := numbers[d.shard[i]]
		if !seen {
			at = len(numbers)
			numbers[d.shard[i]] = at
		}
		p.Shards[at].Units = append(p.Shards[at].Units, u)
		p.Shards[at].Seconds += u.Seconds
	}
	first := p.Shards[0].Seconds
	for i := range p.Shards {
		s := &p.Shards[i]
		s.Number = i + 1
		p.Finish = max(p.Finish, s.Seconds)
		first = min(first, s.Seconds)
	}
	p.Spread = p.Finish - first
}

// floor is the greatest of these bounds on the finish of lengths, the longest
// first: the even share of the work; and for every k, as of the k·shards+1
// longest some k+1 must share a shard, the k+1 shortest of those.
func floor(lengths []float64, shards int) float64 {
	least := 0.0
	for _, l := range lengths {
		least += l
	}
	least /= float64(shards)
	for k := 0; k*shards < len(lengths); k++ {
		together := 0.0
		for _, l := range lengths[k*shards-k : k*shards+1] {
			together += l
		}
		least = max(least, together)
	}
	return least
}

// deal says which unit is in which shard. Units are known by their index, the
// longest first.
type deal struct {
	lengths []float64
	shard   []int     // by unit
	loads   []float64 // by shard
}

const (
	// within is how far apart sums of the same numbers may come to lie.
	within = 1e-9
	// near is how close to the floor a finish is good enough for no more effort,
	// where the best cannot be proven anyway.
	near = 1e-4
)

func (d *deal) finish() float64 { return slices.Max(d.loads) }

// reaches reports whether the finish comes to a floor, but for a share of it.
func (d *deal) reaches(floor, but float64) bool { return d.finish() <= floor*(1+but) }

// longestFirst deals the longest unit that is left to the shard that is least
// loaded (Graham, "Bounds on multiprocessing timing anomalies", 1969): at most
// 4/3 of the least finish.
func longestFirst(lengths []float64, shards int) *deal {
	d := &deal{lengths: lengths, shard: make([]int, len(lengths)), loads: make([]float64, shards)}
	least := &byLoad{d.loads, make([]int, shards)}
	for i := range least.shards {
		least.shards[i] = i
	}
	for i, l := range lengths {
		d.shard[i] = least.shards[0]
		d.loads[d.shard[i]] += l
		heap.Fix(least, 0)
	}
	return d
}

// byLoad is a heap of shards with the least loaded on top, of equal ones the first.
type byLoad struct {
	loads  []float64
	shards []int
}

func (h *byLoad) Len() int { return len(h.shards) }
func (h *byLoad) Less(i, j int) bool {
	a, b := h.shards[i], h.shards[j]
	if h.loads[a] != h.loads[b] {
		return h.loads[a] < h.loads[b]
	}
	return a < b
}
func (h *byLoad) Swap(i, j int) { h.shards[i], h.shards[j] = h.shards[j], h.shards[i] }
func (h *byLoad) Push(x any)    { h.shards = append(h.shards, x.(int)) }
func (h *byLoad) Pop() any {
	last := h.shards[len(h.shards)-1]
	h.shards = h.shards[:len(h.shards)-1]
	return last
}

// differenced bounds units times shards for differencing.
const differenced = 200_000

// differencing joins, again and again, the two partial deals whose loads differ
// most, the fullest shard of one with the emptiest of the other (Karmarkar and
// Karp, "The differencing method of set partitioning", 1982).
func differencing(lengths []float64, shards int) *deal {
	d := &deal{lengths: lengths, shard: make([]int, len(lengths)), loads: make([]float64, shards)}
	parts := &bySpread{}
	for i, l := range lengths {
		p := part{first: i, loads: make([]float64, shards), units: make([][]int, shards)}
		p.loads[0], p.units[0] = l, []int{i}
		*parts = append(*parts, p)
	}
	heap.Init(parts)
	for parts.Len() > 1 {
		a, b := heap.Pop(parts).(part), heap.Pop(parts).(part)
		for s := range shards {
			a.loads[s] += b.loads[shards-1-s]
			a.units[s] = append(a.units[s], b.units[shards-1-s]...)
		}
		a.settle()
		heap.Push(parts, a)
	}
	for _, p := range *parts {
		for s, units := range p.units {
			for _, u := range units {
				d.shard[u] = s
				d.loads[s] += lengths[u]
			}
		}
	}
	return d
}

// part is a deal of some of the units, its fullest shard first.
type part struct {
	first int // the lowest unit in it, which orders parts of one spread
	loads []float64
	units [][]int
}

func (p *part) settle() {
	order := make([]int, len(p.loads))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		switch {
		case p.loads[a] > p.loads[b]:
			return -1
		case p.loads[a] < p.loads[b]:
			return 1
		}
		return 0
	})
	loads, units := make([]float64, len(order)), make([][]int, len(order))
	for i, from := range order {
		loads[i], units[i] = p.loads[from], p.units[from]
	}
	p.loads, p.units = loads, units
}

func (p *part) spread() float64 { return p.loads[0] - p.loads[len(p.loads)-1] }

// bySpread is a heap with the part on top whose loads differ most.
type bySpread []part

func (h bySpread) Len() int { return len(h) }
func (h bySpread) Less(i, j int) bool {
	if a, b := h[i].spread(), h[j].spread(); a != b {
		return a > b
	}
	return h[i].first < h[j].first
}
func (h bySpread) Swap(i, j int) { h[i], h[j] = h[j], h[i] }
func (h *bySpread) Push(x any)   { *h = append(*h, x.(part)) }
func (h *bySpread) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

// improveSteps bounds how many pairs of units are weighed against each other.
const improveSteps = 200_000

// improve takes load off the fullest shard, by moving a unit or by swapping two,
// as long as that makes its finish less, and gives the finish.
func (d *deal) improve(floor float64) float64 {
	members := make([][]int, len(d.loads)) // the longest unit first
	for u, s := range d.shard {
		members[s] = append(members[s], u)
	}
	for steps := 0; steps < improveSteps && !d.reaches(floor, near); {
		full := slices.Index(d.loads, d.finish())
		best := exchange{finish: d.loads[full]}
		for to := range d.loads {
			if to == full || d.loads[to] >= d.loads[full] {
				continue
			}
			for _, give := range members[full] {
				best = d.weigh(full, to, give, members[to], best, &steps)
			}
		}
		if best.finish >= d.loads[full]*(1-within) {
			break
		}
		d.make(best, members)
	}
	return d.finish()
}

// exchange is a unit that goes from one shard to another, and perhaps one that
// comes back.
type exchange struct {
	from, to, give, take int // take is -1 where none comes back
	finish               float64
}

// weigh finds what to take back for a unit so that the later of two shards ends
// soonest, where that is better than the best so far. others come longest first.
func (d *deal) weigh(from, to, give int, others []int, best exchange, steps *int) exchange {
	consider := func(take int) {
		*steps++
		change := d.lengths[give]
		if take >= 0 {
			change -= d.lengths[take]
		}
		if finish := max(d.loads[from]-change, d.loads[to]+change); change > 0 && finish < best.finish {
			best = exchange{from, to, give, take, finish}
		}
	}
	consider(-1)
	// The best to take back is a neighbour of the length that evens the two out.
	want := d.lengths[give] - (d.loads[from]-d.loads[to])/2
	at, _ := slices.BinarySearchFunc(others, want, func(u int, want float64) int {
		if d.lengths[u] > want {
			return -1
		}
		return 1
	})
	for near := max(0, at-1); near < min(len(others), at+1); near++ {
		consider(others[near])
	}
	return best
}

// make carries an exchange out.
func (d *deal) make(e exchange, members [][]int) {
	move := func(u, from, to int) {
		d.shard[u] = to
		d.loads[from] -= d.lengths[u]
		d.loads[to] += d.lengths[u]
		at, _ := slices.BinarySearch(members[from], u)
		members[from] = slices.Delete(members[from], at, at+1)
		at, _ = slices.BinarySearch(members[to], u)
		members[to] = slices.Insert(members[to], at, u)
	}
	move(e.give, e.from, e.to)
	if e.take >= 0 {
		move(e.take, e.to, e.from)
	}
}

const (
	// searched is the most units that are searched through.
	searched = 40
	// searchSteps bounds the search for the least finish, in units placed.
	searchSteps = 20_000
)

// search tries all deals that may end sooner than the present one, and takes the
// best. proven tells that it went through all, so that there is none better.
func (d *deal) search(floor float64) (least float64, proven bool) {
	s := &search{deal: d, floor: floor, best: d.finish(), shard: make([]int, len(d.lengths)), loads: make([]float64, len(d.loads))}
	s.place(0)
	return s.best, s.steps < searchSteps
}

type search struct {
	*deal
	floor, best float64
	shard       []int
	loads       []float64
	steps       int
}

// place tries every shard for a unit and goes on with the next. A shard that is
// loaded like one tried before it would only give the same again.
func (s *search) place(u int) {
	if u == len(s.lengths) {
		s.best = slices.Max(s.loads)
		copy(s.deal.shard, s.shard)
		copy(s.deal.loads, s.loads)
		return
	}
	for at := range s.loads {
		if s.best <= s.floor*(1+within) || s.steps >= searchSteps {
			return
		}
		load := s.loads[at]
		if load+s.lengths[u] >= s.best*(1-within) || slices.Contains(s.loads[:at], load) {
			continue
		}
		s.steps++
		s.shard[u], s.loads[at] = at, load+s.lengths[u]
		s.place(u + 1)
		s.loads[at] = load
	}
}
