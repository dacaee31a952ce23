package history

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/run"
)

// TestFigures reports what pasts come to, each written as the shapes of its outcomes.
func TestFigures(t *testing.T) {
	for _, c := range []struct {
		past string
		want string // ran bad flips, first bad, last bad, last well
	}{
		{"", "0 0 0 -1 -1 -1"},
		{"··", "0 0 0 -1 -1 -1"},
		{"▪▪▪", "3 0 0 -1 -1 2"},
		{"▪▲▪", "3 1 2 1 1 2"},
		{"▲·▫∅▲", "2 2 0 0 4 -1"},
		{"▪▫▼·◆▪", "4 2 2 2 4 5"},
		{"△◇▲", "3 1 1 2 2 1"},
	} {
		f := Figure(pastOf(c.past))
		if got := fmt.Sprint(f.Ran, f.Bad, f.Flips, f.FirstBad, f.LastBad, f.LastWell); got != c.want {
			t.Errorf("%s comes to %s, want %s", c.past, got, c.want)
		}
		if f.Ran > 0 && f.Rate != float64(f.Ran-f.Bad)/float64(f.Ran) {
			t.Errorf("the pass rate of %s is %v", c.past, f.Rate)
		}
	}
	old, fresh := Figure(pastOf("▲▪▪▪▪▪▪▪▪▪▪")), Figure(pastOf("▪▪▪▪▪▪▪▪▪▪▲"))
	if fresh.Trouble != 1 || math.Abs(old.Trouble-0.5) > 1e-9 {
		t.Errorf("a failure weighs %v now and %v ten runs ago", fresh.Trouble, old.Trouble)
	}
}

// pastOf reads a past from the shapes of its outcomes.
func pastOf(shapes string) []Cell {
	var past []Cell
	for _, r := range shapes {
		c := Cell{}
		for _, o := range run.Outcomes {
			if o.Shape() == string(r) {
				c = NewCell(o, 1)
			}
		}
		past = append(past, c)
	}
	return past
}

// TestShare compares the interval of a share with how often it holds the true one.
func TestShare(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	for _, p := range []float64{0.02, 0.1, 0.5, 0.9} {
		for _, n := range []int{10, 30, 100} {
			holds := 0
			for range 4000 {
				some := 0
				for range n {
					if random.Float64() < p {
						some++
					}
				}
				if in := Share(some, n); in.Low <= p && p <= in.High {
					holds++
				}
			}
			if share := float64(holds) / 4000; share < 0.88 { // its worst near the ends; 0.95 on average
				t.Errorf("the interval of %d holds %v in %.3f of all cases", n, p, share)
			}
		}
	}
	if in := Share(0, 0); in.Low != 0 || in.High != 1 {
		t.Errorf("nothing seen gives %v", in)
	}
}

// TestChangeOfTime makes pasts with noise and with a change, and counts how often a change is
// reported that is none, and one missed, or put elsewhere.
func TestChangeOfTime(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	past := func(runs, at int, factor, noise float64) []Cell {
		cells := make([]Cell, runs)
		for i := range cells {
			s := math.Exp(noise * random.NormFloat64())
			if i >= at {
				s *= factor
			}
			cells[i] = NewCell(run.Passed, s)
		}
		return cells
	}
	const times = 2000
	for _, c := range []struct {
		runs, at      int
		factor, noise float64
		reported      float64 // at least this share, and at most where the factor is 1
	}{
		{30, 30, 1, 0.05, 0}, {30, 30, 1, 0.3, 0.02}, {100, 100, 1, 0.3, 0.02}, {8, 8, 1, 0.5, 0.02},
		{30, 25, 1.4, 0.05, 0.99}, {30, 20, 2, 0.2, 0.99}, {100, 90, 0.5, 0.2, 0.99}, {100, 97, 1.5, 0.05, 0.99},
	} {
		reported, near := 0, 0
		for range times {
			f := Figure(past(c.runs, c.at, c.factor, c.noise))
			if f.Changed < 0 {
				continue
			}
			reported++
			if math.Abs(float64(f.Changed-c.at)) <= 2 {
				near++
			}
		}
		share := float64(reported) / times
		if c.factor == 1 && share > c.reported {
			t.Errorf("of %d runs with noise %v, %.3f are reported to change", c.runs, c.noise, share)
		}
		if c.factor != 1 && (share < c.reported || float64(near) < 0.9*float64(reported)) {
			t.Errorf("%+v: %.3f are reported, %d of %d near it", c, share, near, reported)
		}
	}
}

