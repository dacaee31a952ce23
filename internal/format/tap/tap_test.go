package tap

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"fernrelay/core/run"
	"fernrelay/internal/format/formattest"
)

// readLines reads a stream and gives its events, one per line.
func readLines(text string) ([]string, error) {
	return formattest.Lines(func(sink run.Sink) error { return Read(strings.NewReader(text), sink) })
}

func TestRead(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		want []string
		err  string
	}{
		"plain": {"TAP version 14\n1..3\nok 1 - opens\nnot ok 2 - shuts\nok\n", []string{"finished opens | passed", "finished shuts | failed", "finished unnamed point 3 | passed"}, ""},
		"directives": {"1..6\nok 1 - a # SKIP no pump\nnot ok 2 - b # TODO known\nok 3 - c # todo\nok 4 - d \\# skip\nok 5 # skipped: late\nok 6 - x # not one\n",
			[]string{"finished a | skipped | no pump", "finished b | owed | known", "finished c | surprise", "finished d # skip | passed", "finished unnamed point 5 | skipped | late", "finished x # not one | passed"}, ""},
		"diagnostics": {"not ok 1 - drip\n  ---\n  message: \"too wet\"\n  at:\n    file: d.js\n    line: 7\n  wanted: 3\n  found:\n    - 1\n    - 2\n  duration_ms: 12.5\n  ...\nok 2 - z\n1..2\n",
			[]string{"finished drip | failed | too wet | 3 | - 1\n- 2 | 0.0125 s | d.js:7", "finished z | passed"}, ""},
		"broken diagnostics": {"1..1\nnot ok 1 - a\n  ---\n  {: [\n  ...\n", []string{"finished a | failed | {: ["}, ""},
		"subtests": {"# Subtest: all\n    ok 1 - one\n    # Subtest: two\n        not ok 1 - deep\n          ---\n          message: leaks\n          ...\n        1..1\n    not ok 2 - two\n    1..2\nnot ok 1 - all\n1..1\n",
			[]string{"step all | one | passed", "step all | two/deep | failed | leaks", "step all | two | failed", "finished all | failed | two/deep: leaks"}, ""},
		"output":             {"1..2\nhello\n# a comment\nok 1 - a\nbye\n  indented\nok 2 - b\nrest\n", []string{"output a | hello\n# a comment", "finished a | passed", "output b | bye\n  indented", "finished b | passed"}, ""},
		"bail out":           {"1..3\nok 1 - a\nBail out! no water\nok 2 - b\n", []string{"finished a | passed"}, "bailed out: no water"},
		"bail out in a step": {"1..2\n    Bail out!\n", nil, "bailed out"},
		"too few":            {"1..3\nok 1 - a\n", []string{"finished a | passed"}, "its plan announces 3 test points, and 1 came"},
		"too many":           {"1..1\nok\nok 7\n", []string{"finished unnamed point 1 | passed", "finished unnamed point 7 | passed"}, "its plan announces 1 test points, and 2 came"},
		"no plan":            {"ok 1 - a\n", []string{"finished a | passed"}, "ended before its plan, after 1"},
		"nothing":            {"", nil, "printed nothing"},
		"all skipped":        {"1..0 # SKIP no pump\n", nil, ""},
		"ends in YAML":       {"1..1\nnot ok 1 - a\n  ---\n  message: half", []string{"finished a | failed | half"}, ""},
		"carriage returns":   {"1..1\r\nok 1 - a\r\n", []string{"finished a | passed"}, ""},
		"a long line":        {"1..1\n" + strings.Repeat("x", 1<<20) + "\nok 1 - a\n", []string{"output a | " + strings.Repeat("x", longestLine), "finished a | passed"}, ""},
	} {
		got, err := readLines(c.text)
		if strings.Join(got, "\n") != strings.Join(c.want, "\n") {
			t.Errorf("%s: reported\n%s\nwant\n%s", name, strings.Join(got, "\n"), strings.Join(c.want, "\n"))
		}
		if c.err == "" && err != nil || c.err != "" && (err == nil || !strings.Contains(err.Error(), c.err)) {
			t.Errorf("%s: the error is %v, want %q", name, err, c.err)
		}
	}
}

