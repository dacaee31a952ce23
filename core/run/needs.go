package run

import "fmt"

// Unmet returns why a test does not run that needs others to pass before it, or "" if it may. outcome returns the
// outcome of a needed test, "" before its end, and whether the run has it at all.
func Unmet(needs []string, outcome func(id string) (o Outcome, picked bool)) (why string) {
	for _, id := range needs {
		switch o, picked := outcome(id); {
		case !picked:
			return fmt.Sprintf("needs %s, which is not picked for this run", id)
		case o != "" && o != Passed:
			return fmt.Sprintf("needs %s, which did not pass (%s)", id, o)
		}
	}
	return ""
}
