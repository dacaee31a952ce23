// Package hunt searches for the tests that decide the outcome of another by
// running before it.
//
// A Hunt is a state machine: it asks for trials, is told their outcomes, and
// ends with a finding. It runs nothing itself.
//
//	h := hunt.New(victim, ranBefore, rest)
//	defer h.Close()
//	for round := h.Next(); round != nil; round = h.Next() {
//		for _, trial := range round {
//			h.Tell(trial.Number, run(trial.Order), seconds)
//		}
//	}
//	finding := h.Finding()
package hunt

import (
	"iter"
	"slices"
	"sort"

	"fernrelay/core/outcome"
)

// Verdict is what a hunt concludes of its victim.
type Verdict string

// The verdicts. A polluted victim fails only after its culprits, a brittle one
// passes only after them; a broken one fails alone and in company, an unstable
// one differs on identical trials.
const (
	Polluted Verdict = "polluted"
	Brittle  Verdict = "brittle"
	Broken   Verdict = "broken"
	Unstable Verdict = "unstable"
	Stable   Verdict = "stable"
)

// Purpose says why a trial is asked for.
type Purpose string

// The purposes of trials.
const (
	Alone   Purpose = "alone"   // the victim by itself
	Company Purpose = "company" // after what ran before it
	Rest    Purpose = "rest"    // after everything else there is
	Halve   Purpose = "halve"   // after a part of the suspects
	With    Purpose = "with"    // after the culprits, to be sure
	Without Purpose = "without" // alone again, to be sure
)

// Trial is one ordered execution that the hunt asks for.
type Trial struct {
	Number  int // from 1
	Purpose Purpose
	Order   []string // the victim comes last
	// The suspects fall into a part that this trial runs and a part that it
	// leaves out; of a trial that cuts nothing off, LeftOut is 0.
	Ran, LeftOut int
}

// Record is a trial and what came of it.
type Record struct {
	Trial
	Told    bool
	Outcome outcome.Outcome // of the victim
	Seconds float64
	Shows   bool // the outcome is the other one than alone
}

// Times counts trials that served to be sure.
type Times struct {
	Runs   int `json:"runs"`
	Failed int `json:"failed"`
}

// Finding is the end of a hunt, and a victim of "hunt --json".
type Finding struct {
	ID       string     `json:"id"`
	Verdict  Verdict    `json:"verdict"`
	Culprits [][]string `json:"culprits"` // each a set that suffices; never nil
	Order    []string   `json:"order"`    // the shortest order that shows the bad outcome; never nil
	Trials   int        `json:"trials"`
	Seconds  float64    `json:"trial_s"` // all trials together
	Changed  []Change   `json:"changed"` // never nil
	With     Times      `json:"with"`
	Without  Times      `json:"without"`
}

// Format names the JSON form of findings.
const Format = "fern-hunt/1"

// Report is one hunt's findings in the promised form of "hunt --json".
type Report struct {
	Format  string    `json:"format"`
	Victims []Finding `json:"victims"`
}

// repeats is how often each side of a finding is tried to be sure of it.
const repeats = 5

// Hunt is the search for the culprits of one victim.
type Hunt struct {
	victim       string
	before, rest []string
	past         []Past
	records      []Record
	finding      Finding
	next         func() ([]Trial, bool)
	stop         func()
	yield        func([]Trial) bool
	stopped      bool
}

// New begins a hunt. before is what ran before the victim in the order that is
// under suspicion, rest every other test that can run before it; past is what is known
// of earlier runs, and says whom to suspect first.
func New(victim string, before, rest []string, past ...Past) *Hunt {
	h := &Hunt{victim: victim, before: before, rest: rest, past: past}
	h.finding = Finding{ID: victim, Culprits: [][]string{}, Order: []string{}, Changed: []Change{}}
	h.next, h.stop = iter.Pull(func(yield func([]Trial) bool) {
		h.yield = yield
		h.search()
	})
	return h
}

// Next asks for the next trials, which may run side by side; nil when the hunt
// has ended. All trials of a round must be told before the next is asked for.
func (h *Hunt) Next() []Trial {
	round, _ := h.next()
	return round
}

