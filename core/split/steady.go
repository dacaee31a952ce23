package split

import (
	"cmp"
	"slices"
)

// Steady plans so that as few units as possible leave the shard on which their tests ran by an earlier plan, and
// the finish is later than the best one by at most a part of it: 0.01 for one per cent. earlier has the shard's
// number by the tests' IDs. moved counts the tests that move to another shard.
func (w *Work) Steady(f Fleet, earlier map[string]int, allow float64, effort int) (plan Plan, moved int) {
	best := w.Plan(f, effort)
	if w.contended(f) || f.AtOnce() < f.Shards {
		return best, w.moved(best, earlier)
	}
	s := &steady{Work: w, fleet: f, machines: w.machines(f), on: make([]int, len(w.units)), members: make([][]int, f.Shards), loads: make([]int64, f.Shards)}
	s.cap = w.ticks(best.Finish * (1 + allow))
	var homeless []int
	for u := range w.units {
		s.on[u] = -1
		if at := w.home(u, f, earlier); at >= 0 {
			s.put(u, at)
			continue
		}
		homeless = append(homeless, u)
	}
	for _, u := range homeless {
		s.put(u, s.roomiest())
	}
	most := best.Finish*(1+allow) + 2/w.scale
	for range stricter {
		for s.relieve() {
		}
		plan = w.plan(f, s.on, w.ticks(best.Floor))
		if plan.Finish <= most {
			return plan, w.moved(plan, earlier)
		}
		s.cap -= w.ticks(plan.Finish - most) // setups that units share are added
	}
	return best, w.moved(best, earlier)
}

// stricter is the number of shorter times that are tried if the permitted one was exceeded.
const stricter = 6

// home returns the shard, from 0, on which most of a unit's tests ran; -1 if none did.
func (w *Work) home(u int, f Fleet, earlier map[string]int) int {
	if number := f.pin(w.units[u]); number > 0 {
		return number - 1
	}
	votes := map[int]int{}
	home := -1
	for _, id := range w.units[u].Tests {
		number, known := earlier[id]
		if !known || number < 1 || number > f.Shards {
			continue
		}
		at := number - 1
		votes[at]++
		if home < 0 || votes[at] > votes[home] || votes[at] == votes[home] && at < home {
			home = at
		}
	}
	return home
}

// moved counts the tests that a plan moves to another shard.
func (w *Work) moved(p Plan, earlier map[string]int) int {
	n := 0
	for _, s := range p.Shards {
		for _, u := range s.Units {
			for _, id := range u.Tests {
				if before, known := earlier[id]; known && before != s.Number {
					n++
				}
			}
		}
	}
	return n
}

// steady is a deal that is changed as little as possible.
type steady struct {
	*Work
	fleet    Fleet
	machines []machine
	on       []int
	members  [][]int
	loads    []int64
	cap      int64 // when all should have ended
}

func (s *steady) put(u, at int) {
	if from := s.on[u]; from >= 0 {
		s.loads[from] -= s.lengths[u]
		s.members[from] = slices.DeleteFunc(s.members[from], func(other int) bool { return other == u })
	}
	s.on[u] = at
	s.loads[at] += s.lengths[u]
	s.members[at] = append(s.members[at], u)
}

// room is how much more a shard could take and still end in time.
func (s *steady) room(at int) int64 { return s.machines[at].room(s.cap) - s.loads[at] }

func (s *steady) roomiest() int {
	best := 0
	for at := range s.loads {
		if s.room(at) > s.room(best) {
			best = at
		}
	}
	return best
}

// relieve moves one unit, or exchanges two, from the shard that exceeds the permitted time the most, so that it
// comes closest to it; false if all are in time or nothing helps.
//
// If a shard is 3 s over and has units of 2, 4 and 9 s, and the roomiest shard has room for 5 s, then 4 moves: it is the shortest that
// is enough. With room for 3 s, 2 moves, and the next call goes on from there.
func (s *steady) relieve() bool {
	full := 0
	for at := range s.loads {
		if s.room(at) < s.room(full) {
			full = at
		}
	}
	over := -s.room(full)
	if over <= 0 {
		return false
	}
	to := s.roomiest()
	room := s.room(to)
	movable := slices.DeleteFunc(slices.Clone(s.members[full]), func(u int) bool { return s.fleet.pin(s.units[u]) > 0 })
	slices.SortFunc(movable, func(a, b int) int { return cmp.Compare(s.lengths[a], s.lengths[b]) })
	// The shortest that is enough, or else the longest that fits.
	largest := -1
	for _, u := range movable {
		if s.lengths[u] > room {
			break
		}
		if largest = u; s.lengths[u] >= over {
			break
		}
	}
	if largest >= 0 && s.lengths[largest] > 0 {
		s.put(largest, to)
		return true
	}
	return s.exchange(full, to, movable, over, room)
}

// exchange exchanges the two units that relieve a shard most, within the room that the other has.
func (s *steady) exchange(full, to int, movable []int, over, room int64) bool {
	bestGive, bestTake, most := -1, -1, int64(0)
search:
	for _, give := range movable {
		for _, take := range s.members[to] {
			relief := s.lengths[give] - s.lengths[take]
			if relief <= most || relief > room || s.fleet.pin(s.units[take]) > 0 {
				continue
			}
			bestGive, bestTake, most = give, take, relief
			if relief >= over {
				break search // more would not help
			}
		}
	}
	if bestGive < 0 {
		return false
	}
	s.put(bestGive, to)
	s.put(bestTake, full)
	return true
}
