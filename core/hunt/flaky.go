package hunt

import "slices"

// A victim whose company takes long is first repeated alone, if that takes less than half as long: one that is flaky by
// itself is recognized before the company has run once. After each series of trials it must have passed, and have been bad,
// often enough.
const timesSeries = 12

var leastOfEach = []int{3, 5} // after one series, and after two

// flakyAlone repeats the victim alone before a company that takes long, and reports whether it often passes and is often
// bad.
func (h *Hunt) flakyAlone(company []string) bool {
	const overhead = 0.05 // seconds of a trial
	seconds := 0.0
	for _, id := range company {
		seconds += h.task.Seconds[id]
	}
	if seconds < 2*timesSeries*(h.task.Seconds[h.task.Victim]+overhead) {
		return false
	}
	alone := h.after(Alone, nil)
	for _, least := range leastOfEach {
		h.round(slices.Repeat([]Trial{alone}, timesSeries))
		seen := h.count(alone)
		rarer := min(seen.Failed, seen.Runs-seen.Failed)
		switch {
		case h.stopped || rarer == 0:
			return false
		case rarer >= least:
			h.finding.Without, h.finding.Chance = seen, 1
			return true
		}
	}
	return false
}
