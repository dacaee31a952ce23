package split

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"fernrelay/core/schedule"
)

// The efforts of planning, in steps; a million take about a tenth of a second.
const (
	Quick    = 10_000
	Thorough = 1_500_000
)

// Work is units, prepared to be planned for any number of shards.
type Work struct {
	units   []*schedule.Unit // the longest first, by length
	lengths []int64          // in ticks; see length
	own     []int64          // the same without any setup
	setups  []int64          // by place
	places  [][]int          // by unit
	shared  bool             // units share a setup
	scale   float64          // ticks a second
	total   float64          // seconds alone, all together
	unknown int
	guessed float64 // of the total: seconds of tests never measured
}

// NewWork prepares units, which must not change any more.
//
// What units of one place share counts once per shard. Because it is paid at least once, it is added to the length
// of the place's longest unit: no plan is shorter than its lengths say, and if no two units share a setup none is
// longer.
func NewWork(units []schedule.Unit) *Work {
	w := &Work{units: make([]*schedule.Unit, len(units))}
	seconds, names := 0.0, map[string]int{}
	for i := range units {
		w.units[i] = &units[i]
		seconds += units[i].Alone()
		w.unknown += units[i].Unknown
		w.guessed += units[i].Estimated
	}
	// The finest scale on which all work together is still counted exactly.
	for w.scale = 1e9; seconds*w.scale > 1<<60; {
		w.scale /= 1000
	}
	alone := int64(0)
	w.own, w.places = make([]int64, len(units)), make([][]int, len(units))
	w.sort()
	for i, u := range w.units {
		w.own[i] = w.ticks(u.Seconds)
		for _, s := range u.Setups {
			p, known := names[s.Place]
			if !known {
				p = len(w.setups)
				names[s.Place] = p
				w.setups = append(w.setups, w.ticks(s.Seconds))
			}
			w.shared = w.shared || known
			w.places[i] = append(w.places[i], p)
		}
		alone += w.lengths[i]
	}
	w.total = w.seconds(alone)
	return w
}

// sort puts the longest unit first. A setup that several units share adds to the length of the one that pays for it.
func (w *Work) sort() {
	paid := w.payers()
	type sized struct {
		unit   *schedule.Unit
		length int64
	}
	order := make([]sized, len(w.units))
	for i, u := range w.units {
		order[i] = sized{u, w.ticks(u.Seconds)}
		for _, s := range u.Setups {
			if paid[s.Place] == i {
				order[i].length += w.ticks(s.Seconds)
			}
		}
	}
	slices.SortFunc(order, func(a, b sized) int {
		return cmp.Or(cmp.Compare(b.length, a.length), strings.Compare(a.unit.Name, b.unit.Name))
	})
	w.lengths = make([]int64, len(order))
	for i, o := range order {
		w.units[i], w.lengths[i] = o.unit, o.length
	}
}

// payers returns the longest unit of every place, of equal ones the first by name.
func (w *Work) payers() map[string]int {
	longest := map[string]int{}
	for i := range w.units {
		u := w.units[i]
		for _, s := range u.Setups {
			at, known := longest[s.Place]
			if !known || u.Seconds > w.units[at].Seconds || u.Seconds == w.units[at].Seconds && u.Name < w.units[at].Name {
				longest[s.Place] = i
			}
		}
	}
	return longest
}

func (w *Work) ticks(seconds float64) int64 { return int64(math.Round(seconds * w.scale)) }

func (w *Work) seconds(ticks int64) float64 { return float64(ticks) / w.scale }

// Units returns the units, the longest first.
func (w *Work) Units() []*schedule.Unit { return w.units }

// Plan deals the units out so that the last shard ends as soon as can be found.
func (w *Work) Plan(f Fleet, effort int) Plan {
	p := w.planAlone(f, effort)
	slowDown(&p, f)
	return p
}

// planAlone plans as if every shard had enough processors.
func (w *Work) planAlone(f Fleet, effort int) Plan {
	if w.contended(f) {
		return w.planContended(f, effort)
	}
	on, floor := w.dealInWaves(f, effort)
	return w.plan(f, w.numbered(f, on), floor)
}

