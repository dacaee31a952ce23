package split

import (
	"cmp"
	"slices"
)

// dealInWaves is deal. If only some shards run at once, it also deals the units to as many runners, divides what each has into the
// shards that run there one after the other, and returns what finishes earlier.
func (w *Work) dealInWaves(f Fleet, effort int) (on []int, floor int64) {
	on, floor = w.deal(f, effort)
	if f.AtOnce() == f.Shards || len(f.Pins)+len(f.Starts)+len(f.Speeds) > 0 {
		return on, floor
	}
	best := w.plan(f, w.numbered(f, on), floor).Finish
	for _, whole := range []bool{true, false} {
		waves := w.onRunners(f, effort, whole)
		if finish := w.plan(f, waves, floor).Finish; finish < best {
			on, best = waves, finish
		}
	}
	return on, floor
}

// part is the units of one shard.
type part struct {
	units []int
	begin int64 // when its runner is free for it, in ticks
	wave  int   // from 0, on its runner
}

// onRunners deals units to the runners of a fleet and divides them into shards. whole says that the units of one place stay in one
// shard where a runner has several places.
func (w *Work) onRunners(f Fleet, effort int, whole bool) (on []int) {
	runners := Fleet{Shards: f.AtOnce(), Starts: map[int]float64{}}
	many := make([]int, runners.Shards)
	for r := range many {
		many[r] = f.Shards / runners.Shards
		if r < f.Shards%runners.Shards {
			many[r]++
		}
		runners.Starts[r+1] = float64(many[r]) * f.Start
	}
	dealt, _ := w.deal(runners, effort)
	members := make([][]int, runners.Shards)
	for u, r := range dealt {
		members[r] = append(members[r], u)
	}
	var parts []part
	for r, units := range members {
		w.gather(units)
		free := int64(0)
		for wave, units := range w.cut(units, many[r], whole) {
			parts = append(parts, part{units, free, wave})
			free += w.ticks(f.Start) + w.taken(units)
		}
	}
	slices.SortStableFunc(parts, func(a, b part) int { return cmp.Or(cmp.Compare(a.begin, b.begin), a.wave-b.wave) })
	on = make([]int, len(w.units))
	for number, p := range parts {
		for _, u := range p.units {
			on[u] = number
		}
	}
	return on
}

// taken is what units take on one shard, in ticks.
func (w *Work) taken(units []int) int64 {
	ticks, begun := int64(0), map[int]bool{}
	for _, u := range units {
		ticks += w.own[u]
		for _, p := range w.places[u] {
			if !begun[p] {
				begun[p] = true
				ticks += w.setups[p]
			}
		}
	}
	return ticks
}

// cut divides neighbouring units into n parts of about the same length, between places if whole says so.
func (w *Work) cut(units []int, n int, whole bool) [][]int {
	parts := make([][]int, 0, n)
	left := w.taken(units)
	for len(parts) < n-1 {
		target, length, at := left/int64(n-len(parts)), int64(0), 0
		for at < len(units) {
			next := w.own[units[at]]
			if length+next/2 > target {
				break
			}
			length += next
			at++
		}
		for whole && at > 0 && at < len(units) && w.samePlace(units[at-1], units[at]) {
			at++
		}
		parts = append(parts, units[:at])
		left -= w.taken(units[:at])
		units = units[at:]
	}
	return append(parts, units)
}

// samePlace reports whether two units share what is paid once for a place.
func (w *Work) samePlace(a, b int) bool {
	return slices.ContainsFunc(w.places[a], func(p int) bool { return slices.Contains(w.places[b], p) })
}