// TestCompare compares two runs in which everything that can happen does.
func TestCompare(t *testing.T) {
	make := func(results string) *run.Run {
		r := run.New()
		for text := range strings.FieldsSeq(results) {
			var id string
			var seconds float64
			o, rest, _ := strings.Cut(text, ":")
			_, _ = fmt.Sscanf(strings.Replace(rest, ":", " ", 1), "%s %g", &id, &seconds)
			r.Apply(run.Event{Event: run.Finished, ID: id, Outcome: run.Outcome(o), Seconds: run.Took(seconds)})
		}
		return r
	}
	before := make("passed:a:1 failed:b:1 passed:c:1 passed:d:1 passed:e:0.01 skipped:f:0 failed:g:1 passed:h:1 failed:k:1")
	after := make("failed:a:1 passed:b:9 passed:c:1.5 passed:d:0.5 passed:e:0.02 failed:f:1 skipped:g:0 errored:i:1 passed:j:1 timed-out:k:1")
	c := Compare(before, after, func(id string) float64 { return 0 })
	got := ""
	for _, list := range [][]Difference{c.Failing, c.Mended, c.Slower, c.Faster, c.New, c.Gone} {
		for _, d := range list {
			got += d.ID
		}
		got += "|"
	}
	if want := "afi|b|c|d|ij|h|"; got != want {
		t.Errorf("the comparison is %s, want %s", got, want)
	}
	if c := Compare(before, after, func(id string) float64 { return 1 }); c.Slower != nil || c.Faster != nil {
		t.Error("times within the spread are reported to differ")
	}
	if !Compare(before, before, func(string) float64 { return 0 }).Same() {
		t.Error("a run differs from itself")
	}
}

func BenchmarkFigures(b *testing.B) {
	const tests, runs = 20_000, 100
	random := rand.New(rand.NewPCG(1, 1))
	h := NewHistory(make([]string, tests), runs)
	for test := range tests {
		for r := range runs {
			h.Set(test, r, NewCell(run.Passed, 0.2*math.Exp(0.3*random.NormFloat64())))
		}
	}
	for b.Loop() {
		h.Figures()
	}
}

// TestFlips counts changes of outcome; skipped and lost results say nothing.
func TestFlips(t *testing.T) {
	for past, want := range map[string]int{
		"": 0, "skipped lost": 0, "passed": 0, "passed skipped passed owed surprise": 0,
		"passed failed": 1, "failed skipped failed passed errored": 2, "passed timed-out passed lost failed passed": 4,
	} {
		var outcomes []run.Outcome
		for _, word := range strings.Fields(past) {
			outcomes = append(outcomes, run.Outcome(word))
		}
		if got := Flips(outcomes); got != want {
			t.Errorf("%s: %d, want %d", past, got, want)
		}
	}
}

// TestExpected holds that of a test's latest 20 results those count that went all their way, or else failures.
func TestExpected(t *testing.T) {
	cell := func(o run.Outcome, seconds float64) Cell { return NewCell(o, seconds) }
	old := make([]Cell, 30)
	for i := range old {
		old[i] = cell(run.Passed, 9)
	}
	for name, c := range map[string]struct {
		past []Cell
		want float64 // below 0 for none
	}{
		"none":            {nil, -1},
		"skipped only":    {[]Cell{cell(run.Skipped, 5), cell(run.Lost, 5), {}}, -1},
		"errored only":    {[]Cell{cell(run.Errored, 5)}, -1},
		"failures alone":  {[]Cell{cell(run.Failed, 3), cell(run.TimedOut, 60)}, 3},
		"passes first":    {[]Cell{cell(run.Failed, 3), cell(run.Passed, 1), cell(run.Failed, 3)}, 1},
		"owed counts":     {[]Cell{cell(run.Owed, 2)}, 2},
		"the latest only": {append(old, slices.Repeat([]Cell{cell(run.Passed, 1)}, 20)...), 1},
	} {
		got, ok := Expected(c.past)
		if ok != (c.want >= 0) || ok && math.Abs(got.Seconds-c.want) > 1e-6 {
			t.Errorf("%s: %v, %t; want %v", name, got, ok, c.want)
		}
		if f := Figure(c.past); math.Abs(f.Seconds-max(0, c.want)) > 1e-6 {
			t.Errorf("%s: the ledger shows %v s, plans use %v s", name, f.Seconds, c.want)
		}
	}
}