// deal returns the shard of every unit, from 0, and a proved floor in ticks.
func (w *Work) deal(f Fleet, effort int) (on []int, floor int64) {
	start := w.ticks(f.Start)
	f.Start = 0 // it makes no difference to what goes where
	machines := w.machines(f)
	on = make([]int, len(w.units))
	free := make([]int, 0, len(w.units)) // units that are not pinned
	for u := range w.units {
		if number := f.pin(w.units[u]); number > 0 {
			on[u] = number - 1
			machines[number-1].base += w.lengths[u]
			continue
		}
		free = append(free, u)
	}
	lengths := make([]int64, len(free))
	for i, u := range free {
		lengths[i] = w.lengths[u]
	}
	unit := w.coarsen(lengths, machines)
	d := solve(lengths, machines, effort)
	floor = start + d.floor*unit
	for i, u := range free {
		on[u] = d.on[i]
	}
	if f.AtOnce() < f.Shards {
		return on, start + w.limited(f, lengths, machines)*unit
	}
	if w.shared {
		if whole := w.keepPlaces(f, effort, machines, unit, free, on); whole != nil {
			on = whole
		}
	}
	return on, floor
}

// machines is what the shards are to the solver. Shards that go one after the
// other get as much less: they are as if they were slower.
func (w *Work) machines(f Fleet) []machine {
	machines := make([]machine, f.Shards)
	waves := f.waves()
	for i := range machines {
		machines[i] = machine{start: w.ticks(f.start(i + 1)), speed: f.speed(i+1) / float64(waves[i])}
	}
	return machines
}

// waves returns for each shard how many more shards share a runner with it than with the one that shares its
// runner with the fewest, if only some run at once. The shards are in the order in which they begin.
func (f Fleet) waves() []int {
	runners := f.AtOnce()
	type wave struct {
		begin float64 // as a part of all
		many  int
	}
	var waves []wave
	for r := range runners {
		many := f.Shards / runners
		if r >= runners-f.Shards%runners {
			many++ // the last runners take one more if the number is not even
		}
		for k := range many {
			waves = append(waves, wave{float64(k) / float64(many), many})
		}
	}
	slices.SortStableFunc(waves, func(a, b wave) int { return cmp.Compare(a.begin, b.begin) })
	out := make([]int, len(waves))
	for i, w := range waves {
		out[i] = w.many
		if f.Shards%runners == 0 {
			out[i] = 1 // all are alike
		}
	}
	return out
}

// limited returns the floor in ticks of work on as many machines as run at once.
func (w *Work) limited(f Fleet, lengths []int64, machines []machine) int64 {
	lengths = slices.Clone(lengths)
	for i := range machines {
		if machines[i].base > 0 {
			lengths = append(lengths, machines[i].base)
		}
	}
	slices.SortFunc(lengths, func(a, b int64) int { return cmp.Compare(b, a) })
	alike := make([]machine, f.AtOnce())
	for i := range alike {
		alike[i].speed = 1
	}
	return floor(lengths, alike)
}

// coarsen counts lengths and machines in the greatest tick that divides all of them, and returns it, so that
// bounds can be rounded up to the next one.
func (w *Work) coarsen(lengths []int64, machines []machine) int64 {
	unit := int64(0)
	common := func(v int64) {
		for v != 0 {
			unit, v = v, unit%v
		}
	}
	for _, m := range machines {
		if m.speed != 1 {
			return 1
		}
		common(m.start)
		common(m.base)
	}
	for i := 0; i < len(lengths) && unit != 1; i++ {
		common(lengths[i])
	}
	if unit <= 1 {
		return 1
	}
	for i := range lengths {
		lengths[i] /= unit
	}
	for i := range machines {
		machines[i].start /= unit
		machines[i].base /= unit
	}
	return unit
}

// loads returns what each shard really takes in ticks, with the setups of all places that are in it.
func (w *Work) loads(on []int, shards int) []int64 {
	loads := make([]int64, shards)
	if !w.shared {
		for u, at := range on {
			loads[at] += w.lengths[u]
		}
		return loads
	}
	type visit struct{ shard, place int }
	begun := map[visit]bool{}
	for u, at := range on {
		loads[at] += w.own[u]
		for _, p := range w.places[u] {
			if !begun[visit{at, p}] {
				begun[visit{at, p}] = true
				loads[at] += w.setups[p]
			}
		}
	}
	return loads
}

// finish is when the last shard ends, in ticks.
func (w *Work) finish(f Fleet, on []int) int64 {
	machines, last := w.machines(f), int64(0)
	for i, load := range w.loads(on, f.Shards) {
		last = max(last, machines[i].end(load))
	}
	return last
}

