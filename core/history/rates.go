package history

import (
	"slices"

	"fernrelay/core/run"
)

// Last returns the latest outcome that is evidence of something. Only if there is none is it the latest of all, and
// "" without a past: a test that was skipped or lost after it failed is still one that failed.
func Last(past []run.Outcome) run.Outcome {
	for _, o := range slices.Backward(past) {
		if _, something := o.Evidence(); something {
			return o
		}
	}
	if len(past) == 0 {
		return ""
	}
	return past[len(past)-1]
}

// Flips counts the changes of a test between good and bad; skipped and lost outcomes are evidence of nothing.
func Flips(past []run.Outcome) int {
	flips, before, seen := 0, false, false
	for _, o := range past {
		bad, something := o.Evidence()
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
