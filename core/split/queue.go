package split

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
)

// Outlook compares the shards of a plan with as many workers that take batches
// from one queue, when tests take as long as they may: the finishes of both, over
// many rounds, the soonest first.
type Outlook struct {
	Fixed, Queue         []float64 // all begin in time
	FixedLate, QueueLate []float64 // the worker with the latest shard begins late
}

// Rounds is how often the finishes are drawn.
const Rounds = 200

// Share is the part of what remains, over the workers, that a batch takes from the
// queue: so batches shrink, and the last ones are single units (Polychronopoulos
// and Kuck, "Guided self-scheduling", 1987).
const Share = 0.5

// Look draws how a plan and a queue would end, and how where one worker begins so
// many seconds late. The same plan and seed give the same outlook.
func Look(p Plan, f Fleet, late float64, seed uint64) Outlook {
	q := newQueue(p, f)
	random := rand.New(rand.NewPCG(seed, 0))
	var out Outlook
	latest := 0
	for i := range p.Shards {
		if len(p.Shards[i].Units) > 0 && (len(p.Shards[latest].Units) == 0 || p.Shards[i].End > p.Shards[latest].End) {
			latest = i
		}
	}
	for range Rounds {
		q.draw(random)
		out.Fixed = append(out.Fixed, q.fixed(latest, 0))
		out.FixedLate = append(out.FixedLate, q.fixed(latest, late))
		out.Queue = append(out.Queue, q.shared(0, 0))
		out.QueueLate = append(out.QueueLate, q.shared(0, late))
	}
	for _, finishes := range [][]float64{out.Fixed, out.FixedLate, out.Queue, out.QueueLate} {
		slices.Sort(finishes)
	}
	return out
}

// Quantile is the finish that a part of the rounds does not pass: 0.5 gives the
// median. The finishes are sorted and not empty.
func Quantile(finishes []float64, part float64) float64 {
	return finishes[min(len(finishes)-1, int(part*float64(len(finishes))))]
}

// queue draws times for the units of a plan and plays it.
type queue struct {
	plan    Plan
	fleet   Fleet
	units   []*Unit // the longest first
	shard   []int   // by unit
	seconds []float64
	planned float64 // of all units
}

func newQueue(p Plan, f Fleet) *queue {
	q := &queue{plan: p, fleet: f}
	type placed struct {
		unit  *Unit
		shard int
	}
	var all []placed
	for i, s := range p.Shards {
		for _, u := range s.Units {
			all = append(all, placed{u.Unit, i})
		}
	}
	slices.SortStableFunc(all, func(a, b placed) int { return cmp.Compare(b.unit.Seconds, a.unit.Seconds) })
	for _, u := range all {
		q.units, q.shard = append(q.units, u.unit), append(q.shard, u.shard)
		q.planned += u.unit.Alone()
	}
	q.seconds = make([]float64, len(q.units))
	return q
}

// draw draws how long each unit takes this time: lognormal, with the unit's mean
// and deviation, so never below 0 and now and then much longer.
func (q *queue) draw(random *rand.Rand) {
	for i := range q.units {
		u := q.units[i]
		q.seconds[i] = u.Seconds
		if u.Deviation > 0 && u.Seconds > 0 {
			variance := math.Log1p(u.Deviation * u.Deviation / (u.Seconds * u.Seconds))
			q.seconds[i] *= math.Exp(random.NormFloat64()*math.Sqrt(variance) - variance/2)
		}
	}
}

// fixed is when the shards of the plan end, one of which begins late.
func (q *queue) fixed(lateShard int, late float64) float64 {
	work := make([]float64, len(q.plan.Shards)) // more than planned
	for i := range q.units {
		work[q.shard[i]] += q.seconds[i] - q.units[i].Seconds
	}
	finish := 0.0
	free := make([]float64, q.fleet.AtOnce())
	for i, s := range q.plan.Shards {
		if len(s.Units) == 0 {
			continue
		}
		first := least(free)
		begin := max(free[first], q.fleet.Starts[i+1])
		if i == lateShard {
			begin += late
		}
		free[first] = begin + s.Seconds() + work[i]/q.fleet.speed(i+1)
		finish = max(finish, free[first])
	}
	return finish
}

// shared is when as many workers end that take batches from one queue, one of
// which begins late.
func (q *queue) shared(lateWorker int, late float64) float64 {
	workers := make([]worker, q.fleet.AtOnce())
	for i := range workers {
		workers[i] = worker{free: q.fleet.Starts[i+1], speed: q.fleet.speed(i + 1), begun: map[string]bool{}}
	}
	workers[lateWorker].free += late
	held := map[string][]float64{} // by scarce resource, for each that may hold it: until when
	for r, n := range q.fleet.Resources {
		if q.fleet.scarce(r) {
			held[r] = make([]float64, n)
		}
	}
	open := make([]int, len(q.units))
	for i := range open {
		open[i] = i
	}
	left, finish := q.planned, 0.0
	for len(open) > 0 {
		w := &workers[0]
		for i := range workers {
			if workers[i].free < w.free {
				w = &workers[i]
			}
		}
		batch := Share * left / float64(len(workers))
		for taken := 0.0; len(open) > 0; {
			at, begin := q.next(open, held, w.free)
			u := q.units[open[at]]
			if taken > 0 && (taken+u.Seconds > batch || begin > w.free) {
				break
			}
			w.free = begin
			w.do(u, q.seconds[open[at]])
			for _, r := range u.Uses {
				if until := held[r]; until != nil {
					until[slices.Index(until, slices.Min(until))] = w.free
				}
			}
			taken += u.Alone()
			left -= u.Alone()
			if at == 0 {
				open = open[1:]
			} else {
				open = slices.Delete(open, at, at+1)
			}
		}
		finish = max(finish, w.free)
	}
	return finish
}

// next is the first open unit whose resources are free at a time, or else the one
// whose are free soonest, and when it can begin.
func (q *queue) next(open []int, held map[string][]float64, now float64) (at int, begin float64) {
	begin = math.Inf(1)
	for i, u := range open {
		free := now
		for _, r := range q.units[u].Uses {
			if until := held[r]; until != nil {
				free = max(free, slices.Min(until))
			}
		}
		if free < begin {
			at, begin = i, free
		}
		if begin == now {
			break
		}
	}
	return at, begin
}

// worker takes batches from the queue.
type worker struct {
	free, speed float64
	begun       map[string]bool // places
}

// do lets time pass with a unit.
func (w *worker) do(u *Unit, seconds float64) {
	for _, s := range u.Setups {
		if !w.begun[s.Place] {
			w.begun[s.Place] = true
			seconds += s.Seconds
		}
	}
	w.free += seconds / w.speed
}
