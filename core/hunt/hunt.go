// Package hunt searches for the tests that decide the outcome of another test by running before it or beside it.
//
// A Hunt is a state machine: it asks for trials, receives their outcomes, and ends with a finding. It runs nothing
// itself.
//
//	h := hunt.New(hunt.Task{Victim: victim, Orders: [][]string{ranBefore}})
//	defer h.Close()
//	for round := h.Next(); round != nil; round = h.Next() {
//		for _, trial := range round {
//			h.Report(trial.Number, run(trial.Order), seconds)
//		}
//	}
//	finding := h.Finding()
package hunt

import (
	"iter"
	"slices"

	"fernrelay/core/run"
)

// Verdict is what a hunt concludes of its victim.
type Verdict string

// The verdicts. A polluted victim fails only after its culprits, a brittle one
// passes only after them; a faulty one fails alone and in company, a flaky
// one differs on identical trials.
const (
	Polluted Verdict = "polluted"
	Brittle  Verdict = "brittle"
	Faulty   Verdict = "faulty"
	Flaky    Verdict = "flaky"
	Stable   Verdict = "stable"
)

// IsKnown reports whether v is one of the verdicts.
func (v Verdict) IsKnown() bool {
	return slices.Contains([]Verdict{Polluted, Brittle, Faulty, Flaky, Stable}, v)
}

// Purpose says why the hunt asks for a trial.
type Purpose string

// The purposes of trials.
const (
	Alone   Purpose = "alone"   // the victim by itself
	Company Purpose = "company" // after what ran before it
	Rest    Purpose = "rest"    // after other tests in another order
	Overlap Purpose = "overlap" // while tests of another worker run
	Each    Purpose = "each"    // right after one test, as what runs between may undo its work
	Halve   Purpose = "halve"   // after a part of the suspects
	Clean   Purpose = "clean"   // after the culprits, and then a part of those that may undo their work
	With    Purpose = "with"    // after the culprits, to be sure
	Serial  Purpose = "serial"  // after the culprits, with nothing side by side in their process
	Less    Purpose = "less"    // after the culprits but one, to be sure
	Without Purpose = "without" // alone again, to be sure
)

// Task is what a hunt starts from.
type Task struct {
	Victim string
	// Orders of tests after which the victim may have another outcome than alone, the likeliest first.
	Orders [][]string
	Beside []string // what ran at the same time on other workers
	// Apart has, for each of Beside, the seconds from the victim's start to its own in that run, for those who run the trials.
	Apart map[string]float64
	Aside []string // what ran at the same time in the victim's process then
	// Parallel are the tests that run side by side with others of their process.
	Parallel map[string]bool
	// Known are culprits to be tried once more, before the victim or, if Overlap is set, beside it. The hunt
	// searches no others.
	Known   []string
	Overlap bool
	Past    []Past // earlier runs, which say whom to suspect first
	// Suspicion is how many times more than others a test is suspected, whatever the past says; a test that it does
	// not name counts 1.
	Suspicion map[string]float64
	Seconds   map[string]float64 // how long tests take, if known
	Process   map[string]string  // by ID: names the process in which a test runs; nil if all run in that of the victim
	Width     int                // how many trials may run side by side; 0 means 1
	All       bool               // find every set of culprits that suffices
	Error     float64            // the permitted probability of a wrong finding; 0 means 0.01
}

// Trial is one ordered execution that the hunt asks for.
type Trial struct {
	Number  int // from 1
	Purpose Purpose
	Order   []string // the victim comes last
	Beside  []string // what runs at the same time elsewhere, again and again
	Serial  bool     // nothing runs side by side within a process
	Times   int      // the number of times that the victim runs until it is bad, each time in a fresh state
	Sum     string   // the same for trials that are identical
	// The trial tries one part of the suspects and leaves out another; LeftOut is 0 if it leaves out none. Share
	// is the part of all suspicion between the two that falls on the tried part.
	Ran, LeftOut int
	Share        float64
}

// Record is a trial and its outcome.
type Record struct {
	Trial
	Done    bool
	Outcome run.Outcome // of the victim
	Seconds float64
	Shows   bool // the outcome is the other one than alone
}

// mostTrials ends a hunt that does not come to an end by itself.
const mostTrials = 3000

// Hunt is the search for the culprits of one victim.
type Hunt struct {
	task     Task
	records  []Record
	finding  Finding
	rates    rates
	times    int     // the number of times that the victim runs in each trial until it is bad
	reversed bool    // alone the victim counts as what it is in fewer of its trials
	margin   float64 // how much surer than the error allowed each decision must be, as a logarithm
	next     func() ([]Trial, bool)
	stop     func()
	yield    func([]Trial) bool
	stopped  bool
}

