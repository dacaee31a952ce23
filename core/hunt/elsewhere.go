package hunt

import (
	"cmp"
	"slices"
)

// clashes returns the first of the tests side by side with the victim in its process with which it shows; "" if there is none.
// Two of them alone start at the same time more often than all of them together.
func (h *Hunt) clashes() string {
	if h.stopped || h.alone() {
		return ""
	}
	h.times = timesMet
	for _, id := range h.task.Aside {
		if h.everShows([]Trial{h.after(Overlap, []string{id})}) {
			return id
		}
	}
	h.times = 1
	return ""
}

// elsewhere looks for tests that make a difference in other orders than that under
// suspicion, and beside the victim.
func (h *Hunt) elsewhere() {
	if suspects, overlap := h.suspects(); suspects != nil {
		h.isolate(suspects, overlap)
		return
	}
	if suspect := h.each(); suspect != "" {
		h.isolate([]string{suspect}, false)
		return
	}
	if company := h.firstOrder(); company != nil && h.wasBad() && h.atLast(company) {
		h.isolate(company, false)
		return
	}
	if without := h.after(Without, nil); !h.differs() && h.doubtful() {
		h.round(h.lacking(without, timesDoubtful))
		h.finding.Without = h.count(without)
	}
	h.settle(h.steadyVerdict())
}

// The bounds of trials after each suspect alone: their number, and the seconds that they may take.
const (
	mostEach    = 1000
	secondsEach = 120
)

// each tries a victim that is well alone right after each suspect, the most suspected first, and returns the first after
// which it is bad; "" if there is none. In all orders that were tried, what ran between may have undone the work of a
// culprit.
func (h *Hunt) each() string {
	if h.stopped || h.differs() || h.alone() {
		return ""
	}
	var suspects []string
	seen := map[string]bool{h.task.Victim: true}
	for _, order := range h.task.Orders {
		for _, id := range order {
			if !seen[id] {
				seen[id] = true
				suspects = append(suspects, id)
			}
		}
	}
	h.finding.Each.Of = len(suspects)
	weights := h.suspicion(suspects)
	slices.SortStableFunc(suspects, func(a, b string) int { return cmp.Compare(weights[b], weights[a]) })
	from := h.finding.Seconds
	for some := range slices.Chunk(suspects[:min(len(suspects), mostEach)], h.task.Width) {
		trials := make([]Trial, len(some))
		for i, id := range some {
			trials[i] = h.after(Each, []string{id})
			trials[i].Ran, trials[i].LeftOut = 1, len(suspects)-1
		}
		h.round(trials)
		h.finding.Each.Tests += len(some)
		for i, trial := range trials {
			if h.showed(trial) {
				return some[i]
			}
		}
		if h.stopped || h.finding.Seconds-from > secondsEach {
			return ""
		}
	}
	return ""
}

// suspects returns the tests before the victim in orders other than the first, or beside it, with which its
// outcome differs from that alone; nil if none do.
func (h *Hunt) suspects() (suspects []string, overlap bool) {
	for i := 1; i < len(h.task.Orders); i++ {
		if h.shows(h.company(i)) {
			return h.task.Orders[i], false
		}
	}
	if len(h.task.Beside) == 0 {
		return nil, false
	}
	h.times = min(max(timesMet, 2*len(h.task.Beside)), mostMet)
	if h.meets() {
		return h.task.Beside, true
	}
	h.times = 1
	return nil, false
}

// Two tests rarely meet at the wrong moment. In a trial beside others, or in one alone that is compared with it, the victim
// runs timesMet times or twice for each of the others, but not more than mostMet times. Everything beside it is tried
// timesOverlap times, or up to timesSought times and secondsSought if the victim was bad in an earlier run: a clash that shows
// in one of ten such trials is then found with a probability of 99 %.
const (
	timesMet      = 10
	mostMet       = 40
	timesOverlap  = 3
	timesSought   = 50
	secondsSought = 300
)

// meets reports whether the victim shows beside everything that ran at the same time when it was bad.
func (h *Hunt) meets() bool {
	trial, from := h.beside(Overlap, h.task.Beside), h.finding.Seconds
	for n := 0; !h.stopped; n++ {
		if n >= timesOverlap && (!h.wasBad() || n >= timesSought || h.finding.Seconds-from > secondsSought) {
			return false
		}
		h.finding.Met += trial.Times
		if h.everShows([]Trial{trial}) {
			return true
		}
	}
	return false
}

// wasBad reports whether the victim is well alone and was bad in an earlier run.
func (h *Hunt) wasBad() bool {
	return !h.alone() && slices.ContainsFunc(h.task.Past, func(p Past) bool { return p.Bad })
}

// firstOrder returns the order that is most under suspicion, nil if there is none.
func (h *Hunt) firstOrder() []string {
	if len(h.task.Orders) == 0 {
		return nil
	}
	return h.task.Orders[0]
}

// atLast repeats the victim after its company, which has not shown yet, up to timesSought times or secondsSought, and reports
// whether it shows more often than alone.
func (h *Hunt) atLast(company []string) bool {
	with, from := h.after(With, company), h.finding.Seconds
	for !h.stopped && h.showing(h.count(with)) == 0 {
		runs := h.count(with).Runs
		if runs >= timesSought || h.finding.Seconds-from > secondsSought {
			return false
		}
		h.round(slices.Repeat([]Trial{with}, h.task.Width))
	}
	if h.stopped || !h.compare(with) {
		return false
	}
	h.learn(with)
	return true
}

// timesSerial is the number of trials that distinguish a clash between tests that run side by side in one process from state that
// is left: without anything side by side, chance decides which of them runs first.
const timesSerial = 8

// aside reports whether culprits show only while they run side by side with the victim in its process.
func (h *Hunt) aside(culprits []string) bool {
	if !h.task.Parallel[h.task.Victim] || !slices.ContainsFunc(culprits, func(id string) bool { return h.task.Parallel[id] }) {
		return false
	}
	trial := h.after(Serial, culprits)
	trial.Serial, trial.Sum = true, trial.Sum+"-serial"
	return !h.everShows(slices.Repeat([]Trial{trial}, timesSerial))
}
