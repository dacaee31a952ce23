package split

import (
	"maps"
	"math"
	"slices"

	"fernrelay/core/schedule"
)

// contended reports whether the shards, as workers of one machine, share a
// resource that not all of them may hold at once.
func (w *Work) contended(f Fleet) bool {
	holders := map[string]int{}
	for _, u := range w.units {
		for _, r := range u.Uses {
			if f.scarce(r) {
				holders[r]++
				if holders[r] > f.Resources[r] {
					return true
				}
			}
		}
	}
	return false
}

// scarce reports whether not all shards may hold a resource at once.
func (f Fleet) scarce(resource string) bool {
	capacity, ok := f.Resources[resource]
	return ok && capacity < f.AtOnce()
}

// planContended plans units whose resources must not be held by too many at once: with the holders of a resource
// one after the other on as many shards as may hold it, or in a schedule in which they keep out of each other's
// way, whichever finishes earlier.
func (w *Work) planContended(f Fleet, effort int) Plan {
	_, floor := w.deal(f, effort/4)
	held, busiest := w.busiest(f)
	best := w.planQueued(f, effort, max(floor, held))
	kept := best.keeps(f)
	if f.AtOnce() == f.Shards && (!best.Optimal || !kept) && len(w.units) <= mostWoven {
		if woven := w.planWoven(f, max(floor, held)); woven.Finish < best.Finish || !kept {
			best = woven
		}
	}
	if held > floor {
		best.Setter, best.Held = w.wholeOf(busiest), busiest
		if best.Setter != nil {
			best.Held = ""
		}
	}
	return best
}

// wholeOf returns the unit whose parts run one after the other for the sake of a resource; nil for any other resource.
func (w *Work) wholeOf(resource string) *schedule.Unit {
	for _, u := range w.units {
		if u.Whole != nil && resource == schedule.Exclusive(u.Of) {
			return u.Whole
		}
	}
	return nil
}

// keeps reports whether every unit is on the shard that it is pinned to. Units that wait for a resource on one
// shard may not be, if several shards have pinned ones.
func (p Plan) keeps(f Fleet) bool {
	for _, s := range p.Shards {
		for _, u := range s.Units {
			if pin := f.pin(u.Unit); pin > 0 && pin != s.Number {
				return false
			}
		}
	}
	return true
}

// mostWoven bounds the units that are laid one by one, which takes quadratic time.
const mostWoven = 2000

// busiest returns the resource that is held longest, and the time for which it is held in any plan.
func (w *Work) busiest(f Fleet) (ticks int64, resource string) {
	held := map[string]int64{}
	fastest := 1.0
	for _, s := range f.Speeds {
		fastest = max(fastest, s)
	}
	for u := range w.units {
		for _, r := range w.units[u].Uses {
			if f.scarce(r) {
				held[r] += w.own[u]
			}
		}
	}
	for _, r := range slices.Sorted(maps.Keys(held)) {
		if t := int64(float64(held[r]) / float64(f.Resources[r]) / fastest); t > ticks {
			ticks, resource = t, r
		}
	}
	return ticks, resource
}

// planQueued makes one unit of all that hold the same resource, or as many as may
// hold it at once, and plans those.
func (w *Work) planQueued(f Fleet, effort int, floor int64) Plan {
	sets, lanes := schedule.NewSets(len(w.units)), map[int]int{}
	first := map[string]int{}
	for u := range w.units {
		for _, r := range w.units[u].Uses {
			if !f.scarce(r) {
				continue
			}
			if at, ok := first[r]; ok {
				sets.Join(u, at)
			} else {
				first[r] = u
			}
		}
	}
	for r, u := range first {
		root := sets.Find(u)
		if n, ok := lanes[root]; !ok || f.Resources[r] < n {
			lanes[root] = f.Resources[r]
		}
	}
	together := schedule.NewSets(len(w.units))
	loads, lane := map[int][]int64{}, map[int][]int{} // by set and lane: the work, and its first unit
	for u := range w.units {
		root := sets.Find(u)
		n, held := lanes[root]
		if !held {
			continue
		}
		if len(lane[root]) < n {
			lane[root], loads[root] = append(lane[root], u), append(loads[root], w.lengths[u])
			continue
		}
		to := least(loads[root])
		loads[root][to] += w.lengths[u]
		together.Join(lane[root][to], u)
	}
	whole, in := schedule.Joined(w.copies(), together)
	p := w.planWhole(whole, in, f, effort)
	p.Floor = min(max(w.seconds(floor), 0), p.Finish)
	p.Optimal = p.Finish-p.Floor < 2/w.scale
	return p
}

