package run

import "time"

// FirstTest returns when the first test began on a worker, or when the run began if none did. What comes before is
// preparation, such as building.
func (r *Run) FirstTest() time.Time {
	first := time.Time{}
	for _, result := range r.Results {
		began := result.Started
		if result.Worker > 0 && result.began() && (first.IsZero() || began.Before(first)) {
			first = began
		}
	}
	if first.Before(r.Started) {
		return r.Started
	}
	return first
}

// began reports whether a test ran: a skipped one did not, nor one whose package was not built.
func (res *Result) began() bool {
	return res.Outcome != Skipped && !(res.Outcome == Lost && res.Seconds == 0)
}

// Prepared returns the seconds before the first test began.
func (r *Run) Prepared() float64 { return r.FirstTest().Sub(r.Started).Seconds() }

// Wall returns the seconds from the first test to the end of the run.
func (r *Run) Wall() float64 { return max(0, r.Ended.Sub(r.FirstTest()).Seconds()) }
