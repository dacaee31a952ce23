package hunt

import (
	"slices"
	"sort"
	"strings"
)

// quest is the search for the fewest tests that still make the victim's outcome what it is after all of them.
type quest struct {
	h       *Hunt
	tests   []string // in the order in which they run
	place   map[string]int
	weights map[string]float64
	trial   func(purpose Purpose, part []string) Trial
	cut     Purpose  // of trials that cut
	sure    Purpose  // of trials of a set that may be the one
	shows   bool     // what a trial that makes it does: showing, or not
	least   []string // the least part that was seen to make it
}

// quest begins the search for the fewest suspects that show.
func (h *Hunt) quest(suspects []string, trial func(Purpose, []string) Trial) *quest {
	q := &quest{h: h, trial: trial, cut: Halve, sure: With, shows: true, weights: h.suspicion(suspects)}
	return q.among(suspects)
}

// among returns the same quest among other tests.
func (q *quest) among(tests []string) *quest {
	other := *q
	other.tests, other.least, other.place = tests, tests, make(map[string]int, len(tests))
	for i, id := range tests {
		other.place[id] = i
	}
	return &other
}

// makes asks for trials of parts of the tests, and reports which of them make what is
// looked for.
func (q *quest) makes(purpose Purpose, parts ...part) []bool {
	trials := make([]Trial, len(parts))
	for i, p := range parts {
		trials[i] = q.trial(purpose, q.inOrder(p.tests))
		trials[i].Ran, trials[i].LeftOut, trials[i].Share = p.ran, p.leftOut, p.share
	}
	made := q.h.decide(trials...)
	for i := range made {
		made[i] = made[i] == q.shows && !q.h.stopped
		if made[i] && len(parts[i].tests) < len(q.least) {
			q.least = q.inOrder(parts[i].tests)
		}
	}
	return made
}

// part is a part of the tests that a trial runs, and how it cuts them.
type part struct {
	tests        []string
	end          int // of it, in the ranking
	ran, leftOut int
	share        float64 // of the suspicion that is cut
}

// over reports whether there is no sense in going on.
func (q *quest) over() bool { return q.h.stopped || q.h.erratic() }

func (q *quest) makesIt(purpose Purpose, tests []string) bool {
	return q.makes(purpose, part{tests: tests})[0]
}

func (q *quest) inOrder(tests []string) []string {
	sorted := slices.Clone(tests)
	slices.SortFunc(sorted, func(a, b string) int { return q.place[a] - q.place[b] })
	return sorted
}

// smallest finds a set of tests that suffices and of which none can be left out. It finds one member after the
// other, each with a search of its own, until those found suffice.
func (q *quest) smallest() []string {
	var needed []string
	for left := q.rank(q.tests); len(left) > 0 && !q.over(); {
		needed, left = q.member(needed, left)
		if q.over() || q.makesIt(q.sure, needed) {
			break
		}
		if len(needed) == 1 && q.h.rates == steady { // several, or one that does not always make it?
			q.h.round(q.h.lacking(q.trial(q.sure, needed), 3))
		}
	}
	return q.inOrder(q.spare(needed))
}

// span bounds the place in the ranking of the member that is searched: the tests before high suffice, together
// with the members found before; those before low do not.
type span struct{ low, high int }

// together is how likely it is held beforehand that several tests must come together.
const together = 0.1