// TestWriteAndRead holds that what is written is read again as it was.
func TestWriteAndRead(t *testing.T) {
	r, at := run.New(), time.Unix(1000, 0)
	for i, o := range run.Outcomes {
		id := fmt.Sprintf("u:g#t%d # \\ \x1b[31mred\nline", i)
		r.Apply(run.Event{Event: run.StepDone, ID: id, Step: "one # two", Outcome: run.Passed})
		r.Apply(run.Event{Event: run.Finished, ID: id, Outcome: o, Seconds: run.Took(0.25), At: at, Failure: run.Failure{Message: "it: \"leaks\"\n- twice", File: "a.go", Line: 3, Expected: "1", Actual: "two\nlines"}})
	}
	var text strings.Builder
	if err := Write(&text, r); err != nil {
		t.Fatal(err)
	}
	got, err := readLines(text.String())
	if err != nil || len(got) != 2*len(run.Outcomes) {
		t.Fatalf("read %q, %v from\n%s", got, err, text.String())
	}
	for i, o := range run.Outcomes {
		want := fmt.Sprintf("finished u:g#t%d # \\ red line | %s | ", i, o)
		if !strings.HasPrefix(got[2*i+1], want) || !strings.HasSuffix(got[2*i+1], "it: \"leaks\"\n- twice | 1 | two\nlines | 0.25 s | a.go:3") {
			t.Errorf("read %q, want %q …", got[2*i+1], want)
		}
	}
}

// FuzzRead holds that no stream breaks the reader, and that nothing is reported twice.
func FuzzRead(f *testing.F) {
	f.Add("TAP version 14\n1..1\n    ok 1 - a\nnot ok 1 - b # TODO\n  ---\n  at: {file: x, line: 1}\n  ...\n")
	f.Add("not ok 1 - b\n  ---\n  expected: &a [1, *b]\n  found: [*a, *a]\n  ...\n")
	f.Add("not ok 1 - b\n  ---\n  - - - {a: [b, c]}\n  message: |\n   x\n  ...\n")
	f.Add("Bail out!\n    1..99999999999999999999\n#\nok")
	f.Fuzz(func(t *testing.T, text string) {
		points := 0
		_ = Read(strings.NewReader(text), func(e run.Event) {
			if e.Event == run.Finished {
				points++
			}
		})
		if points > strings.Count(text, "ok") {
			t.Fatalf("%d points come of %q", points, text)
		}
	})
}

// TestHostileYAML holds that YAML which stands for more than any memory holds is a point's message.
func TestHostileYAML(t *testing.T) {
	laughs := "  a0: &a0 [x, x, x, x, x, x, x, x, x]\n"
	for i := 1; i < 9; i++ {
		laughs += fmt.Sprintf("  a%d: &a%d [%s]\n", i, i, strings.Repeat(fmt.Sprintf("*a%d, ", i-1), 9))
	}
	for name, text := range map[string]string{
		"aliases":       laughs + "  expected: *a8\n",
		"nested lists":  "  expected: " + strings.Repeat("[", 20_000) + strings.Repeat("]", 20_000) + "\n",
		"nested signs":  "  " + strings.Repeat("- ", 20_000) + "x\n",
		"without end":   strings.Repeat("  message: x\n", 1_000_000),
		"alias to self": "  a: &a [*a]\n  expected: *a\n",
	} {
		var events []run.Event
		if err := Read(strings.NewReader("1..1\nnot ok 1 - p\n  ---\n"+text+"  ...\n"), func(e run.Event) { events = append(events, e) }); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if len(events) != 1 || events[0].Outcome != run.Failed || len(events[0].Message) > 2*longestYAML || len(events[0].Expected) > 2*longestYAML {
			t.Errorf("%s: %d events, a message of %d bytes", name, len(events), len(events[0].Message))
		}
	}
	e := run.Event{}
	_ = Read(strings.NewReader("1..1\nnot ok 1 - p\n  ---\n  expected: &a [1, 2]\n  actual: {b: *a}\n  ...\n"), func(got run.Event) { e = got })
	if e.Expected != "- 1\n- 2" || e.Actual != "b:\n- 1\n- 2" {
		t.Errorf("an alias that stands for little: expected %q, actual %q", e.Expected, e.Actual)
	}
}

// TestManySteps holds that a point of any number of steps takes bounded memory, and that none is forgotten.
func TestManySteps(t *testing.T) {
	const count = 300_000
	text := strings.Repeat("    ok 1 - s\n", count) + "    not ok 2 - bad\nnot ok 1 - p\n1..1\n"
	steps, last := 0, run.Event{}
	sink := run.LimitSteps(func(e run.Event) {
		if e.Event == run.StepDone {
			steps, last = steps+1, e
		}
	})
	if err := Read(strings.NewReader(text), sink); err != nil {
		t.Fatal(err)
	}
	if steps != run.MostSteps+1 || last.Step != "290001 more steps, 1 of them bad" || last.Outcome != run.Failed {
		t.Errorf("%d steps, the last %+v", steps, last)
	}
}
