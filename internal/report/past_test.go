package report

import (
	"math"
	"strings"
	"testing"
	"time"

	"fernrelay/core/cause"
	"fernrelay/core/history"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/wording"
)

// TestWordsOfThePast holds how figures are written.
func TestWordsOfThePast(t *testing.T) {
	for share, want := range map[float64]string{0: "0 %", 0.0001: "< 0.1 %", 0.004: "0.4 %", 0.05: "5 %", 0.84: "84 %", 0.9951: "99.5 %", 0.99999: "99.9 %", 1: "100 %", math.NaN(): "–"} {
		if got := wording.Percent(share); got != want {
			t.Errorf("%v is written %s, want %s", share, got, want)
		}
	}
	for _, c := range []struct {
		now, before float64
		want        string
	}{{1.4, 1, "up 40 %"}, {2.5, 1, "up 2.5 ×"}, {0.6, 1, "down 40 %"}, {1, 0, ""}, {1, 1, ""}} {
		if got := wording.TimeChange(c.now, c.before); got != c.want {
			t.Errorf("%v after %v is %q, want %q", c.now, c.before, got, c.want)
		}
	}
	dirty := &run.Record{Number: 7, Began: time.Date(2026, 11, 12, 0, 0, 0, 0, time.UTC), Meta: run.Meta{Source: run.Source{Revision: "9ab03f1\x1b[31m", Dirty: true}}}
	if got := RunName(dirty); got != "run 7, 12 Nov, 9ab03f1+" {
		t.Errorf("a run is called %q", got)
	}
	if got := wording.Bytes(145_200_000) + ", " + wording.Bytes(766_000); got != "145.2 MB, 766 kB" {
		t.Errorf("sizes are %s", got)
	}
	if got := shortFunction("example.org/glass/clock.(*Clock).step"); got != "(*Clock).step" {
		t.Errorf("a function is called %s", got)
	}
}

// TestCardWords reports a test that comes and goes, was caught, and is slower than before.
func TestCardWords(t *testing.T) {
	var cells []history.Cell
	var runs []*run.Record
	for i := range 40 {
		o := run.Passed
		if i%8 == 7 || i > 30 && i%3 == 0 {
			o = run.Failed
		}
		cells = append(cells, history.NewCell(o, []float64{0.2, 0.3}[i/30]+0.001*float64(i%4)))
		runs = append(runs, &run.Record{Number: i + 1, Began: time.Date(2026, 11, 1+i%28, 0, 0, 0, 0, time.UTC), Meta: run.Meta{Source: run.Source{Revision: "abc"}}})
	}
	early := history.Figure(cells[:30])
	card := &history.Card{ID: "u:g#frost", Figures: history.Figure(cells), Cells: cells, Runs: runs, First: runs[7], Well: runs[38], Earlier: history.Share(early.Ran-early.Bad, early.Ran), Share: 0.01,
		Caught: &hunt.Saved{Number: 4, Finding: &hunt.Finding{ID: "u:g#frost", Verdict: hunt.Polluted, Culprits: [][]string{{"u:g#fog"}}}}}
	var out strings.Builder
	TestCard(&out, card)
	for _, words := range []string{"u:g#frost\n", "33 of 40 passed, 82 %, was 90 % ten runs ago", "13 changes of outcome", "frost fails only after fog, caught in hunt 4",
		"time 0.30 s, 1 % of all work; up 50 % from run 31, 3 Nov, abc on, when it took 0.20 s before", "first failed  run 8, 8 Nov, abc", "last failed   run 40", "last passed   run 39", "▲  failed  0.30 s  run 40"} {
		if !strings.Contains(out.String(), words) {
			t.Errorf("the card does not say %q:\n%s", words, out.String())
		}
	}
	if words := CardWords(&history.Card{}); len(words) != 1 || !strings.Contains(words[0], "did not come to an end") {
		t.Errorf("of a test that never ran: %q", words)
	}
}

// TestCausesInWords reports causes with and without an origin, a missing resource, and many tests.
func TestCausesInWords(t *testing.T) {
	many := make([]*run.Result, 25)
	for i := range many {
		many[i] = &run.Result{ID: "u:g#t\x1b[1m", Outcome: run.Failed, Steps: []run.Step{{Name: "dawn", Outcome: run.Passed}, {Name: "noon/opens", Outcome: run.Failed}}}
	}
	var out strings.Builder
	Causes(&out, []history.KnownCause{
		{Cause: cause.Cause{Words: "clock is ahead", Origin: cause.Frame{File: "clock/clock.go", Line: 41, Function: "example.org/glass/clock.step"}, Results: many}, Since: &run.Record{Number: 7}},
		{Cause: cause.Cause{Words: "dial failed", Lacks: &cause.Resource{Kind: "answer", Name: "127.0.0.1:6379"}, Results: many[:1]}},
	})
	for _, words := range []string{"26 failures, 2 causes", "25 tests  clock is ahead\n    clock/clock.go:41 from step()\n    ▲ u:g#t  in noon/opens", "… and 5 tests more", "since run 7, 1 Jan", "1 test  nobody answers (127.0.0.1:6379): dial failed"} {
		if !strings.Contains(out.String(), words) {
			t.Errorf("they do not say %q:\n%s", words, out.String())
		}
	}
}