// New begins a hunt.
func New(task Task) *Hunt {
	task.Width = max(task.Width, 1)
	if task.Error == 0 {
		task.Error = 0.01
	}
	task.Orders = slices.DeleteFunc(slices.Clone(task.Orders), func(order []string) bool { return len(order) == 0 })
	h := &Hunt{task: task, rates: steady, times: 1}
	h.finding = Finding{ID: task.Victim, Culprits: [][]string{}, Order: []string{}, Changed: []Change{}}
	h.next, h.stop = iter.Pull(func(yield func([]Trial) bool) {
		h.yield = yield
		h.search()
	})
	return h
}

// Next asks for the next trials, which may run side by side; nil when the hunt
// has ended. Report must be called for all trials of a round before the next.
func (h *Hunt) Next() []Trial {
	round, _ := h.next()
	return round
}

// Report takes the outcome of the victim in a trial, and the seconds that the trial took.
func (h *Hunt) Report(number int, o run.Outcome, seconds float64) {
	record := &h.records[number-1]
	record.Done, record.Outcome, record.Seconds = true, o, seconds
	h.finding.Trials++
	h.finding.Seconds += seconds
	h.judge()
}

// judge notes which trials show, as what the victim does alone may only now be known, or known better.
func (h *Hunt) judge() {
	alone := h.alone()
	for i := range h.records {
		r := &h.records[i]
		r.Shows = r.Done && r.Outcome.Bad() != alone
	}
}

// Records lists the trials so far, those of the round that runs included.
func (h *Hunt) Records() []Record { return h.records }

// Finding is the hunt's conclusion; its Verdict is empty before the end.
func (h *Hunt) Finding() Finding { return h.finding }

// Close ends a hunt before its time.
func (h *Hunt) Close() { h.stop() }

// search is the whole of a hunt. It runs as a coroutine that rests in round.
func (h *Hunt) search() {
	if len(h.task.Known) > 0 {
		h.verify()
		return
	}
	company, first := h.firstOrder(), []Trial(nil)
	if h.flakyAlone(company) {
		h.task.Error /= wellKnown // only a company that makes a clear difference to so many trials alone
		if h.nowAndThen(company) {
			h.isolate(company, false)
		} else {
			h.settle(Flaky)
		}
		return
	}
	if len(h.records) == 0 {
		first = append(first, h.after(Alone, nil))
	}
	if company != nil && h.task.Width > 1 {
		first = append(first, h.company(0))
	}
	h.round(first)
	if other := h.clashes(); other != "" {
		h.isolate([]string{other}, false)
		return
	}
	switch {
	case h.stopped:
	case company != nil && h.shows(h.company(0)):
		h.isolate(company, false)
	case h.nowAndThen(company):
		h.isolate(company, false)
	case h.differs():
		h.settle(Flaky)
	default:
		h.elsewhere()
	}
}

// settle ends the hunt with a verdict without culprits.
func (h *Hunt) settle(v Verdict) {
	if h.stopped {
		return
	}
	f := &h.finding
	f.Verdict, f.Order = v, []string{h.task.Victim}
	if v == Flaky { // the evidence is in trials of all purposes
		f.With, f.Without = h.countOf(func(r *Record) bool { return len(r.Order) > 1 || len(r.Beside) > 0 }), h.countOf(func(r *Record) bool { return len(r.Order) == 1 && len(r.Beside) == 0 })
	}
}

// countOf counts the trials that some function selects.
func (h *Hunt) countOf(selects func(r *Record) bool) (t Times) {
	for i := range h.records {
		r := &h.records[i]
		if !r.Done || !selects(r) {
			continue
		}
		t.Runs++
		if r.Outcome.Bad() {
			t.Failed++
		}
	}
	return t
}

// nowAndThen repeats the victim after its company, which was not seen to make a difference,
// and alone, and reports whether it does make one now and then.
func (h *Hunt) nowAndThen(company []string) bool {
	with := h.after(With, company)
	if company == nil {
		with.Purpose = Without
	}
	if !h.compare(with) || company == nil {
		return false
	}
	h.learn(with)
	return true
}

// verify tries known culprits once more.
func (h *Hunt) verify() {
	h.round([]Trial{h.after(Alone, nil)})
	if h.task.Overlap {
		h.times = timesMet
	}
	q := h.quest(h.task.Known, h.companions(h.task.Overlap))
	sure := h.compare(q.trial(With, h.task.Known))
	switch f := &h.finding; {
	case h.stopped:
	case sure:
		h.conclude(q, h.task.Known, h.task.Overlap)
	default:
		if h.settle(h.steadyVerdict()); f.Verdict == Stable {
			f.Mended = [][]string{h.task.Known}
		}
	}
}