func (w *Work) copies() []schedule.Unit {
	units := make([]schedule.Unit, len(w.units))
	for i, u := range w.units {
		units[i] = *u
	}
	return units
}

// planWhole plans units that others were joined to, and returns their plan; in has the unit that each was joined
// to.
func (w *Work) planWhole(whole []schedule.Unit, in []int, f Fleet, effort int) Plan {
	pins := map[string]int{}
	for u := range w.units { // what is joined goes with the first that is pinned
		name := whole[in[u]].Name
		if number := f.pin(w.units[u]); number > 0 && pins[name] == 0 {
			pins[name] = number
		}
	}
	joint := f
	joint.Pins = pins
	work := NewWork(whole)
	dealt, floor := work.dealInWaves(joint, effort)
	at := make(map[string]int, len(whole))
	for u := range work.units {
		at[work.units[u].Name] = dealt[u]
	}
	on := make([]int, len(w.units))
	for u := range on {
		on[u] = at[whole[in[u]].Name]
	}
	return w.plan(f, w.numbered(f, on), floor)
}

// planWoven lays units into the shards one by one: the shard that is free first takes the most pressing unit whose
// resources are free then. A unit is pressing if it holds a resource that much remaining work needs, and then if
// it is long.
func (w *Work) planWoven(f Fleet, floor int64) Plan {
	v := &weaver{Work: w, fleet: f, plan: w.empty(f), held: map[string][]int64{}, left: map[string]int64{}, free: make([]int64, f.Shards)}
	for u := range w.units {
		v.open = append(v.open, u)
		for _, r := range w.units[u].Uses {
			if f.scarce(r) {
				v.left[r] += w.ownWithSetups(u)
				v.held[r] = make([]int64, f.Resources[r])
			}
		}
	}
	for i := range v.free {
		v.free[i] = w.ticks(f.start(i + 1))
	}
	for len(v.open) > 0 {
		v.next()
	}
	w.close(&v.plan, floor)
	return v.plan
}

type weaver struct {
	*Work
	fleet Fleet
	plan  Plan
	open  []int              // units that have no place yet
	free  []int64            // by shard: from when on
	held  map[string][]int64 // by resource, for each that may hold it: until when
	left  map[string]int64   // by resource: work still to come
}

// next lays one more unit.
func (v *weaver) next() {
	best, bestShard, bestStart := -1, 0, int64(math.MaxInt64)
	for i, u := range v.open {
		shard := v.shardFor(u)
		start := max(v.free[shard], v.until(u))
		if start < bestStart || start == bestStart && v.pressing(u) > v.pressing(v.open[best]) {
			best, bestShard, bestStart = i, shard, start
		}
	}
	u := v.open[best]
	v.open = slices.Delete(v.open, best, best+1)
	length := int64(float64(v.ownWithSetups(u)) / v.fleet.speed(bestShard+1))
	end := bestStart + length
	v.free[bestShard] = end
	for _, r := range v.units[u].Uses {
		if until := v.held[r]; until != nil {
			slices.Sort(until)
			until[0] = end
			v.left[r] -= v.ownWithSetups(u)
		}
	}
	s := &v.plan.Shards[bestShard]
	s.Units = append(s.Units, Placed{v.units[u], v.seconds(bestStart)})
	s.End = v.seconds(end)
}

// shardFor is the shard that is free first for a unit.
func (v *weaver) shardFor(u int) int {
	if number := v.fleet.pin(v.units[u]); number > 0 {
		return number - 1
	}
	return least(v.free)
}

// until is when the resources of a unit are free.
func (v *weaver) until(u int) int64 {
	t := int64(0)
	for _, r := range v.units[u].Uses {
		if until := v.held[r]; until != nil {
			t = max(t, slices.Min(until))
		}
	}
	return t
}

func (v *weaver) pressing(u int) int64 {
	most := v.ownWithSetups(u)
	for _, r := range v.units[u].Uses {
		if n := len(v.held[r]); n > 0 {
			most = max(most, v.left[r]/int64(n))
		}
	}
	return most
}