// Tell gives the hunt the victim's outcome in a trial, and the trial's duration.
func (h *Hunt) Tell(number int, o outcome.Outcome, seconds float64) {
	record := &h.records[number-1]
	record.Told, record.Outcome, record.Seconds = true, o, seconds
	record.Shows = number > 1 && o.Bad() != h.records[0].Outcome.Bad()
	h.finding.Trials++
	h.finding.Seconds += seconds
}

// Records lists the trials so far, those of the round that runs included.
func (h *Hunt) Records() []Record { return h.records }

// Finding is the hunt's conclusion; its Verdict is empty before the end.
func (h *Hunt) Finding() Finding { return h.finding }

// Close ends a hunt before its time.
func (h *Hunt) Close() { h.stop() }

// search is the whole of a hunt. It runs as a coroutine that rests in ask.
func (h *Hunt) search() {
	bad := h.ask(Trial{Purpose: Alone})
	if h.stopped {
		return
	}
	suspects := h.suspects()
	switch {
	case h.stopped:
	case suspects == nil:
		h.repeat(bad)
	case bad:
		h.isolate(Brittle, suspects)
	default:
		h.isolate(Polluted, suspects)
	}
}

// suspects finds an order in which the victim's outcome is another than alone,
// nil where neither what ran before it nor everything else makes it so.
func (h *Hunt) suspects() []string {
	if len(h.before) > 0 && h.shows(Company, h.before, 0) {
		return h.before
	}
	if len(h.rest) > 0 && !h.stopped {
		all := slices.Concat(h.rest, h.before)
		if h.shows(Rest, all, 0) {
			return all
		}
	}
	return nil
}

// repeat separates what is always so from what differs on identical trials.
func (h *Hunt) repeat(alone bool) {
	round := make([]Trial, 0, 2*repeats)
	for range repeats {
		round = append(round, Trial{Purpose: Without})
		if len(h.before) > 0 {
			round = append(round, Trial{Purpose: With, Order: h.before})
		}
	}
	h.round(round)
	if h.stopped {
		return
	}
	h.count(h.before)
	h.finding.Order = []string{h.victim}
	steady := func(t Times) bool { return t.Runs == 0 || t.Failed == 0 && !alone || t.Failed == t.Runs && alone }
	switch {
	case !steady(h.finding.With) || !steady(h.finding.Without):
		h.finding.Verdict = Unstable
	case alone:
		h.finding.Verdict = Broken
	default:
		h.finding.Verdict = Stable
	}
}

// isolate finds the smallest set of suspects that still shows, and makes sure of it.
func (h *Hunt) isolate(verdict Verdict, suspects []string) {
	culprits := h.halve(suspects)
	if h.stopped {
		return
	}
	round := make([]Trial, 0, 2*repeats)
	for n := range repeats {
		if n > 0 || !h.confirmed(culprits) {
			round = append(round, Trial{Purpose: With, Order: culprits})
		}
		round = append(round, Trial{Purpose: Without})
	}
	h.round(round)
	if h.stopped {
		return
	}
	h.count(culprits)
	h.finding.Order = append(slices.Clone(culprits), h.victim)
	with, without := h.finding.With, h.finding.Without
	if verdict == Brittle {
		h.finding.Order = []string{h.victim}
		with, without = without, with
	}
	if with.Failed != with.Runs || without.Failed != 0 {
		h.finding.Verdict = Unstable
		return
	}
	h.finding.Verdict = verdict
	h.finding.Culprits = [][]string{culprits}
}

// halve cuts the suspects in two again and again, so that both parts are suspected
// alike, running the one with the most suspected and, where that does not show, trusting
// that the other does. Where the one left at the end does not show, several must come
// together: then it looks for the smallest of the sets that were trusted that does show,
// and gathers the culprits out of that.
func (h *Hunt) halve(suspects []string) []string {
	weights := suspicion(suspects, h.past, h.records[0].Outcome.Bad())
	suspects = h.accuse(suspects, weights)
	trusted := [][]string{suspects} // the first was seen to show
	for len(suspects) > 1 && !h.stopped {
		most, others := part(suspects, weights, 0.5)
		if h.shows(Halve, most, len(others)) {
			suspects = most
			trusted = [][]string{suspects}
		} else {
			suspects = others
			trusted = append(trusted, suspects)
		}
	}
	last := len(trusted) - 1
	if last > 0 && !h.shows(With, suspects, 0) { // else it is made sure of once more
		up := sort.Search(last-1, func(i int) bool { return h.shows(Halve, trusted[last-1-i], 0) })
		suspects = trusted[last-1-up]
	}
	if h.stopped || len(suspects) == 1 {
		return suspects
	}
	return h.gather(suspects)
}