// alone reports whether the victim is bad by itself, in most of the trials or, if it is reversed, in more than in company.
func (h *Hunt) alone() bool { return h.mostlyBad() != h.reversed }

func (h *Hunt) mostlyBad() bool {
	bad, good := 0, 0
	for _, r := range h.records {
		switch {
		case !r.Done || len(r.Order) > 1 || len(r.Beside) > 0 || r.Times > 1:
		case r.Outcome.Bad():
			bad++
		default:
			good++
		}
	}
	return bad > good || bad == good && h.records[0].Outcome.Bad()
}

// steadyVerdict returns the verdict if no order makes a difference.
func (h *Hunt) steadyVerdict() Verdict {
	switch {
	case h.differs():
		return Flaky
	case h.alone():
		return Faulty
	}
	return Stable
}

// timesDoubtful is the number of runs alone after which a victim counts as always the same although earlier runs
// do not say so.
const timesDoubtful = 20

// doubtful reports whether earlier runs say that the victim's outcome can differ from that alone or, for a good
// one, do not say that it was always good.
func (h *Hunt) doubtful() bool {
	alone := h.alone()
	return len(h.task.Past) == 0 && !alone || slices.ContainsFunc(h.task.Past, func(p Past) bool { return p.Bad != alone })
}

// differs reports whether two identical trials had different outcomes.
func (h *Hunt) differs() bool {
	seen := map[string]bool{}
	for _, r := range h.records {
		if bad, ok := seen[r.Sum]; ok && bad != r.Outcome.Bad() {
			return true
		}
		seen[r.Sum] = r.Outcome.Bad()
	}
	return false
}

// wellKnown is how many times surer a comparison must be with a victim that was often bad, and often not, alone.
const wellKnown = 4

// attempts is the number of searches for the culprits: one as if they always showed, and then others with as many
// repetitions as needed.
const attempts = 3

// isolate finds the smallest set of suspects that still shows, and confirms it. If that fails, it measures how
// often the suspects show at all, and then either searches once more or reports the victim as flaky.
func (h *Hunt) isolate(suspects []string, overlap bool) {
	with := h.companions(overlap)
	q := h.quest(suspects, with)
	for range attempts {
		culprits := q.smallest()
		if h.proved(q, culprits) {
			h.conclude(q, culprits, overlap)
			return
		}
		if h.stopped || !h.compare(with(With, suspects)) {
			break
		}
		h.learn(with(With, suspects))
	}
	h.settle(Flaky)
}

// proved makes sure of culprits: they show more often than the victim alone does, and no
// longer if any one of them is left out. Where identical trials differ, it is proof only
// if they were searched for with that in mind.
func (h *Hunt) proved(q *quest, culprits []string) bool {
	if h.stopped || h.erratic() || !h.compare(q.trial(With, culprits)) {
		return false
	}
	var round []Trial
	for i := range culprits {
		if len(culprits) > 1 {
			less := q.trial(Less, slices.Delete(slices.Clone(culprits), i, i+1))
			round = append(round, slices.Repeat([]Trial{less}, max(0, timesLess-h.seen(less)))...)
		}
	}
	h.round(round)
	return !h.stopped && !h.erratic()
}

// timesLess is the number of times that each set without one culprit is tried, all its trials counted.
const timesLess = 4

// erratic reports whether identical trials differ although the search assumes that they do not.
func (h *Hunt) erratic() bool { return h.rates == steady && h.differs() }

// conclude names the culprits, and whatever else the task wants to know.
func (h *Hunt) conclude(q *quest, culprits []string, overlap bool) {
	evidence, sets, cleaners := h.finding, [][]string{culprits}, []string(nil)
	if h.task.All {
		sets = q.others(culprits)
	}
	aside := !overlap && h.aside(culprits)
	if !overlap && !aside && h.rates == steady {
		cleaners = h.cleaners(culprits)
	}
	if h.stopped {
		return
	}
	f := &h.finding
	f.Culprits, f.Cleaners, f.Overlap = sets, cleaners, overlap || aside
	f.With, f.Without, f.Chance = evidence.With, evidence.Without, evidence.Chance // of the first set
	f.Verdict, f.Order = Polluted, q.trial(With, culprits).Order
	if h.alone() {
		f.Verdict, f.Order = Brittle, []string{h.task.Victim}
	}
}
