package matrix

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"fernrelay/core/run"
)

// Result is the result of a crossing.
type Result struct {
	*Crossing
	State   State
	Outcome run.Outcome // empty before it ended
	Why     string      // it has no run, or no outcome of its own
	Run     *run.Run    // its latest; nil if it has none
	Number  int         // of the run in the ledger; 0 if it is not kept
	Began   time.Time   // zero before it began
	Tests   int         // that it runs
}

// State is how far a crossing has come.
type State string

// The states of a crossing.
const (
	Waiting State = "waiting"
	Running State = "running"
	Ended   State = "ended"
	LeftOut State = "left-out"
)

// OutcomeOf returns the outcome of a crossing by the counts of its run: the worst of its tests', skipped if all are skipped. A
// build that failed counts more than the tests that are lost because of it.
func OutcomeOf(counts map[run.Outcome]int) run.Outcome {
	worst := []run.Outcome{run.Lost, run.Failed, run.TimedOut, run.Errored}
	if counts[run.Beyond] > 0 {
		worst = []run.Outcome{run.Failed, run.TimedOut, run.Errored, run.Beyond}
	}
	for _, o := range worst {
		switch {
		case counts[o] == 0:
		case o == run.Beyond:
			return run.Errored
		default:
			return o
		}
	}
	for o, n := range counts {
		if n > 0 && o != run.Skipped {
			return run.Passed
		}
	}
	if counts[run.Skipped] > 0 {
		return run.Skipped
	}
	return run.Passed
}

// outcomeOf returns the outcome of a crossing by its run, which is lost if a test is, unless a build explains that.
func outcomeOf(ran *run.Run) run.Outcome {
	if ran.Counts[run.Lost] > 0 && ran.ExitStatus() == 3 {
		return run.Lost
	}
	return OutcomeOf(ran.Counts)
}

// End notes the run of a crossing, and its number in the ledger.
func (r *Result) End(number int, ran *run.Run) {
	r.State, r.Number, r.Run, r.Outcome, r.Began, r.Tests = Ended, number, ran, outcomeOf(ran), ran.Started, ran.Tests()
	if r.Tests == 0 && ran.Planned == nil {
		r.Outcome = run.Skipped
	}
}

// Bad reports whether the crossing makes the whole fail.
func (r *Result) Bad() bool { return r.Outcome.Bad() && r.MayFail == "" }

// Missing reports whether the crossing should have an outcome and has none.
func (r *Result) Missing() bool {
	return r.State != LeftOut && (r.Outcome == "" || r.Outcome == run.Lost)
}

// Results are the results of crossings of a matrix, in its order: of all, or of some.
type Results struct {
	Source  *run.Source // nil if it is not known
	Mixed   string      // in words, that the results are of different sources; "" if they are not
	Matrix  *Matrix
	Results []*Result
	Then    Then
}

// Then is the step after all crossings.
type Then struct {
	Command string      // as it is written; empty for none
	Outcome run.Outcome // passed or failed, or skipped; empty before
	Why     string      // it is skipped, or failed
	Output  string      // the end of what it printed
}

// NewResults returns results of crossings that have not begun.
func NewResults(m *Matrix, some []Crossing, then string) *Results {
	r := &Results{Matrix: m, Then: Then{Command: then}}
	for i := range some {
		c := &some[i]
		result := &Result{Crossing: c, State: Waiting}
		if c.LeaveOut != "" {
			result.State, result.Outcome, result.Why = LeftOut, run.Skipped, "left out: "+c.LeaveOut
		}
		r.Results = append(r.Results, result)
	}
	return r
}

// Result returns the result of a crossing by its key, nil if there is none.
func (r *Results) Result(key string) *Result {
	if at := slices.IndexFunc(r.Results, func(one *Result) bool { return one.Key() == key }); at >= 0 {
		return r.Results[at]
	}
	return nil
}

// Explain explains which values make tests fail, from the crossings that have run.
func (r *Results) Explain() Explained {
	t := NewTally(r.Matrix)
	for _, one := range r.Results {
		if one.Run == nil {
			continue
		}
		key := one.Key()
		for _, result := range one.Run.Results {
			t.Add(key, result)
		}
	}
	return t.Explain()
}

