package split

import (
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

// share is the part of what remains, over the workers, that a batch takes from the
// queue: so batches shrink, and the last ones are single units (Polychronopoulos
// and Kuck, "Guided self-scheduling", 1987).
const share = 0.5

// Look draws how a plan and a queue would end, and how where one worker begins so
// many seconds late. The same plan and seed give the same outlook.
func Look(p Plan, f Fleet, late float64, seed uint64) Outlook {
	q := newQueue(p, f)
	random := rand.New(rand.NewPCG(seed, 0))
	var out Outlook
	latest := 0
	for i := range p.Shards {
		if p.Shards[i].End > p.Shards[latest].End {
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
	slices.SortStableFunc(all, func(a, b placed) int {
		if a.unit.Seconds > b.unit.Seconds {
			return -1
		}
		if a.unit.Seconds < b.unit.Seconds {
			return 1
		}
		return 0
	})
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
		first := 0
		for r := range free {
			if free[r] < free[first] {
				first = r
			}
		}
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
	free := make([]float64, q.fleet.AtOnce())
	for i := range free {
		free[i] = q.fleet.Starts[i+1]
	}
	free[lateWorker] += late
	begun := make([]map[string]bool, len(free))
	for i := range begun {
		begun[i] = map[string]bool{}
	}
	left, finish := q.planned, 0.0
	for next := 0; next < len(q.units); {
		worker := 0
		for i := range free {
			if free[i] < free[worker] {
				worker = i
			}
		}
		batch := share * left / float64(len(free))
		for taken := 0.0; next < len(q.units) && (taken == 0 || taken+q.units[next].Seconds <= batch); next++ {
			u := q.units[next]
			cost := q.seconds[next]
			for _, s := range u.Setups {
				if !begun[worker][s.Place] {
					begun[worker][s.Place] = true
					cost += s.Seconds
				}
			}
			taken += u.Alone()
			left -= u.Alone()
			free[worker] += cost / q.fleet.speed(worker+1)
		}
		finish = max(finish, free[worker])
	}
	return finish
}
