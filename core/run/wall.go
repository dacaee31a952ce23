package run

import (
	"strings"
	"time"
)

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

// FirstProcess returns when the process of the first test began, as far as that is known.
func (r *Run) FirstProcess() time.Time {
	first := r.FirstTest()
	for _, result := range r.Results {
		if place, _, _ := strings.Cut(result.ID, "#"); result.began() && result.Started.Equal(first) {
			first = first.Add(-time.Duration(r.Begun[place] * float64(time.Second)))
			break
		}
	}
	if first.Before(r.Started) {
		return r.Started
	}
	return first
}

// Prepared returns the seconds before the process of the first test began.
func (r *Run) Prepared() float64 { return r.FirstProcess().Sub(r.Started).Seconds() }

// Wall returns the seconds from then to the end of the run.
func (r *Run) Wall() float64 { return max(0, r.Ended.Sub(r.FirstProcess()).Seconds()) }
