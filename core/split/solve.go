package split

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"

	"fernrelay/core/split/subsets"
)

// The solver counts in whole ticks, so that sums are exact and the same on every machine: it deals jobs to
// machines so that the last machine ends as early as can be found within a number of steps.

// machine is what a share runs on.
type machine struct {
	start int64   // when it begins
	base  int64   // work that it has to do in any case
	speed float64 // work it does in a tick, greater than 0
}

// end returns when the machine has done its base and a load. One without any work delays nobody.
func (m machine) end(load int64) int64 {
	load += m.base
	switch {
	case load == 0:
		return 0
	case m.speed == 1:
		return m.start + load
	}
	return m.start + int64(math.Ceil(float64(load)/m.speed))
}

// room returns the greatest load with which the machine ends by t, negative if its base alone takes longer.
//
// room is the inverse of end: m.end(m.room(t)) <= t < m.end(m.room(t)+1). With a speed that is no whole number both round, so
// the first guess is corrected by steps of one tick.
func (m machine) room(t int64) int64 {
	if t < m.start {
		return min(0, -m.base)
	}
	if m.speed == 1 {
		return t - m.start - m.base
	}
	room := int64(float64(t-m.start)*m.speed) - m.base
	for m.end(room) > t {
		room--
	}
	for m.end(room+1) <= t {
		room++
	}
	return room
}

// alike reports whether all machines are the same and idle from the beginning.
func alike(machines []machine) bool {
	return !slices.ContainsFunc(machines, func(m machine) bool { return m != machine{speed: 1} })
}

// assignment says which job goes to which machine. Jobs are known by their index, the
// longest first.
type assignment struct {
	lengths  []int64
	machines []machine
	on       []int   // by job
	loads    []int64 // by machine
	members  [][]int // by machine, the longest job first
	finish   int64
	floor    int64 // proved: no deal ends earlier
	steps    int   // of work that are left
	random   *rand.Rand
}

// solve deals lengths, the longest first, to machines. It works until the finish is proved to be the least, or for
// about a number of steps.
//
// Most deals are good once the latest machine has been redistributed with others. Small instances that remain are
// searched exhaustively; in larger ones groups of machines are packed anew, which finds the least finish more
// often than it proves it; and the linear program proves it if machines have few jobs each.
func solve(lengths []int64, machines []machine, steps int) *assignment {
	d := &assignment{lengths: lengths, machines: machines, steps: steps, random: rand.New(rand.NewPCG(uint64(len(lengths)), uint64(len(machines))))}
	d.floor = floor(lengths, machines)
	d.take(longestFirst(lengths, machines))
	d.improve()
	if !d.near() && len(lengths) <= fitted*len(machines) {
		d.refit()
	}
	if d.near() {
		return d
	}
	d.explore(steps / 20)
	d.regroup(d.steps - steps/6)
	d.raise(steps / 4)
	d.explore(d.steps / 3)
	d.regroup(0)
	return d
}

// fitted is the average number of jobs per machine up to which fitting is tried: it fills machines with long jobs
// first, although each should get its part of many.
const fitted = 20

// refit starts again with jobs that are put where they fit, if that ends earlier.
func (d *assignment) refit() {
	on, finish := d.on, d.finish
	if other := fitting(d.lengths, d.machines, d.floor, finish-1, &d.steps); other != nil {
		d.take(other)
		d.improve()
	}
	if d.finish > finish {
		d.take(on)
	}
}

// proved reports whether no deal ends earlier than this one.
func (d *assignment) proved() bool { return d.finish <= d.floor }

// near reports whether more work is pointless: the finish is proved to be the least, or so close that no clock
// shows the difference.
func (d *assignment) near() bool { return d.finish-d.floor <= d.floor/10_000_000 }

// take builds a deal from the machine of each job.
func (d *assignment) take(on []int) {
	d.on = on
	d.loads = make([]int64, len(d.machines))
	d.members = make([][]int, len(d.machines))
	for job, at := range on {
		d.loads[at] += d.lengths[job]
		d.members[at] = append(d.members[at], job)
	}
	d.settle()
}

// settle finds the finish after loads have changed.
func (d *assignment) settle() {
	d.finish = 0
	for i := range d.machines {
		d.finish = max(d.finish, d.end(i))
	}
}

func (d *assignment) end(i int) int64 { return d.machines[i].end(d.loads[i]) }