// ExitStatus returns the status with which a command ends that ran the crossings: 3 if one has no outcome, 1 if one failed
// that must pass or the step after them failed, 0 if all is well.
func (r *Results) ExitStatus() int {
	status := 0
	for _, one := range r.Results {
		switch {
		case one.Missing():
			return 3
		case one.Bad():
			status = 1
		}
	}
	if r.Then.Outcome.Bad() {
		status = 1
	}
	return status
}

// Counts returns how many crossings must pass, and how many of these did.
func (r *Results) Counts() (passed, must int) {
	for _, one := range r.Results {
		if one.State == LeftOut || one.MayFail != "" {
			continue
		}
		must++
		if one.State == Ended && one.Outcome == run.Passed {
			passed++
		}
	}
	return passed, must
}

// Text says of how many tests the explanation is and which crossings they fail in, as in "12 tests fail wherever store is
// postgres; season makes no difference".
func (e *Explanation) Text(s *Spec) string {
	return count(len(e.Tests), "test fails", "tests fail") + " " + e.Cause.Text(s) + e.Difference()
}

// Difference says which names make no difference, as in "; season makes no difference", empty if all do.
func (e *Explanation) Difference() string {
	switch {
	case len(e.Same) == 0 || len(e.Where) == 0:
		return ""
	case len(e.Same) == 1:
		return "; " + e.Same[0] + " makes no difference"
	}
	last := len(e.Same) - 1
	return "; " + strings.Join(e.Same[:last], ", ") + " and " + e.Same[last] + " make no difference"
}

// Text says which crossings these are, as in "only where store is redis and season is summer". The names are in the order of
// the spec.
func (c *Cause) Text(s *Spec) string {
	var parts []string
	for _, n := range s.Names {
		if value, ok := c.Where[n.Name]; ok {
			parts = append(parts, n.Name+" is "+value)
		}
	}
	values := strings.Join(parts, " and ")
	switch {
	case len(parts) == 0:
		return "in every crossing"
	case c.Except:
		return "everywhere but where " + values
	case len(parts) == 1:
		return "wherever " + values
	}
	return "only where " + values
}

// Text says what the rival claims and which crossing decides.
func (r *Rival) Text(m *Matrix) string {
	text := "or " + r.Cause.Text(&m.Spec)
	if r.Decide == nil {
		return text + ", which no other crossing can decide"
	}
	c := m.Spec.crossing(r.Decide)
	return text + ": " + c.Key() + " would decide"
}

func count(n int, one, several string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprint(n, " ", several)
}

// Begins returns the seconds after the first crossing at which each began, and at which the last ended. Crossings that ran at
// different times of day, not in one run of the matrix, all begin at 0.
func (r *Results) Begins(now time.Time) (begins []float64, end float64) {
	first, last, took := r.span(now)
	begins = make([]float64, len(r.Results))
	together := last.Sub(first).Seconds() <= 2*took+1
	for i, one := range r.Results {
		if one.Began.IsZero() {
			continue
		}
		if together {
			begins[i] = one.Began.Sub(first).Seconds()
		}
		end = max(end, begins[i]+one.Took(now))
	}
	return begins, end
}

// span returns when the first crossing began and the last one ended, and how many seconds all of them took.
func (r *Results) span(now time.Time) (first, last time.Time, took float64) {
	for _, one := range r.Results {
		if one.Began.IsZero() {
			continue
		}
		if first.IsZero() || one.Began.Before(first) {
			first = one.Began
		}
		if ended := one.Began.Add(time.Duration(one.Took(now) * float64(time.Second))); ended.After(last) {
			last = ended
		}
		took += one.Took(now)
	}
	return first, last, took
}

// Took returns the seconds that a crossing took, or has taken so far.
func (r *Result) Took(now time.Time) float64 {
	switch {
	case r.State == Running:
		return max(0, now.Sub(r.Began).Seconds())
	case r.Run != nil && !r.Began.IsZero():
		return max(0, r.Run.Ended.Sub(r.Began).Seconds())
	}
	return 0
}
