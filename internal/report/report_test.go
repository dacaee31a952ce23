package report

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/outcome"
	"fernrelay/core/split"
)

func event(kind outcome.Kind, id string, seconds float64, more func(*outcome.Event)) outcome.Event {
	e := outcome.Event{Event: kind, ID: id, Worker: 1, Batch: 1, At: time.Unix(100, 0).Add(time.Duration(seconds * float64(time.Second)))}
	if kind == outcome.Finished {
		e.Seconds = outcome.Took(0.5)
	}
	if more != nil {
		more(&e)
	}
	return e
}

func fails(o outcome.Outcome, message string) func(*outcome.Event) {
	return func(e *outcome.Event) { e.Outcome, e.Message, e.File, e.Line = o, message, "d/f.go", 7 }
}

func TestFailuresAndClosing(t *testing.T) {
	run := outcome.NewRun()
	for _, e := range []outcome.Event{
		event(outcome.RunBegins, "", 0, nil),
		event(outcome.Started, "u:g#a\x1b[31m", 0, nil),
		event(outcome.Output, "u:g#a\x1b[31m", 0, func(e *outcome.Event) { e.Text = strings.Repeat("line\x07\n", 20) + "the end\n" }),
		event(outcome.Finished, "u:g#a\x1b[31m", 1, fails(outcome.Failed, "got 1,\nwant 2")),
		event(outcome.Finished, "u:broken#1", 2, fails(outcome.Errored, "does not compile")),
		event(outcome.Finished, "u:broken#2", 2, fails(outcome.Errored, "does not compile")),
		event(outcome.Finished, "u:g#b", 3, fails(outcome.Passed, "")),
		event(outcome.RunEnds, "", 4, nil),
	} {
		run.Apply(e)
	}
	var out strings.Builder
	Failures(&out, run)
	Closing(&out, run, 4, 2)
	want := `▲ u:g#a  failed in 0.50 s  d/f.go:7
    got 1,
    want 2
    | … 9 lines before
` + strings.Repeat("    | line\n", 11) + `    | the end
◆ u:broken, 2 tests  errored in 0.50 s  d/f.go:7
    does not compile
4 picked: 1 passed, 1 failed, 2 errored; 0:04.0 on 2 workers, 0:02.0 of work
`
	if out.String() != want {
		t.Errorf("told\n%s\nwant\n%s", out.String(), want)
	}
}

func TestPlan(t *testing.T) {
	units := []split.Unit{{Name: "u:drip", Label: "drip", Tests: []string{"a", "b"}, Seconds: 30}, {Name: "u:door", Label: "door", Tests: []string{"c"}, Seconds: 6, Unknown: 1}}
	var out strings.Builder
	Plan(&out, split.Balance(units, 2))
	want := "   1    0:30.0      2 tests  drip\n   2    0:06.0       1 test  door\n" +
		"finish 0:30.0, floor 0:30.0, spread 0:24.0, alone 0:36.0\nno plan ends sooner\n" +
		"the floor is drip, 30.0 s in one piece\n1 test never measured: their times are estimates\n"
	if out.String() != want {
		t.Errorf("told\n%s\nwant\n%s", out.String(), want)
	}
}

func TestSentences(t *testing.T) {
	f := hunt.Finding{ID: "u:g#victim", Culprits: [][]string{{"u:g#one", "u:h#two"}}}
	change := []hunt.Change{{Kind: hunt.Variable, Name: "clock.offset", Before: "0s", After: "3h\n0m"}}
	for _, c := range []struct {
		verdict hunt.Verdict
		changed []hunt.Change
		want    string
	}{
		{hunt.Polluted, change, "victim fails only after one and two together, which leave clock.offset at 3h 0m"},
		{hunt.Brittle, nil, "victim passes only after one and two"},
		{hunt.Broken, nil, "victim fails alone and in company: no other test is to blame"},
		{hunt.Unstable, nil, "victim differs on identical trials: the order is not to blame"},
		{hunt.Stable, nil, "victim passed alone and in every order tried"},
	} {
		f.Verdict, f.Changed = c.verdict, c.changed
		if got := Sentence(f); got != c.want {
			t.Errorf("%s: %s, want %s", c.verdict, got, c.want)
		}
	}
}

// TestStatus holds that the line moves on a terminal and that a log gets a line a
// twentieth.
func TestStatus(t *testing.T) {
	for _, moving := range []bool{true, false} {
		var out strings.Builder
		s := NewStatus(&out, moving, 100)
		s.Tell(event(outcome.RunBegins, "", 0, nil))
		for i := range 100 {
			s.Tell(event(outcome.Finished, "x", float64(i), func(e *outcome.Event) { e.Outcome = outcome.Failed }))
		}
		s.Tell(event(outcome.RunEnds, "", 100, nil))
		told := out.String()
		if !strings.HasPrefix(told, "100 tests; making ready\n") || !strings.Contains(told, "1:39  100 of 100  ▲100") {
			t.Errorf("told %q", told)
		}
		if lines := strings.Count(told, "\n"); moving && (lines != 1 || !strings.HasSuffix(told, "\r\x1b[K")) || !moving && lines != 21 {
			t.Errorf("moving %t: %d lines, %q", moving, lines, told)
		}
	}
}

func TestTests(t *testing.T) {
	var out strings.Builder
	Tests(&out, []catalog.Test{
		{ID: "u:g#short", File: "f.go", Line: 3, Tags: []string{"a", "b"}, Expected: 0.25, Known: true},
		{ID: "u:g#much longer", Expected: 1},
	})
	if want := "u:g#short           0.25 s  f.go:3  a b\n'u:g#much longer'        –\n"; out.String() != want {
		t.Errorf("told\n%q\nwant\n%q", out.String(), want)
	}
}

func TestAside(t *testing.T) {
	run := outcome.NewRun()
	for i := range 20 {
		run.Apply(outcome.Event{Event: outcome.Finished, ID: fmt.Sprint("u:g#", i), Outcome: outcome.Skipped, Message: []string{"", "no\x1b[2J pump", "no valve", "a", "b", "c", "d", "e"}[min(i%9, 7)]})
	}
	run.Apply(outcome.Event{Event: outcome.Finished, ID: "u:g#good", Outcome: outcome.Surprise, Message: "it passed"})
	var out strings.Builder
	Aside(&out, run)
	want := "◇ u:g#good  surprise\n    it passed\n▫ 4 skipped: e\n▫ 3 skipped: no reason told\n▫ 3 skipped: no pump\n" +
		"▫ 2 skipped: no valve\n▫ 2 skipped: a\n▫ 2 skipped: b\n▫ and for 2 more reasons\n"
	if out.String() != want {
		t.Errorf("told\n%s\nwant\n%s", out.String(), want)
	}
}

// TestQuote holds that a shell takes a quoted text as one word and as it is.
func TestQuote(t *testing.T) {
	for text, want := range map[string]string{
		"u:drip#opens/2": "u:drip#opens/2", "": "''", "a b": "'a b'", "it's": `'it'\''s'`, "水": "'水'",
		"$HOME": "'$HOME'", "a  b": `$'a  b'`, "\x1b[m'\\": `$'\x1b[m\'\\'`, "-x": "-x", "~a": "'~a'",
	} {
		if got := Quote(text); got != want {
			t.Errorf("%q is written %s, want %s", text, got, want)
		}
	}
}