// member finds one more member. Of the ranked tests, the shortest beginning that suffices ends with a member that
// is needed. The cuts are where suspicion is halved, or divided evenly among the trials that run side by side.
//
// A trial need not run the tests before low if one more test is enough. This saves their time, but then a cut that
// does not suffice only makes it likely that the others do. It is done if those tests take longer than a trial of
// the victim alone, and as long as one culprit is likelier than several. If the assumption was wrong, member goes
// back to the smallest of the assumed parts that suffices.
//
// With one culprit, f, among eight suspects of equal weight, the trials of the victim run
//
//	a b c d              it passes: f is among e to h
//	a b c d e f          it fails:  f is e or f
//	a b c d e            it passes: f it is
//
// and, if running a to d takes longer than one trial of the victim alone, they leave those out:
//
//	a b c d   e f   e
func (q *quest) member(needed, ranked []string) (more, left []string) {
	s := span{0, len(ranked)}
	var trusted []int                // the lows from which on the tests were trusted to make it
	sure, several := false, together // how likely it is that one is not enough, if it is not sure
	for !q.over() {
		last := s.high-s.low == 1
		more = append(slices.Clone(needed), ranked[s.high-1])
		switch {
		case last && len(trusted) == 0:
			return more, ranked[:s.high-1]
		case len(trusted) == 0 || !last && several < 0.5:
		case !q.makesIt(q.sure, slices.Concat(needed, ranked[s.low:s.high])):
			ranked, s = q.mistrusted(needed, ranked[:s.high], append(trusted, s.low))
			trusted, sure = nil, true
			continue
		case last:
			return more, nil
		default:
			ranked, trusted, several = ranked[s.low:s.high], nil, together
			s = span{0, len(ranked)}
			continue
		}
		apart := !sure && q.seconds(ranked[:s.low]) > q.h.records[0].Seconds
		parts := q.parts(needed, ranked, s, apart)
		made := slices.Index(q.makes(q.cut, parts...), true)
		switch {
		case made < 0 && apart:
			trusted = append(trusted, s.low)
			several = doubted(several, parts)
			s.low = parts[len(parts)-1].end
		case made < 0:
			s.low = parts[len(parts)-1].end
		case apart:
			ranked, trusted, several = ranked[parts[made].end-parts[made].ran:parts[made].end], nil, together
			s = span{0, len(ranked)}
		default:
			if made > 0 {
				s.low = parts[made-1].end
			}
			s.high = parts[made].end
		}
	}
	return more, nil
}

// doubted is how likely it is that one test is not enough, given how likely it was before
// and that none of the parts tried made it: if one is, it is in the part that was left out,
// and if two must come together, they were not in the same part.
func doubted(several float64, parts []part) float64 {
	one, two := 1.0, 1.0
	for _, p := range parts {
		one -= p.share
		two -= p.share * p.share
	}
	return several * two / (several*two + (1-several)*one)
}

// parts cuts a span, each part with what its trial runs.
func (q *quest) parts(needed, ranked []string, s span, apart bool) []part {
	cuts := q.cuts(ranked, s)
	parts := make([]part, len(cuts))
	all, begin, from := q.weigh(ranked[s.low:s.high]), s.low, 0
	for i, cut := range cuts {
		if apart {
			from, begin = begin, cut
		}
		low := max(from, s.low)
		parts[i] = part{tests: slices.Concat(needed, ranked[from:cut]), end: cut, ran: cut - low, leftOut: s.high - cut, share: q.weigh(ranked[low:cut]) / all}
	}
	return parts
}

// mistrusted finds, after a wrong assumption, the smallest of the assumed parts that suffices, and the place of
// the member in it.
//
// Suppose the lows were 0, 4 and 6: the tests from 6 on did not make it, although those from 4 on were trusted to have the only member.
// Then either the tests from 4 on make it together, or only those from 0 on do. The parts shrink, so the first of them that
// fails is found by halving.
func (q *quest) mistrusted(needed, ranked []string, lows []int) ([]string, span) {
	last := len(lows) - 1 // the last alone was seen not to make it
	fails := sort.Search(last, func(i int) bool { return !q.makesIt(q.cut, slices.Concat(needed, ranked[lows[i]:])) })
	begin, low := 0, lows[0]
	if fails > 0 {
		begin, low = lows[fails-1], 0
		if q.h.task.Width == 1 { // else several parts were tried one by one, and not together
			low = lows[fails] - begin
		}
	}
	return ranked[begin:], span{low, len(ranked) - begin}
}

// spare removes members that turn out not to be needed. If the members do not suffice by themselves, as when one
// test undoes the work of another, it reduces the smallest part that was seen to suffice instead.
//
// It leaves out one member at a time and keeps it out if the rest makes it. What remains is minimal, but not always the smallest set:
// another order of leaving out may end with fewer.
func (q *quest) spare(needed []string) []string {
	if q.over() {
		return needed
	}
	if len(needed) == 0 || !q.makesIt(q.sure, needed) {
		needed = q.reduce(q.least)
	}
	for i := 0; i < len(needed) && len(needed) > 1 && !q.over(); {
		without := slices.Delete(slices.Clone(needed), i, i+1)
		if q.makesIt(q.cut, without) {
			needed = without
		} else {
			i++
		}
	}
	return needed
}

