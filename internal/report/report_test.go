package report

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/terminal"
)

func event(kind run.Kind, id string, seconds float64, more func(*run.Event)) run.Event {
	e := run.Event{Event: kind, ID: id, Worker: 1, Batch: 1, At: time.Unix(100, 0).Add(time.Duration(seconds * float64(time.Second)))}
	if kind == run.Finished {
		e.Seconds = run.Took(0.5)
	}
	if more != nil {
		more(&e)
	}
	return e
}

func fails(o run.Outcome, message string) func(*run.Event) {
	return func(e *run.Event) { e.Outcome, e.Message, e.File, e.Line = o, message, "d/f.go", 7 }
}

func TestFailuresAndClosing(t *testing.T) {
	r := run.New()
	for _, e := range []run.Event{
		event(run.RunBegins, "", 0, nil),
		event(run.Started, "u:g#a\x1b[31m", 1, nil),
		event(run.Output, "u:g#a\x1b[31m", 0, func(e *run.Event) { e.Text = strings.Repeat("line\x07\n", 20) + "the end\n" }),
		event(run.StepDone, "u:g#a\x1b[31m", 1, func(e *run.Event) { fails(run.Passed, "")(e); e.Step = "dry" }),
		event(run.StepDone, "u:g#a\x1b[31m", 1, func(e *run.Event) { fails(run.Failed, "it leaks")(e); e.Step, e.Line = "wet", 9 }),
		event(run.Finished, "u:g#a\x1b[31m", 1, func(e *run.Event) {
			fails(run.Failed, "got 1,\nwant 2")(e)
			e.Expected, e.Actual = "2", "1"
		}),
		event(run.Finished, "u:broken#1", 2, fails(run.Errored, "does not compile")),
		event(run.Finished, "u:broken#2", 2, fails(run.Errored, "does not compile")),
		event(run.StepDone, "u:g#b", 3, fails(run.Passed, "")),
		event(run.Started, "u:g#b", 1, func(e *run.Event) { e.Worker = 2 }),
		event(run.Finished, "u:g#b", 3, func(e *run.Event) { e.Outcome, e.Worker = run.Passed, 2 }),
		event(run.RunEnds, "", 5, nil),
	} {
		r.Apply(e)
	}
	var out strings.Builder
	Failures(&out, r)
	Closing(&out, r, 4, 2, 3.5, 0)
	want := `▲ u:g#a  failed in 0.50 s  d/f.go:7
    got 1,
    want 2
    ▲ step wet  d/f.go:9: it leaks
    expected 2
    actual   1
    | … 9 lines before
` + strings.Repeat("    | line\n", 11) + `    | the end
◆ u:broken, 2 tests  errored in 0.50 s  d/f.go:7
    does not compile
4 picked: 1 passed, 1 failed, 2 errored; 0:04.0 on 2 workers, planned 0:03.5, alone 0:02.0 estimated: 0.5 ×, spread 1.00 s; 3 steps; 0:01.0 to prepare
`
	if out.String() != want {
		t.Errorf("reported\n%s\nwant\n%s", out.String(), want)
	}
}

func TestPlan(t *testing.T) {
	tests := []catalog.Test{
		{ID: "u:drip#a", Suite: "u", Group: "drip", Name: "a", Expected: 20, Known: true}, {ID: "u:drip#b", Suite: "u", Group: "drip", Name: "b", Expected: 10, Known: true},
		{ID: "u:door#c", Suite: "u", Group: "door", Name: "c", Expected: 6}, {ID: "u:vent#d", Suite: "u", Group: "vent", Name: "d", Expected: 5, Known: true},
	}
	study, err := split.NewStudy(tests, catalog.GroupLevel, split.Fleet{Shards: 2, Starts: map[int]float64{2: 15}})
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
finish 0:30.0, floor 0:30.0, spread 0:04.0, alone 0:41.0, of which 0:06.0 estimated
optimal: no plan finishes earlier
1 test never measured: its time is an estimate

Is another machine worth it?
    the 2nd shard saved 11.0 s
    a 3rd would save nothing for 50 % more machine time
    the knee is at 1, with a finish of 0:41.0

What stands in the way?
    drip is 30.0 s in one piece
    a alone is 20.0 s of it
    to divide it gains nothing: the floor stays 0:30.0

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
		t.Errorf("reported\n%s\nwant\n%s", out.String(), want)
	}
}

func TestSentences(t *testing.T) {
	f := hunt.Finding{ID: "u:g#victim", Culprits: [][]string{{"u:g#one", "u:h#two"}}}
	change := []hunt.Change{{Kind: hunt.Variable, Name: "clock.offset", Before: "0s", After: "3h\n0m", File: "clock/clock.go", Line: 18, Proved: true}}
	for _, c := range []struct {
		verdict hunt.Verdict
		more    func(f *hunt.Finding)
		want    string
	}{
		{hunt.Polluted, func(f *hunt.Finding) { f.Changed = change }, "victim fails only after one and two together. one and two leave clock.offset at 3h 0m (clock.go:18); " +
			"victim depends on it: restoring only this makes it pass. Restore it at the end of two, or at the start of victim."},
		{hunt.Polluted, func(f *hunt.Finding) { f.Culprits, f.Cleaners = [][]string{{"u:g#a"}, {"u:g#b"}}, []string{"u:g#c"} },
			"victim fails only after a, or after b, unless c runs between. "},
		{hunt.Polluted, func(f *hunt.Finding) { f.Overlap = true }, "victim of g fails only while it runs beside one of g and two of h. " +
			"Let both hold the resource that they share (the rule holds), or have each worker use a name of its own for it ({space}, {port}, {tmp})."},
		{hunt.Brittle, func(f *hunt.Finding) { f.Changed = []hunt.Change{{Name: "a", After: "1"}} }, "victim passes only after one and two together. " +
			"one and two leave a at 1; give victim the rule needs with one and two, or set up in it what it needs."},
		{hunt.Faulty, nil, "victim fails alone and in company: no other test is to blame. "},
		{hunt.Flaky, nil, "victim differs on identical trials: the order is not to blame. "},
		{hunt.Stable, nil, "victim passed alone and in every order tried. "},
		{hunt.Stable, func(f *hunt.Finding) { f.Each = hunt.Tried{Tests: 1000, Of: 1999} }, "victim passed alone, in every order tried, and right after 1000 of 1999 other tests. "},
		{hunt.Stable, func(f *hunt.Finding) { f.Mended = f.Culprits }, "victim is mended: it no longer depends on one and two together. "},
	} {
		g := f
		g.Verdict = c.verdict
		if c.more != nil {
			c.more(&g)
		}
		if len(g.Mended) > 0 || c.verdict != hunt.Polluted && c.verdict != hunt.Brittle {
			g.Culprits = nil
		}
		if got := Sentence(g) + ". " + Remedy(g); got != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", c.verdict, got, c.want)
		}
	}
}

