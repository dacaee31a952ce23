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
		event(outcome.Started, "u:g#a\x1b[31m", 1, nil),
		event(outcome.Output, "u:g#a\x1b[31m", 0, func(e *outcome.Event) { e.Text = strings.Repeat("line\x07\n", 20) + "the end\n" }),
		event(outcome.Finished, "u:g#a\x1b[31m", 1, fails(outcome.Failed, "got 1,\nwant 2")),
		event(outcome.Finished, "u:broken#1", 2, fails(outcome.Errored, "does not compile")),
		event(outcome.Finished, "u:broken#2", 2, fails(outcome.Errored, "does not compile")),
		event(outcome.StepDone, "u:g#b", 3, fails(outcome.Passed, "")),
		event(outcome.Started, "u:g#b", 1, func(e *outcome.Event) { e.Worker = 2 }),
		event(outcome.Finished, "u:g#b", 3, func(e *outcome.Event) { e.Outcome, e.Worker = outcome.Passed, 2 }),
		event(outcome.RunEnds, "", 5, nil),
	} {
		run.Apply(e)
	}
	var out strings.Builder
	Failures(&out, run)
	Closing(&out, run, 4, 2, 3.5)
	want := `▲ u:g#a  failed in 0.50 s  d/f.go:7
    got 1,
    want 2
    | … 9 lines before
` + strings.Repeat("    | line\n", 11) + `    | the end
◆ u:broken, 2 tests  errored in 0.50 s  d/f.go:7
    does not compile
4 picked: 1 passed, 1 failed, 2 errored; 0:04.0 on 2 workers, planned 0:03.5, alone 0:02.0: 0.5 ×, spread 1.00 s; 1 step; 0:01.0 to make ready
`
	if out.String() != want {
		t.Errorf("told\n%s\nwant\n%s", out.String(), want)
	}
}

func TestPlan(t *testing.T) {
	tests := []catalog.Test{
		{ID: "u:drip#a", Suite: "u", Group: "drip", Name: "a", Expected: 20, Known: true}, {ID: "u:drip#b", Suite: "u", Group: "drip", Name: "b", Expected: 10, Known: true},
		{ID: "u:door#c", Suite: "u", Group: "door", Name: "c", Expected: 6}, {ID: "u:vent#d", Suite: "u", Group: "vent", Name: "d", Expected: 5, Known: true},
	}
	study, err := split.NewStudy(tests, split.Group, split.Fleet{Shards: 2, Starts: map[int]float64{2: 15}})
	if err != nil {
		t.Fatal(err)
	}
	plan := study.Plan(split.Thorough)
	var out strings.Builder
	Plan(&out, plan)
	Advice(&out, study.Advise(plan, 5))
	Curve(&out, study.Work.Curve(split.Fleet{}, 4, split.Quick), 32)
	want := `   1     0:30.0           2 tests  drip
   2  0:15.0–0:26.0       2 tests  door, vent
finish 0:30.0, floor 0:30.0, spread 0:04.0, alone 0:41.0
no plan ends sooner
1 test never measured: their times are estimates

Is another machine worth it?
    the 2nd shard saved 11.0 s
    a 3rd would save nothing for 50 % more machine time
    the knee is at 1, with a finish of 0:41.0

What stands in the way?
    drip is 30.0 s in one piece
    a alone is 20.0 s of it
    apart, the floor falls to 0:30.0 and 2 shards end at 0:30.0

If one machine starts 60 s late
    fixed shards end at    1:30.0, 1:30.0 in 1 run of 20
    a shared queue ends at 0:56.0, 0:56.0 in 1 run of 20
    in time they end at    0:30.0 and 0:30.0
shards      finish       saves    machines
     1      0:41.0                  0:41.0  the knee: beyond it machines cost more than they save
     2      0:30.0      11.0 s      1:00.0  the least that end within 0:32.0; the floor: drip, 30.0 s in one piece
   3–4      0:30.0     nothing      2:00.0
`
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
