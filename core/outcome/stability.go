package outcome

// PassRate is the share of a test's outcomes that were well, of those that say
// something: skipped and lost ones do not. ok is false where there is none.
func PassRate(past []Outcome) (rate float64, ok bool) {
	well, all := 0, 0
	for _, o := range past {
		if o == Skipped || o == Lost {
			continue
		}
		all++
		if !o.Bad() {
			well++
		}
	}
	if all == 0 {
		return 0, false
	}
	return float64(well) / float64(all), true
}

// Flips counts how often a test went from well to bad or back; skipped and lost
// outcomes say nothing of it.
func Flips(past []Outcome) int {
	flips, before, seen := 0, false, false
	for _, o := range past {
		if o == Skipped || o == Lost {
			continue
		}
		if seen && o.Bad() != before {
			flips++
		}
		before, seen = o.Bad(), true
	}
	return flips
}