// TestMarkdown holds that what tests are called, and leave, stands in a report as it is, and
// that of long values the part is reported that differs.
func TestMarkdown(t *testing.T) {
	long := strings.Repeat("a", 500)
	f := hunt.Finding{ID: "u:g#<script>`|_x_", Verdict: hunt.Polluted, Culprits: [][]string{{"u:g#it's\x1b[1m"}}, Order: []string{"u:g#it's\x1b[1m", "u:g#<script>`|_x_"},
		With: hunt.Times{Runs: 5, Failed: 5}, Without: hunt.Times{Runs: 5}, Changed: []hunt.Change{{Kind: hunt.Variable, Name: "v", Before: long + "1|" + long, After: long + "2" + long}}}
	var out strings.Builder
	if err := Markdown(&out, "/glass house", f, []hunt.Record{{Trial: hunt.Trial{Number: 1, Purpose: hunt.Alone}, Done: true, Outcome: run.Passed}}); err != nil {
		t.Fatal(err)
	}
	for _, words := range []string{"# ``u:g#<script>`\\|_x_`` is polluted", "\\<script>\\`\\|\\_x\\_ fails only after it's", `$'u:g#it\'s\x1b[1m'`,
		"| `…aaaaaaaaaaaa1\\|aaa", "| `…aaaaaaaaaaaa2aaa", "| 1 | alone | 0 | 0 | passed |"} {
		if !strings.Contains(out.String(), words) {
			t.Errorf("%q is not in\n%s", words, out.String())
		}
	}
	if strings.Contains(out.String(), "\x1b") {
		t.Errorf("a control sequence is in\n%q", out.String())
	}
}

// TestStatus holds that the line moves on a terminal, names what is running, and makes room for other lines; and that a
// log gets a line for each twentieth.
func TestStatus(t *testing.T) {
	for _, width := range []int{40, 0} {
		var out strings.Builder
		moving := width > 0
		s := NewStatus(terminal.NewWriter(&out), width, 100)
		s.Event(event(run.RunBegins, "", 0, nil))
		s.Event(event(run.Started, "long"+strings.Repeat("er", 20), 0, nil))
		for i := range 100 {
			s.Event(event(run.Finished, "x", float64(i), func(e *run.Event) { e.Outcome = run.Failed }))
		}
		s.Around(func() { out.WriteString("@") })
		s.Close()
		reported := out.String()
		if !strings.HasPrefix(reported, "100 tests; preparing\n") || !strings.Contains(reported, "1:39  100 of 100  ▲100") {
			t.Errorf("reported %q", reported)
		}
		if moving && (!strings.Contains(reported, "\r\x1b[K@\r") || !strings.Contains(reported, "running: longer")) || !moving && !strings.Contains(reported, "running: long"+strings.Repeat("er", 20)+" 1:39") {
			t.Errorf("moving %t: %q", moving, reported)
		}
		for line := range strings.SplitSeq(reported, "\r\x1b[K") {
			if moving && len([]rune(strings.Trim(line, "\n"))) >= width {
				t.Errorf("wider than the terminal: %q", line)
			}
		}
		if lines := strings.Count(reported, "\n"); moving && (lines != 1 || !strings.HasSuffix(reported, "\r\x1b[K")) || !moving && lines != 21 {
			t.Errorf("moving %t: %d lines, %q", moving, lines, reported)
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
		t.Errorf("reported\n%q\nwant\n%q", out.String(), want)
	}
}

func TestAside(t *testing.T) {
	r := run.New()
	for i := range 20 {
		r.Apply(run.Event{Event: run.Finished, ID: fmt.Sprint("u:g#", i), Outcome: run.Skipped, Failure: run.Failure{Message: []string{"", "no\x1b[2J pump", "no valve", "a", "b", "c", "d", "e"}[min(i%9, 7)]}})
	}
	r.Apply(run.Event{Event: run.Finished, ID: "u:g#good", Outcome: run.Surprise, Failure: run.Failure{Message: "it passed"}})
	var out strings.Builder
	Notes(&out, r)
	want := "◇ u:g#good  surprise\n    it passed\n▫ 4 skipped: e\n▫ 3 skipped: no reason given\n▫ 3 skipped: no pump\n" +
		"▫ 2 skipped: no valve\n▫ 2 skipped: a\n▫ 2 skipped: b\n▫ and for 2 more reasons\n"
	if out.String() != want {
		t.Errorf("reported\n%s\nwant\n%s", out.String(), want)
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
