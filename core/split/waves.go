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
	dealt := w.dealToRunners(f, effort)
	for _, whole := range []bool{true, false} {
		waves := w.inShards(f, dealt, whole)
		if finish := w.plan(f, waves, floor).Finish; finish < best {
			on, best = waves, finish
		}
	}
	return on, floor
}

// segment is the units of one shard.
type segment struct {
	units []int
	begin int64 // when its runner is free for it, in ticks
	wave  int   // from 0, on its runner
}

// runners is the units of a fleet dealt to as many runners as its shards may run at once.
type runners struct {
	many  []int   // by runner: how many shards run there, one after the other
	units [][]int // by runner, neighbours of one place together
}

// dealToRunners deals units to the runners of a fleet.
func (w *Work) dealToRunners(f Fleet, effort int) runners {
	n := f.AtOnce()
	r, late := runners{make([]int, n), make([][]int, n)}, map[int]float64{}
	for i := range r.many {
		r.many[i] = (f.Shards + n - 1 - i) / n
		late[i+1] = float64(r.many[i]) * f.Start
	}
	on, _ := w.deal(Fleet{Shards: n, Starts: late}, effort)
	for u, i := range on {
		r.units[i] = append(r.units[i], u)
	}
	for _, units := range r.units {
		w.gather(units)
	}
	return r
}

// inShards divides what each runner has into shards. whole says that the units of one place stay in one shard where a runner
// has several places.
func (w *Work) inShards(f Fleet, r runners, whole bool) (on []int) {
	var segments []segment
	for i, units := range r.units {
		free := int64(0)
		for wave, units := range w.cut(units, r.many[i], whole) {
			segments = append(segments, segment{units, free, wave})
			free += w.ticks(f.Start) + w.together(units)
		}
	}
	slices.SortStableFunc(segments, func(a, b segment) int { return cmp.Or(cmp.Compare(a.begin, b.begin), a.wave-b.wave) })
	on = make([]int, len(w.units))
	for number, s := range segments {
		for _, u := range s.units {
			on[u] = number
		}
	}
	return on
}

// cut divides neighbouring units into n parts of about the same length, between places if whole says so.
func (w *Work) cut(units []int, n int, whole bool) [][]int {
	parts := make([][]int, 0, n)
	left := w.together(units)
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
		left -= w.together(units[:at])
		units = units[at:]
	}
	return append(parts, units)
}

// samePlace reports whether two units share what is paid once for a place.
func (w *Work) samePlace(a, b int) bool {
	return slices.ContainsFunc(w.places[a], func(p int) bool { return slices.Contains(w.places[b], p) })
}
