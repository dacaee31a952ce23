package split

import (
	"cmp"
	"slices"
)

// packer packs jobs into bins of given room, one bin after the other: the longest
// job that is left goes into a bin, together with the others that complete it
// (Korf, "An improved algorithm for optimal bin packing", 2003; Schreiber and
// Korf, "Improved bin completion for optimal bin packing and number
// partitioning", 2013).
type packer struct {
	lengths []int64 // of the jobs here, the longest first
	jobs    []int   // their index in the deal
	kinds   []kind  // of bins that have the same room, the largest first
	used    []bool  // by job
	left    int     // jobs
	waste   int64   // what the room of all open bins is more than what those take
	packed  [][]int // by bin: jobs by their index in the deal
	bins    int     // open
	failed  map[state]struct{}
	steps   int
	cut     bool // some ways were left out
}

// kind is bins with the same room.
type kind struct {
	room int64
	bins []int // open ones
}

// state is the work that is left: the jobs that are used, and the open bins. It is distinguished for as many jobs
// as it has bits only.
type state struct {
	used [4]uint64
	bins int
}

const stateBits = 256

func newPacker(d *assignment, group, jobs []int, t int64, steps int) *packer {
	p := &packer{jobs: jobs, used: make([]bool, len(jobs)), left: len(jobs), bins: len(group), packed: make([][]int, len(group)), steps: steps}
	for _, job := range jobs {
		p.lengths = append(p.lengths, d.lengths[job])
		p.waste -= d.lengths[job]
	}
	for bin, at := range group {
		room := d.machines[at].room(t)
		i := slices.IndexFunc(p.kinds, func(k kind) bool { return k.room == room })
		if i < 0 {
			i = len(p.kinds)
			p.kinds = append(p.kinds, kind{room: room})
		}
		p.kinds[i].bins = append(p.kinds[i].bins, bin)
		p.waste += max(0, room)
	}
	slices.SortFunc(p.kinds, func(a, b kind) int { return cmp.Compare(b.room, a.room) })
	if len(p.kinds) == 1 && len(jobs) <= stateBits {
		p.failed = map[state]struct{}{}
	}
	return p
}

// pack packs all jobs that are left, and reports whether it could.
func (p *packer) pack() bool {
	if p.left == 0 {
		return true
	}
	if p.waste < 0 || p.bins == 0 {
		return false
	}
	s := p.state()
	if _, known := p.failed[s]; known {
		return false
	}
	for k := range p.kinds {
		if p.fill(k) {
			return true
		}
	}
	if p.failed != nil && p.steps > 0 {
		p.failed[s] = struct{}{}
	}
	return false
}

func (p *packer) state() (s state) {
	if p.failed == nil {
		return s
	}
	s.bins = p.bins
	for i, used := range p.used {
		if used {
			s.used[i/64] |= 1 << (i % 64)
		}
	}
	return s
}

// fill tries a bin of a kind for the longest job that is left, with all that may
// complete it, the fullest first.
func (p *packer) fill(k int) bool {
	at := &p.kinds[k]
	if len(at.bins) == 0 {
		return false
	}
	first := slices.Index(p.used, false)
	if p.lengths[first] > at.room {
		return false
	}
	bin := at.bins[len(at.bins)-1]
	at.bins = at.bins[:len(at.bins)-1]
	p.bins--
	for _, c := range p.completions(first, at.room) {
		if p.steps <= 0 {
			break
		}
		p.use(c, at.room, true)
		if p.pack() {
			for _, i := range c.jobs {
				p.packed[bin] = append(p.packed[bin], p.jobs[i])
			}
			return true
		}
		p.use(c, at.room, false)
	}
	p.bins++
	at = &p.kinds[k]
	at.bins = append(at.bins, bin)
	return false
}

