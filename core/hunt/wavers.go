package hunt

import "slices"

// A victim whose company takes long is first repeated alone, if that takes less than half as long: one that wavers by itself
// is recognized before the company has run once. After each series of trials it must have passed, and have been bad, often
// enough.
const timesWavers = 12

var leastWavers = []int{3, 5} // of each outcome, after one series and after two

// wavers repeats the victim alone before a dear company, and reports whether it passes about as often as it is bad.
func (h *Hunt) wavers(company []string) bool {
	const overhead = 0.05 // seconds of a trial
	dear := 0.0
	for _, id := range company {
		dear += h.task.Seconds[id]
	}
	if dear < 2*timesWavers*(h.task.Seconds[h.task.Victim]+overhead) {
		return false
	}
	alone := h.after(Alone, nil)
	for _, least := range leastWavers {
		h.round(slices.Repeat([]Trial{alone}, timesWavers))
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
