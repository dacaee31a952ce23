package history

import (
	"cmp"
	"math"
	"slices"

	"fernrelay/core/run"
)

// Comparison says how a run differs from one before it.
type Comparison struct {
	Failing []Difference // bad, and not so before
	Mended  []Difference // bad before, and well now
	Slower  []Difference // the most first
	Faster  []Difference
	New     []Difference // in the later run only
	Gone    []Difference // in the earlier run only
}

// Difference is a test with its results in two runs; a result is nil if the run does not have the test.
type Difference struct {
	ID            string
	Before, After *run.Result
}

// Gained returns by how many seconds the later result is faster.
func (d Difference) Gained() float64 { return d.Before.Seconds - d.After.Seconds }

// Compare reports how a run differs from an earlier one. A time has changed if it differs by a fifth, by 50 ms and
// by three times the known spread of the test, in seconds.
func Compare(before, after *run.Run, spread func(id string) float64) Comparison {
	var c Comparison
	for _, now := range after.Results {
		d := Difference{now.ID, before.Result(now.ID), now}
		if d.Before == nil {
			c.New = append(c.New, d)
		}
		switch was := d.Before; {
		case now.Outcome.Bad():
			if was == nil || !was.Outcome.Bad() {
				c.Failing = append(c.Failing, d)
			}
		case was == nil || now.Outcome == run.Skipped || now.Outcome == run.Lost:
		case was.Outcome.Bad():
			c.Mended = append(c.Mended, d)
		case was.Outcome == run.Skipped || was.Outcome == run.Lost || !otherTime(was.Seconds, now.Seconds, spread(now.ID)):
		case now.Seconds > was.Seconds:
			c.Slower = append(c.Slower, d)
		default:
			c.Faster = append(c.Faster, d)
		}
	}
	for _, was := range before.Results {
		if after.Result(was.ID) == nil {
			c.Gone = append(c.Gone, Difference{was.ID, was, nil})
		}
	}
	slices.SortStableFunc(c.Slower, func(a, b Difference) int { return cmp.Compare(a.Gained(), b.Gained()) })
	slices.SortStableFunc(c.Faster, func(a, b Difference) int { return cmp.Compare(b.Gained(), a.Gained()) })
	return c
}

func otherTime(was, now, spread float64) bool {
	differs := math.Abs(now - was)
	return differs >= max(0.05, 3*spread) && max(was, now) >= changeFactor*min(was, now)
}

// Same reports whether nothing differs.
func (c Comparison) Same() bool {
	return len(c.Failing)+len(c.Mended)+len(c.Slower)+len(c.Faster)+len(c.New)+len(c.Gone) == 0
}
