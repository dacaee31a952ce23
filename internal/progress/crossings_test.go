package progress

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
)

// crossings returns those of one name with a number of values.
func crossings(t *testing.T, n int) (*Crossings, []matrix.Crossing) {
	t.Helper()
	spec := matrix.Spec{Names: []matrix.Name{{Name: "store"}}}
	for i := range n {
		spec.Names[0].Values = append(spec.Names[0].Values, fmt.Sprint("s", i))
	}
	m, err := matrix.New(spec)
	if err != nil {
		t.Fatal(err)
	}
	c := &Crossings{}
	for _, one := range matrix.NewResults(m, m.Crossings, "").Results {
		c.Rows = append(c.Rows, &Crossing{Result: *one})
	}
	return c, m.Crossings
}

// TestCrossingsFollow runs three crossings, two at once, of which nothing is expected: what ended says how long the others take.
func TestCrossingsFollow(t *testing.T) {
	c, all := crossings(t, 3)
	c.Begin(all, 2)
	began := time.Unix(1000, 0)
	at := func(seconds float64) time.Time { return began.Add(time.Duration(seconds * float64(time.Second))) }
	put := func(row int, state matrix.State, from float64, outcome run.Outcome) {
		result := c.Rows[row].Result
		result.State, result.Began, result.Outcome = state, at(from), outcome
		if state == matrix.Ended {
			result.Run = run.New()
			result.Run.Ended = c.Now
		}
		c.Steps.Put(CrossingStep{Key: c.Rows[row].Key(), Result: &result})
	}
	live := New(schedule.Of(nil, nil), 1, func(string) []run.Outcome { return nil })
	c.Steps.Put(CrossingStep{Key: c.Rows[0].Key(), Live: live})
	put(0, matrix.Running, 0, "")
	put(1, matrix.Running, 1, "")
	live.Events.Put(run.Event{Event: run.Finished, ID: "u:g#a", At: at(1.5), Outcome: run.Failed, Seconds: run.Took(1)})
	if !c.Follow(at(2)) || c.Running() != 2 || c.Begins[1] != 1 || c.Since() != 2 {
		t.Fatalf("2 run, the second from 1 s on: got %d, %v, after %g s", c.Running(), c.Begins, c.Since())
	}
	if done, bad := c.Rows[0].Bins.Between(0, 2); done != 1 || bad != 1 {
		t.Errorf("%d tests ended, %d bad; want 1 of 1", done, bad)
	}
	c.Follow(at(4))
	put(0, matrix.Ended, 0, run.Failed)
	if !c.Follow(at(4)) || !live.Ended || len(c.Rows[0].Past) != 1 || c.Rows[0].Past[0] != run.Failed {
		t.Errorf("the crossing that ended has the past %v", c.Rows[0].Past)
	}
	if r := c.Rows[1]; r.To != 5 {
		t.Errorf("the one that runs is to end at %g s, want 5: as long as the other, 4 s", r.To)
	}
	if r := c.Rows[2]; r.From != 4 || r.To != 8 || c.LastEnd() != 8 {
		t.Errorf("the last is to run from %g to %g s, and all end at %g; want 4, 8 and 8", r.From, r.To, c.LastEnd())
	}
	c.Stopping = true
	if c.Follow(at(4)); c.Rows[2].To != 0 {
		t.Errorf("after a stop the last is to run until %g s", c.Rows[2].To)
	}
}

// TestCrossingsShareLanes forecasts random crossings before they run: never more at once than may, and none waits for a free lane.
func TestCrossingsShareLanes(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		c, _ := crossings(t, 1+random.IntN(9))
		c.AtOnce = 1 + random.IntN(4)
		sum, longest := 0.0, 0.0
		for _, row := range c.Rows {
			row.Expected = float64(1 + random.IntN(20))
			sum, longest = sum+row.Expected, max(longest, row.Expected)
		}
		c.Follow(time.Time{})
		for _, row := range c.Rows {
			at := 0
			for _, other := range c.Rows {
				if other.From <= row.From && row.From < other.To {
					at++
				}
			}
			if at > c.AtOnce || row.To-row.From != row.Expected {
				t.Fatalf("%d crossings run at %g s, %d may; one runs from %g to %g, expected are %g s", at, row.From, c.AtOnce, row.From, row.To, row.Expected)
			}
		}
		if least := sum / float64(c.AtOnce); c.LastEnd() > least+longest {
			t.Fatalf("they end at %g s, and could at %g", c.LastEnd(), least)
		}
	}
}

// TestBins holds that joining bins loses no test.
func TestBins(t *testing.T) {
	var b Bins
	bad := 0
	for i := range 5000 {
		o := run.Passed
		if i%7 == 0 {
			o = run.Failed
			bad++
		}
		b.Add(float64(i)*0.1, o)
	}
	done, found := 0, 0
	for x := range 100 {
		d, f := b.Between(float64(x)*5.13, float64(x+1)*5.13)
		done, found = done+d, found+f
	}
	if done != 5000 || found != bad || len(b.Done) > MostBins {
		t.Errorf("%d tests, %d bad in %d bins, want 5000, %d", done, found, len(b.Done), bad)
	}
}