// use removes the jobs of a full bin from the remaining ones, or brings them back.
func (p *packer) use(c completion, room int64, take bool) {
	for _, i := range c.jobs {
		p.used[i] = take
	}
	if take {
		p.left, p.waste = p.left-len(c.jobs), p.waste-(room-c.sum)
	} else {
		p.left, p.waste = p.left+len(c.jobs), p.waste+(room-c.sum)
	}
}

// completion is jobs that fill a bin.
type completion struct {
	jobs []int // by their index here
	sum  int64
}

// completions bounds the ways to complete one bin that are tried.
const completions = 400

// completions returns the ways to complete a bin that has a first job, which waste no more than allowed, and of
// which none is obviously better than another: by one more job, or by a longer one in place of a shorter one.
func (p *packer) completions(first int, room int64) []completion {
	c := &completing{packer: p, room: room, least: room - p.waste}
	size := p.left - 1
	lengths := make([]int64, 2*size+1)
	c.lengths, c.rest, c.free = lengths[:size], lengths[size:], make([]int, 0, size)
	for i := first + 1; i < len(p.lengths); i++ {
		if !p.used[i] {
			c.lengths[len(c.free)] = p.lengths[i]
			c.free = append(c.free, i)
		}
	}
	for i := size - 1; i >= 0; i-- {
		c.rest[i] = c.rest[i+1] + c.lengths[i]
	}
	p.steps -= size / 4
	c.first = first
	c.add(0, p.lengths[first])
	slices.SortStableFunc(c.found, func(a, b completion) int { return cmp.Compare(b.sum, a.sum) })
	return c.found
}

type completing struct {
	*packer
	room, least int64   // of the sum: the most, and the least
	first       int     // the job that is completed
	free        []int   // jobs that may come in
	lengths     []int64 // of those
	rest        []int64 // of all of those from there on
	chosen      []int   // by their place in free
	found       []completion
	arena       []int // the places of their jobs
}

// add goes through what may be added to the chosen jobs from a free one on.
func (c *completing) add(from int, sum int64) {
	if c.steps <= 0 {
		return
	}
	c.steps--
	if sum >= c.least && c.best(sum) {
		if len(c.found) == completions {
			c.cut = true
			return
		}
		c.keep(sum)
	}
	// Jobs too long for the remaining room are skipped at once.
	low, spare := from, c.room-sum
	for high := len(c.free); low < high; {
		if middle := (low + high) / 2; c.lengths[middle] > spare {
			low = middle + 1
		} else {
			high = middle
		}
	}
	for i := low; i < len(c.free) && sum+c.rest[i] >= c.least; i++ {
		length := c.lengths[i]
		if i > low && length == c.lengths[i-1] {
			continue // the same as the one before
		}
		c.chosen = append(c.chosen, i)
		c.add(i+1, sum+length)
		c.chosen = c.chosen[:len(c.chosen)-1]
		if c.cut || c.steps <= 0 {
			return
		}
	}
}

// keep notes the chosen jobs.
func (c *completing) keep(sum int64) {
	from := len(c.arena)
	c.arena = append(c.arena, c.first)
	for _, at := range c.chosen {
		c.arena = append(c.arena, c.free[at])
	}
	c.found = append(c.found, completion{c.arena[from:len(c.arena):len(c.arena)], sum})
}

// best reports whether the chosen jobs cannot plainly be bettered: whatever else
// then holds the job that comes in gets room, never less.
func (c *completing) best(sum int64) bool {
	spare := c.room - sum
	if spare == 0 {
		return true
	}
	c.steps -= len(c.free) / 16
	at := len(c.chosen) - 1 // from the shortest on
	for i := len(c.free) - 1; i >= 0; i-- {
		if at >= 0 && c.chosen[at] == i {
			at--
			continue
		}
		if c.lengths[i] <= spare {
			return false
		}
		// The longest chosen one that is shorter than this is the next behind it.
		if at < len(c.chosen)-1 {
			if behind := c.lengths[c.chosen[at+1]]; behind < c.lengths[i] && c.lengths[i]-behind <= spare {
				return false
			}
		}
	}
	return true
}