// reduce makes a part that makes it smaller as long as it can, in pieces that halve: the
// algorithm ddmin of Zeller and Hildebrandt ("Simplifying and Isolating Failure-Inducing
// Input", 2002). It assumes nothing of how tests act together.
func (q *quest) reduce(tests []string) []string {
	for pieces := 2; len(tests) > 1 && pieces <= len(tests) && !q.over(); {
		smaller := q.piece(tests, pieces)
		switch {
		case smaller == nil && pieces == len(tests):
			return tests
		case smaller == nil:
			pieces = min(2*pieces, len(tests))
		case len(smaller) <= (len(tests)+pieces-1)/pieces:
			tests, pieces = smaller, 2
		default:
			tests, pieces = smaller, max(2, pieces-1)
		}
	}
	return tests
}

// piece finds one of n pieces of the tests that suffices, or else the tests without one piece that suffice; nil if
// there is none.
func (q *quest) piece(tests []string, pieces int) []string {
	var within, without [][]string
	for i := range pieces {
		from, to := i*len(tests)/pieces, (i+1)*len(tests)/pieces
		within = append(within, tests[from:to])
		without = append(without, slices.Concat(tests[:from], tests[to:]))
	}
	for _, some := range slices.Concat(within, without) {
		if q.makesIt(q.cut, some) {
			return some
		}
	}
	return nil
}

// mostSets bounds the sets of culprits that a hunt searches.
const mostSets = 32

// others finds every set that suffices and of which none can be left out, given the first: any other set lacks one
// of the first, and so on, as in Reiter's tree of hitting sets ("A Theory of Diagnosis from First Principles",
// 1987).
//
// Suppose {a, b} suffices, and so does {c}, and nothing else. The tree is
//
//	{a, b}
//	|- without a: {c}
//	|  `- without a and c: nothing suffices
//	`- without b: {c}, which is known: it needs no search
//	   `- without b and c: nothing suffices
//
// so {a, b} and {c} are all there are. A set that avoids what is left out is reused, and a set of left-out tests that was visited
// is not visited again.
func (q *quest) others(first []string) [][]string {
	found := [][]string{first}
	visited := map[string]bool{}
	var leave func(out, from []string)
	leave = func(out, from []string) {
		for _, member := range from {
			without := q.inOrder(append(slices.Clone(out), member))
			key := strings.Join(without, "\x00")
			if visited[key] || len(found) == mostSets || q.h.stopped {
				continue
			}
			visited[key] = true
			apart := slices.IndexFunc(found, func(set []string) bool { return !meet(set, without) })
			if apart >= 0 {
				leave(without, found[apart])
				continue
			}
			left := slices.DeleteFunc(slices.Clone(q.tests), func(id string) bool { return slices.Contains(without, id) })
			if len(left) == 0 || !q.makesIt(q.cut, left) {
				continue
			}
			set := q.among(left).smallest()
			if !q.h.proved(q, set) {
				continue
			}
			found = append(found, set)
			leave(without, set)
		}
	}
	leave(nil, first)
	return found
}

func meet(a, b []string) bool {
	return slices.ContainsFunc(a, func(id string) bool { return slices.Contains(b, id) })
}

// cleaners names the tests that undo the culprits' work if they run between them and the victim: the fewest of
// those that ran there in an order after which the victim had its outcome alone. It returns none if no such order
// is known.
func (h *Hunt) cleaners(culprits []string) []string {
	between := h.fewestAfter(culprits)
	if between == nil {
		return nil
	}
	q := &quest{h: h, cut: Clean, sure: Clean, weights: h.suspicion(between), trial: func(purpose Purpose, part []string) Trial {
		return h.after(purpose, slices.Concat(culprits, part))
	}}
	if q = q.among(between); !q.makesIt(Clean, between) {
		return nil
	}
	return q.smallest()
}

// fewestAfter returns the tests between the culprits and the victim, of the shortest order in which the culprits had no
// effect. It returns nil if there is none.
func (h *Hunt) fewestAfter(culprits []string) (between []string) {
	consider := func(before []string) {
		if last := lastOf(culprits, before); last >= 0 && last+1 < len(before) && (between == nil || len(before)-last-1 < len(between)) {
			between = before[last+1:]
		}
	}
	for _, p := range h.task.Past {
		if p.Bad == h.alone() {
			consider(p.Before)
		}
	}
	for _, r := range h.records {
		if r.Done && !r.Shows {
			consider(r.Order[:len(r.Order)-1])
		}
	}
	return between
}

// lastOf returns the place of the last culprit in an order that has all culprits in their own order; -1 in any
// other.
func lastOf(culprits, order []string) int {
	at := -1
	for _, id := range culprits {
		next := slices.Index(order[at+1:], id)
		if next < 0 {
			return -1
		}
		at += 1 + next
	}
	return at
}