// latest is the machine that ends last.
func (d *assignment) latest() int {
	for i := range d.machines {
		if d.end(i) == d.finish {
			return i
		}
	}
	return 0
}

// idlest is the machine that has most room before the finish.
func (d *assignment) idlest() int {
	best, most := 0, int64(math.MinInt64)
	for i, m := range d.machines {
		if room := m.room(d.finish) - d.loads[i]; room > most {
			best, most = i, room
		}
	}
	return best
}

// longestFirst deals the longest job that is left to the machine that ends first
// with it (Graham, "Bounds on multiprocessing timing anomalies", 1969: at most
// 4/3 of the least finish on machines that are alike).
func longestFirst(lengths []int64, machines []machine) []int {
	on := make([]int, len(lengths))
	loads := make([]int64, len(machines))
	var kinds []idleHeap // of machines of one speed, among which the one that is idle first ends first
	of := map[float64]int{}
	for i, m := range machines {
		at, known := of[m.speed]
		if !known {
			at = len(kinds)
			of[m.speed], kinds = at, append(kinds, nil)
		}
		kinds[at] = append(kinds[at], idle{m.idleFrom(0), 0, i})
	}
	for _, h := range kinds {
		slices.SortFunc(h, func(a, b idle) int { return cmp.Compare(a.from, b.from) })
	}
	for job, l := range lengths {
		h := kinds[0]
		for _, other := range kinds[1:] {
			a, b := h[0].machine, other[0].machine
			if machines[b].end(loads[b]+l) < machines[a].end(loads[a]+l) {
				h = other
			}
		}
		at := h[0].machine
		on[job] = at
		loads[at] += l
		h[0].from = machines[at].idleFrom(loads[at])
		h[0].jobs++ // so that jobs that take no time are dealt out too
		h.sink()
	}
	return on
}

// idleFrom returns when the machine has done a load.
func (m machine) idleFrom(load int64) int64 { return max(m.start, m.end(load)) }

// idle is from when on a machine has nothing to do.
type idle struct {
	from    int64
	jobs    int
	machine int
}

// idleHeap is a heap with the machine on top that is idle first, of equal ones
// that with the fewest jobs. It is written out, as it is what large plans spend their time with.
type idleHeap []idle

// sink lets the top find its place.
func (h idleHeap) sink() {
	top, at := h[0], 0
	for {
		child := 2*at + 1
		if child >= len(h) {
			break
		}
		if child+1 < len(h) && h[child+1].before(h[child]) {
			child++
		}
		if !h[child].before(top) {
			break
		}
		h[at] = h[child]
		at = child
	}
	h[at] = top
}

func (i idle) before(other idle) bool {
	if i.from != other.from {
		return i.from < other.from
	}
	return i.jobs < other.jobs || i.jobs == other.jobs && i.machine < other.machine
}

// fitting searches between two times for the earliest by which the jobs fit, each put where it fits first
// (Coffman, Garey and Johnson, "An application of bin-packing to multiprocessor scheduling", 1978); nil if they
// fit by none of those tried.
func fitting(lengths []int64, machines []machine, low, high int64, steps *int) (best []int) {
	order := make([]int, len(machines)) // the fastest first
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(machines[b].speed, machines[a].speed) })
	for low <= high && *steps > len(lengths) {
		middle := low + (high-low)/2
		if on := fit(lengths, machines, order, middle, steps); on != nil {
			best, high = on, middle-1
		} else {
			low = middle + 1
		}
	}
	return best
}

// fit puts every job where it fits first by time t; nil if one does not fit.
func fit(lengths []int64, machines []machine, order []int, t int64, steps *int) []int {
	rooms := make([]int64, len(order))
	for i, at := range order {
		rooms[i] = machines[at].room(t)
	}
	on := make([]int, len(lengths))
	for job, l := range lengths {
		i := slices.IndexFunc(rooms, func(room int64) bool { return room >= l })
		if i < 0 {
			*steps -= job
			return nil
		}
		on[job] = order[i]
		rooms[i] -= l
		*steps -= i / 4
	}
	*steps -= len(lengths)
	return on
}

// improve redistributes the jobs of the latest machine and another, as long as that lets it end earlier.
func (d *assignment) improve() {
	order := make([]int, len(d.machines))
	for i := range order {
		order[i] = i
	}
	for !d.near() && d.steps > 0 {
		full := d.latest()
		slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(d.end(a), d.end(b)) })
		d.steps -= len(order)
		if !slices.ContainsFunc(order, func(at int) bool { return at != full && d.steps > 0 && d.redistribute(full, at, d.finish, false) }) {
			return
		}
		d.settle()
	}
}

