package history

import (
	"fernrelay/core/run"
)

// Flips counts how often a test went from well to bad or back; skipped and lost
// outcomes say nothing of it.
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
