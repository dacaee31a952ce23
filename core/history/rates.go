package history

import (
	"fernrelay/core/run"
)

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