// accuse tries those alone whom the past accuses, where they are few, all together: so
// that several that must come together are not parted at once.
func (h *Hunt) accuse(suspects []string, weights map[string]float64) []string {
	if len(suspects) < 8 {
		return suspects
	}
	few, others := part(suspects, weights, accused)
	if len(few) > 1 && len(few) <= len(suspects)/4 && h.shows(Halve, few, len(others)) {
		return few
	}
	return suspects
}

// gather finds a minimal set of suspects that must come together: it looks for
// the shortest end that still shows, whose first test is needed, keeps that
// test, and goes on with what stands behind it. Each member costs a binary search
// over what is left.
func (h *Hunt) gather(suspects []string) []string {
	var needed []string
	left := suspects
	for !h.stopped {
		low, high := 0, len(left) // the last high of left show together with needed
		for low+1 < high && !h.stopped {
			middle := (low + high) / 2
			if h.shows(Halve, slices.Concat(needed, left[len(left)-middle:]), high-middle) {
				high = middle
			} else {
				low = middle
			}
		}
		first := len(left) - high
		needed, left = append(needed, left[first]), left[first+1:]
		if len(left) == 0 || h.shows(Halve, needed, 0) {
			break
		}
	}
	return h.spare(needed, suspects)
}

// spare leaves out members that are not needed after all, and falls back to the
// last set seen to show if the needed ones do not show by themselves, as can be
// where one test undoes the work of another.
func (h *Hunt) spare(needed, seen []string) []string {
	if !h.known(needed) && !h.shows(Halve, needed, 0) {
		return seen
	}
	for i := 0; i < len(needed) && len(needed) > 1 && !h.stopped; {
		without := slices.Delete(slices.Clone(needed), i, i+1)
		if h.shows(Halve, without, 0) {
			needed = without
		} else {
			i++
		}
	}
	return needed
}

// known reports whether this very set of suspects has been seen to show.
func (h *Hunt) known(suspects []string) bool {
	return slices.ContainsFunc(h.records, func(r Record) bool {
		return r.Shows && r.after(suspects)
	})
}

// shows asks for one trial after the suspects given and reports whether the
// victim's outcome was the other one than alone.
func (h *Hunt) shows(purpose Purpose, suspects []string, leftOut int) bool {
	if h.stopped {
		return false
	}
	h.ask(Trial{Purpose: purpose, Order: suspects, Ran: len(suspects), LeftOut: leftOut})
	return !h.stopped && h.records[len(h.records)-1].Shows
}

// ask asks for one trial and reports whether the victim's outcome was bad.
func (h *Hunt) ask(t Trial) bool {
	h.round([]Trial{t})
	return h.records[len(h.records)-1].Outcome.Bad()
}

// round puts the victim behind each trial's order, asks for the trials and
// rests until they are told.
func (h *Hunt) round(trials []Trial) {
	for i := range trials {
		trials[i].Number = len(h.records) + 1
		trials[i].Order = append(slices.Clone(trials[i].Order), h.victim)
		h.records = append(h.records, Record{Trial: trials[i]})
	}
	if !h.yield(trials) {
		h.stopped = true
	}
}

// count adds up the trials that served to be sure of some tests before the victim.
func (h *Hunt) count(before []string) {
	for _, r := range h.records {
		switch {
		case r.Purpose == With && r.after(before):
			h.finding.With.add(r.Outcome)
		case r.Purpose == Without:
			h.finding.Without.add(r.Outcome)
		}
	}
}

// confirmed reports whether a trial has served already to be sure of some culprits.
func (h *Hunt) confirmed(culprits []string) bool {
	return slices.ContainsFunc(h.records, func(r Record) bool { return r.Purpose == With && r.after(culprits) })
}

// after reports whether the victim ran after just these tests.
func (r *Record) after(tests []string) bool { return slices.Equal(r.Order[:len(r.Order)-1], tests) }

func (t *Times) add(o outcome.Outcome) {
	t.Runs++
	if o.Bad() {
		t.Failed++
	}
}