// For few jobs of two machines, all ways to divide them are searched. For more, only some of the shortest move,
// which is enough to even the two out.
const (
	parted     = 22
	partedMany = 16
)

// redistribute deals the jobs of two machines so that the later of the two ends as soon
// as possible, or with anyhow in any way at random, and reports whether that is
// before a time.
//
// The jobs are divided into two halves, and all subset sums of both are listed in order. For each sum of the first half, taken
// upwards, the best partner in the second moves only downwards, so a pass over both lists sees the best pair:
//
//	jobs 7 5 4 3       even is 9: half of 19, rounded down
//	sums of 7 5        0  5  7  12
//	sums of 4 3        0  3  4  7
//	0+7=7  5+4=9  7+3=10  ...           5+4 against 7+3: the two machines end after 9 and 10
//
// Trying all ways would take 2^n steps, this takes about 2^(n/2).
func (d *assignment) redistribute(i, j int, before int64, anyhow bool) bool {
	jobs := merged(d.members[i], d.members[j])
	stay := 0
	if len(jobs) > parted {
		stay = len(jobs) - partedMany
	}
	loadI, loadJ := d.loads[i], d.loads[j]
	for _, job := range jobs[stay:] {
		if d.on[job] == i {
			loadI -= d.lengths[job]
		} else {
			loadJ -= d.lengths[job]
		}
	}
	movable := jobs[stay:]
	total := d.loads[i] + d.loads[j] - loadI - loadJ
	later := func(sum int64) int64 {
		return max(d.machines[i].end(loadI+sum), d.machines[j].end(loadJ+total-sum))
	}
	half := len(movable) / 2
	a, b := subsets.Of(d.lengths, movable[:half]), subsets.Of(d.lengths, movable[half:])
	d.steps -= (len(a)+len(b))/16 + len(jobs)/2
	best, bestA, bestB, ways := before, -1, -1, 0
	even := d.even(i, j, loadI, loadJ, total)
	at := len(b) - 1
	for x := range a {
		for at >= 0 && a[x].Sum+b[at].Sum > even {
			at--
		}
		// The sums next to the even one on both sides are the best for this a.
		for y := max(at, 0); y <= min(at+1, len(b)-1); y++ {
			end := later(a[x].Sum + b[y].Sum)
			if end >= best {
				continue
			}
			if ways++; anyhow && d.random.IntN(ways) > 0 {
				continue // each way is as likely to be the one
			}
			bestA, bestB = x, y
			if !anyhow {
				best = end
			}
		}
	}
	if bestA < 0 {
		return false
	}
	chosen := a[bestA].Set | b[bestB].Set<<half
	for bit, job := range movable {
		to := j
		if chosen>>bit&1 == 1 {
			to = i
		}
		d.loads[d.on[job]] -= d.lengths[job]
		d.loads[to] += d.lengths[job]
		d.on[job] = to
	}
	d.gather(jobs, i, j)
	return true
}

// even is the load of i, of what the two part, with which both end together.
//
// For machines of one speed that is half of what both have, less what each has in any case. In general it solves
//
//	a.start + (a.base+loadI+x)/a.speed = b.start + (b.base+loadJ+total-x)/b.speed
//
// for x.
func (d *assignment) even(i, j int, loadI, loadJ, total int64) int64 {
	a, b := d.machines[i], d.machines[j]
	if a.speed == 1 && b.speed == 1 {
		return (b.start + b.base + loadJ + total - a.start - a.base - loadI) / 2
	}
	difference := float64(b.start-a.start) + float64(b.base+loadJ+total)/b.speed - float64(a.base+loadI)/a.speed
	return int64(difference / (1/a.speed + 1/b.speed))
}

// gather lists the members of two machines again after their jobs have moved.
func (d *assignment) gather(jobs []int, i, j int) {
	d.members[i], d.members[j] = d.members[i][:0], d.members[j][:0]
	for _, job := range jobs {
		d.members[d.on[job]] = append(d.members[d.on[job]], job)
	}
}

// merged merges two sorted lists into a new one.
func merged(a, b []int) []int {
	out := make([]int, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		if a[0] < b[0] {
			out, a = append(out, a[0]), a[1:]
		} else {
			out, b = append(out, b[0]), b[1:]
		}
	}
	return append(append(out, a...), b...)
}
