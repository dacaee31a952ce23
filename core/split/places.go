package split

import (
	"cmp"
	"slices"
)

// keepPlaces searches for a deal with lower costs for setups that units share: with all units of a place kept
// together, and with places cut only where a shard is full. It returns the best, or nil if the present one is no
// worse.
//
// Suppose a place costs 10 s to set up, and its units A and B take 5 s each. Dealt to two shards, both shards pay: each ends
// after 15 s. Together on one shard they end after 20 s, while the other shard is free for 20 s of something else. Which
// is better depends on everything else, so both kinds of deal are tried and compared by their finish.
func (w *Work) keepPlaces(f Fleet, effort int, machines []machine, unit int64, free, on []int) (best []int) {
	soonest := w.finish(f, on)
	try := func(other []int) {
		if end := w.finish(f, other); end < soonest {
			best, soonest = other, end
		}
	}
	groups := w.byPlace(free)
	try(w.wholePlaces(f, effort, machines, unit, groups, on))
	// wrap fits if the time is long enough, and hardly ever fits again with less: so the least time is found by halving.
	low, high := int64(0), soonest
	for low < high { // the soonest by which all fit when they are laid end to end
		middle := low + (high-low)/2
		if other := w.wrap(middle, machines, unit, groups, on); other != nil {
			try(other)
			high = middle
		} else {
			low = middle + 1
		}
	}
	return best
}

// byPlace folds units by their place, the place with most work first.
func (w *Work) byPlace(free []int) [][]int {
	type place struct {
		units []int
		work  int64
	}
	var places []*place
	at := map[int]*place{}
	for _, u := range free {
		var p *place
		if len(w.places[u]) > 0 {
			p = at[w.places[u][0]]
		}
		if p == nil {
			p = &place{}
			places = append(places, p)
		}
		if len(w.places[u]) > 0 {
			at[w.places[u][0]] = p
		}
		p.units, p.work = append(p.units, u), p.work+w.lengths[u]
	}
	slices.SortStableFunc(places, func(a, b *place) int { return cmp.Compare(b.work, a.work) })
	groups := make([][]int, len(places))
	for i, p := range places {
		groups[i] = p.units
	}
	return groups
}

// wholePlaces deals places out as if each were one unit.
func (w *Work) wholePlaces(f Fleet, effort int, machines []machine, unit int64, groups [][]int, on []int) []int {
	lengths := make([]int64, len(groups))
	for g, units := range groups {
		for _, u := range units {
			lengths[g] += w.lengths[u] / unit
		}
	}
	d := solve(lengths, machines, effort/4)
	out := slices.Clone(on)
	for g, units := range groups {
		for _, u := range units {
			out[u] = d.on[g]
		}
	}
	return out
}

// wrap lays the units of one place after the other into shards that must finish by a time, and goes to the next
// shard when one is full; nil if the shards do not suffice.
//
// With shards that must finish by 10, and places of the units 4, 3 and 5, 2:
//
//	shard 1  4444 333     the 5 of the next place does not fit
//	shard 2  55555 22
//
// This is McNaughton's wrap-around rule ("Scheduling with deadlines and loss functions", 1959), but for units that cannot be cut.
func (w *Work) wrap(t int64, machines []machine, unit int64, groups [][]int, on []int) []int {
	out := slices.Clone(on)
	at, room := 0, machines[0].room(t/unit)*unit
	for _, units := range groups {
		begun := false
		for _, u := range units {
			for {
				cost := w.own[u]
				if !begun {
					cost = w.ownWithSetups(u)
				}
				if cost <= room {
					room -= cost
					break
				}
				if at++; at == len(machines) {
					return nil
				}
				room, begun = machines[at].room(t/unit)*unit, false
			}
			out[u], begun = at, true
		}
	}
	return out
}

func (w *Work) ownWithSetups(u int) int64 {
	cost := w.own[u]
	for _, p := range w.places[u] {
		cost += w.setups[p]
	}
	return cost
}