// plan writes down where the units go.
func (w *Work) plan(f Fleet, on []int, floor int64) Plan {
	members := make([][]int, f.Shards)
	for u, at := range on {
		members[at] = append(members[at], u)
	}
	p := w.empty(f)
	for i := range p.Shards {
		w.fill(&p.Shards[i], members[i], f.speed(i+1))
	}
	w.inWaves(&p, f)
	w.close(&p, floor)
	return p
}

// numbered returns numbers for shards that are alike: the one with the longest unit is the first, of the others
// the one with the next, and so on.
func (w *Work) numbered(f Fleet, on []int) []int {
	if !f.uniform() {
		return on
	}
	number := make(map[int]int, f.Shards)
	out := make([]int, len(on))
	for u, at := range on {
		if _, known := number[at]; !known {
			number[at] = len(number)
		}
		out[u] = number[at]
	}
	return out
}

// least is the index of the least value, of equal ones the first.
func least[T cmp.Ordered](values []T) int {
	return slices.Index(values, slices.Min(values))
}

// empty is a plan without any unit.
func (w *Work) empty(f Fleet) Plan {
	p := Plan{Shards: make([]Shard, f.Shards), Start: f.Start, Work: w.total, Unknown: w.unknown, Estimated: w.guessed}
	for i := range p.Shards {
		p.Shards[i].Number = i + 1
		p.Shards[i].Start = f.start(i + 1)
		p.Shards[i].End = p.Shards[i].Start
	}
	return p
}

// fill adds units to a shard, those of one place side by side because they run in one batch.
func (w *Work) fill(s *Shard, members []int, speed float64) {
	if w.shared {
		w.gather(members)
	}
	s.Units = make([]Placed, 0, len(members))
	ticks := w.lay(members, func(u int, ticks int64) {
		s.Units = append(s.Units, Placed{w.units[u], s.Start + w.seconds(ticks)/speed})
	})
	s.End = s.Start + w.seconds(ticks)/speed
}

// lay calls each for units that run one after the other, with what is before it, and returns what they take together, in ticks. A
// place is set up once.
func (w *Work) lay(units []int, each func(u int, before int64)) (ticks int64) {
	begun := map[int]bool{}
	for _, u := range units {
		each(u, ticks)
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

// together returns what units take on one shard, in ticks.
func (w *Work) together(units []int) int64 { return w.lay(units, func(int, int64) {}) }

// gather brings units of one place side by side, at the place of the first.
func (w *Work) gather(members []int) {
	first := map[int]int{} // by place: its first member
	key := make(map[int]int, len(members))
	for i, u := range members {
		key[u] = i
		for _, p := range w.places[u] {
			if _, seen := first[p]; !seen {
				first[p] = i
			}
		}
		if len(w.places[u]) == 1 {
			key[u] = first[w.places[u][0]]
		}
	}
	slices.SortStableFunc(members, func(a, b int) int { return key[a] - key[b] })
}

// inWaves lets shards beyond the limit begin when one before them has ended.
func (w *Work) inWaves(p *Plan, f Fleet) {
	runners := f.AtOnce()
	if runners == f.Shards {
		return
	}
	free := make([]float64, runners) // when each runner can begin
	for i := range p.Shards {
		s := &p.Shards[i]
		first := least(free)
		if late := free[first] - f.Starts[s.Number]; late > 0 {
			s.Start, s.End = s.Start+late, s.End+late
			for u := range s.Units {
				s.Units[u].Start += late
			}
		}
		free[first] = s.End
	}
}

// close computes the figures of a plan whose shards are full.
func (w *Work) close(p *Plan, floor int64) {
	first := math.Inf(1)
	for _, s := range p.Shards {
		end := s.End
		if len(s.Units) == 0 {
			end = 0 // it delays nobody
		}
		p.Finish = max(p.Finish, end)
		first = min(first, end)
	}
	p.Spread = p.Finish - first
	w.judge(p, floor)
}

// judge says how good a plan's finish is known to be.
func (w *Work) judge(p *Plan, floor int64) {
	p.Floor = min(w.seconds(floor), p.Finish)
	p.Optimal = p.Finish-p.Floor < 2/w.scale // except for rounding
	if len(w.units) > 0 && w.seconds(w.lengths[0]) >= (p.Floor-p.Start)*(1-1e-9) {
		p.Setter = w.units[0]
	}
}
