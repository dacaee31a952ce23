package split

import (
	"math"
	"math/rand/v2"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/schedule"
)

// Outlook compares the shards of a plan with as many workers that take batches
// from one queue, when tests take as long as they may: the finishes of both, over
// many rounds, the soonest first.
type Outlook struct {
	Fixed, Queue         []float64 // all begin in time
	FixedLate, QueueLate []float64 // the worker with the latest shard begins late
}

// Rounds is the number of times that the finishes are drawn.
const Rounds = 200

// Simulate draws how a plan and a queue would end, in time and with one worker that begins late, in seconds. The same
// plan and seed give the same outlook. The schedule's forecast plays both.
func Simulate(p Plan, f Fleet, late float64, seed uint64) Outlook {
	d := newDraws(p)
	fixed, queue := d.fixed(f), d.queue(f)
	random := rand.New(rand.NewPCG(seed, 0))
	latest := 0
	for i := range p.Shards {
		if len(p.Shards[i].Units) > 0 && (len(p.Shards[latest].Units) == 0 || p.Shards[i].End > p.Shards[latest].End) {
			latest = i
		}
	}
	var out Outlook
	for range Rounds {
		d.draw(random)
		fixed.enter(d)
		queue.enter(d)
		out.Fixed = append(out.Fixed, fixed.finish(latest, 0))
		out.FixedLate = append(out.FixedLate, fixed.finish(latest, late))
		out.Queue = append(out.Queue, queue.finish(0, 0))
		out.QueueLate = append(out.QueueLate, queue.finish(0, late))
	}
	for _, finishes := range [][]float64{out.Fixed, out.FixedLate, out.Queue, out.QueueLate} {
		slices.Sort(finishes)
	}
	return out
}

// draws draws times for the units of a plan.
type draws struct {
	plan    Plan
	units   []*schedule.Unit // shard after shard
	at      map[string]int   // by the unit's name
	seconds []float64        // drawn, by unit
}

func newDraws(p Plan) *draws {
	d := &draws{plan: p, at: map[string]int{}}
	for _, s := range p.Shards {
		for _, u := range s.Units {
			d.at[u.Name] = len(d.units)
			d.units = append(d.units, u.Unit)
		}
	}
	d.seconds = make([]float64, len(d.units))
	return d
}

// draw draws the seconds that each unit takes this time: lognormal, with the unit's mean and deviation, so never
// below 0 and sometimes much longer.
func (d *draws) draw(random *rand.Rand) {
	for i, u := range d.units {
		d.seconds[i] = u.Seconds
		if u.Deviation > 0 && u.Seconds > 0 {
			variance := math.Log1p(u.Deviation * u.Deviation / (u.Seconds * u.Seconds))
			d.seconds[i] *= math.Exp(random.NormFloat64()*math.Sqrt(variance) - variance/2)
		}
	}
}

// scene is a schedule that is forecast again and again.
type scene struct {
	*schedule.Schedule
	starts     []float64                // by worker
	batches    []sceneBatch             // by batch
	speed      func(worker int) float64 // nil for 1
	processors int
	seconds    []float64 // by batch, in this round
}

// sceneBatch takes fixed seconds, and for each unit the drawn seconds times a factor.
type sceneBatch struct {
	fixed, factor float64
	units         []int
}

// enter computes how long the batches take with the drawn times.
func (s *scene) enter(d *draws) {
	s.seconds = s.seconds[:0]
	for _, b := range s.batches {
		drawn := 0.0
		for _, unit := range b.units {
			drawn += d.seconds[unit]
		}
		s.seconds = append(s.seconds, b.fixed+b.factor*drawn)
	}
}

// finish returns when the scene ends if one worker begins late.
func (s *scene) finish(lateWorker int, late float64) float64 {
	starts := slices.Clone(s.starts)
	starts[lateWorker] += late
	return s.FinishOf(len(s.starts), schedule.Progress{Late: starts, Speed: s.speed, Processors: s.processors, Seconds: func(batch int) float64 { return s.seconds[batch] }})
}

// atOnce is the resource that bounds how many shards run at once.
var atOnce = schedule.Exclusive("at once")

// fixed returns the scene in which each shard of the plan has a worker of its own.
func (d *draws) fixed(f Fleet) *scene {
	s := &scene{starts: f.starts(len(d.plan.Shards)), processors: f.Processors}
	var batches []schedule.Batch
	for i := range d.plan.Shards {
		shard := &d.plan.Shards[i]
		if len(shard.Units) == 0 {
			continue
		}
		b, alone, busy, drawn := sceneBatch{factor: 1 / f.speed(shard.Number)}, 0.0, 0.0, 0.0
		for _, u := range shard.Units {
			b.units = append(b.units, d.at[u.Name])
			alone, busy, drawn = alone+u.Alone(), busy+u.Busy, drawn+u.Unit.Seconds
		}
		b.fixed = (alone - drawn) * b.factor
		if f.Processors == 0 { // the plan knows what waits, and what is begun once for several units
			b.fixed = shard.Seconds() - drawn*b.factor
		}
		batches = append(batches, schedule.Batch{Worker: i + 1, Tests: []catalog.Test{{Expected: alone, Share: busy / max(alone, 1e-9), Ruled: &catalog.Rules{Holds: []string{atOnce}}}}})
		s.batches = append(s.batches, b)
	}
	s.Schedule = schedule.Of(batches, map[string]int{atOnce: f.AtOnce()})
	return s
}

// queue returns the scene in which as many workers as run at once take the units from one queue.
func (d *draws) queue(f Fleet) *scene {
	tests := make([]catalog.Test, len(d.units))
	for i, u := range d.units {
		t := &tests[i]
		t.ID, t.Group, t.Expected, t.Setup = u.Name, u.Place(), u.Seconds, u.Alone()-u.Seconds
		t.Share = u.Share()
		if scarce := slices.DeleteFunc(slices.Clone(u.Uses), func(r string) bool { return !f.scarce(r) }); len(scarce) > 0 {
			t.Ruled = &catalog.Rules{Holds: scarce}
		}
	}
	queue := schedule.New(tests, schedule.Options{Workers: f.AtOnce(), Together: catalog.TestLevel, Resources: f.Resources})
	s := &scene{Schedule: queue, starts: f.starts(f.AtOnce()), processors: f.Processors}
	if len(f.Speeds) > 0 {
		s.speed = func(worker int) float64 { return f.speed(worker + 1) }
	}
	for i := range s.Batches {
		b := sceneBatch{fixed: s.Batches[i].Setup(), factor: 1}
		for j := range s.Batches[i].Tests {
			b.units = append(b.units, d.at[s.Batches[i].Tests[j].ID])
		}
		s.batches = append(s.batches, b)
	}
	return s
}

// starts returns when each of the first workers begins, in seconds.
func (f Fleet) starts(workers int) []float64 {
	starts := make([]float64, workers)
	for i := range starts {
		starts[i] = f.start(i + 1)
	}
	return starts
}
