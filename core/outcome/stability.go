package outcome

// PassRate is the share of a test's outcomes that were well, of those that say
// something: skipped and lost ones do not. ok is false where there is none.
func PassRate(past []Outcome) (rate float64, ok bool) {
	well, all := 0, 0
	for _, o := range past {
		bad, something := says(o)
		if !something {
			continue
		}
		all++
		if !bad {
			well++
		}
	}
	if all == 0 {
		return 0, false
	}
	return float64(well) / float64(all), true
}

// says tells what an outcome says of its test: that it was bad, that it was well, or nothing, as
// where the test was skipped or lost.
func says(o Outcome) (bad, something bool) { return o.Bad(), o != "" && o != Skipped && o != Lost }

// Flips counts how often a test went from well to bad or back; skipped and lost
// outcomes say nothing of it.
func Flips(past []Outcome) int {
	flips, before, seen := 0, false, false
	for _, o := range past {
		bad, something := says(o)
		if !something {
			continue
		}
		if seen && bad != before {
			flips++
		}
		before, seen = bad, true
	}
	return flips
}
