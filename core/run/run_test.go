package run

import (
	"fernrelay/core/plain"
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"
)

func at(seconds float64) time.Time {
	return time.Unix(1000, 0).Add(time.Duration(seconds * float64(time.Second)))
}

func TestFold(t *testing.T) {
	r := New()
	for _, e := range []Event{
		{Event: RunBegins, At: at(0)},
		{Event: Started, ID: "a", Worker: 1, Batch: 1, At: at(1)},
		{Event: Started, ID: "b", Worker: 2, Batch: 2, At: at(1)},
		{Event: Output, ID: "a", Text: "hello ", At: at(2)},
		{Event: StepDone, ID: "a", Step: "one", Outcome: Passed, Seconds: Took(0.5), At: at(2)},
		{Event: Output, ID: "a", Text: "world", At: at(2)},
		{Event: Finished, ID: "b", Worker: 2, Batch: 2, Outcome: Failed, Seconds: Took(3), Failure: Failure{Message: "m", File: "f", Line: 4}, At: at(4)},
		{Event: Finished, ID: "a", Worker: 1, Batch: 1, Outcome: Errored, Seconds: Took(2), At: at(3)},
		{Event: Finished, ID: "never", Outcome: Lost, At: at(5)},
		{Event: RunEnds, At: at(6)},
	} {
		r.Apply(e)
	}
	a := r.Result("a")
	if string(a.Output) != "hello world" || len(a.Steps) != 1 || a.Worker != 1 || a.Seconds != 2 || a.Started != at(1) || a.Ended != at(3) {
		t.Errorf("a is %+v", a)
	}
	if r.Done() != 3 || r.Summary() != "1 failed, 1 errored, 1 lost" || r.ExitStatus() != 3 || r.Ended != at(6) {
		t.Errorf("the run is %s, status %d", r.Summary(), r.ExitStatus())
	}
	if bad := r.Troubled(); len(bad) != 2 || bad[0].ID != "a" || bad[1].ID != "b" {
		t.Errorf("in trouble are %v", bad)
	}
}

func TestExitStatus(t *testing.T) {
	for o, want := range map[Outcome]int{Passed: 0, Skipped: 0, Owed: 0, Surprise: 0, Failed: 1, Errored: 1, TimedOut: 1, Lost: 3} {
		r := New()
		r.Apply(Event{Event: Finished, ID: "x", Outcome: o})
		if got := r.ExitStatus(); got != want {
			t.Errorf("%s: status %d, want %d", o, got, want)
		}
	}
}

// TestOutputIsBounded holds that a flood keeps its head and its tail.
func TestOutputIsBounded(t *testing.T) {
	r := New()
	r.Apply(Event{Event: Output, ID: "x", Text: "the head"})
	for range 5000 {
		r.Apply(Event{Event: Output, ID: "x", Text: strings.Repeat("flood ", 100)})
	}
	r.Apply(Event{Event: Output, ID: "x", Text: "the tail"})
	out := string(r.Result("x").Output)
	if len(out) > 2*outputLimit || !strings.HasPrefix(out, "the head") || !strings.HasSuffix(out, "the tail") || strings.Count(out, "left out") != 1 {
		t.Errorf("%d bytes are kept, cut %d times", len(out), strings.Count(out, "left out"))
	}
}

func TestPlain(t *testing.T) {
	for in, want := range map[string]string{
		"plain\n":                              "plain\n",
		"\x1b[31mred\x1b[0m":                   "red",
		"\x1b]0;title\x07x\x1b]8;;u\x1b\\y":    "xy",
		"a\tb\r\n":                             "a    b\n",
		"\x1b[2J\x1b[Hclear":                   "clear",
		"nul\x00bell\x07\x9b31mc1":             "nulbell\uFFFD31mc1",
		"\u202eright to left":                  "right to left",
		"bad \xff":                             "bad \uFFFD",
		"\x1bPdevice\x1b\\z\x1b(Bq":            "zq",
		"\x1b]0;never ended\nevidence":         "\nevidence",
		"\x1bPnever ended\nevidence":           "\nevidence",
		"pa\u200bss\u00aded\u2028":             "passed",
		"tag \U000E0041\U000E0042\u3164\ufeff": "tag ",
	} {
		if got := plain.Text(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
	if got := plain.Line(" a\n\tb  c "); got != "a b c" {
		t.Errorf("on a line: %q", got)
	}
}

// FuzzPlain holds that nothing is left that a terminal obeys.
func FuzzPlain(f *testing.F) {
	f.Add("\x1b[31m")
	f.Add("\x1b\x1b[[mm\u009b1m")
	f.Fuzz(func(t *testing.T, text string) {
		got := plain.Text(text)
		if !utf8.ValidString(got) {
			t.Fatalf("%q: broken UTF-8", got)
		}
		for _, r := range got {
			if r != '\n' && unicode.IsControl(r) {
				t.Fatalf("%q leaves %q", text, got)
			}
		}
	})
}

func TestCompared(t *testing.T) {
	for words, want := range map[string][2]string{
		"valve 4: got 3, want 4":                         {"4", "3"},
		"litres: got 5 l; want 0 l":                      {"0 l", "5 l"},
		"want 4, got 3":                                  {"4", "3"},
		"expected 10 but got 11":                         {"10", "11"},
		"Error:\n  expected: \"a b\"\n  actual  : \"c\"": {`"a b"`, `"c"`},
		"stderr\ngot:\na\nb\nwant:\nc\n":                 {"c", "a\nb"},
		"F(1, 2) = 3, want 4":                            {"4", "3"},
		"pumps.Rate(\"a\") = \"x, y\"; want \"z\"":       {`"z"`, `"x, y"`},
		"returned 1, expected 2":                         {"2", "1"},
		"it returned 1, expected 2":                      {"2", "1"},
		`got "a"; want "b"`:                              {`"b"`, `"a"`},
		"500 != 200":                                     {"200", "500"},
		`status: "x y" != "z"`:                           {`"z"`, `"x y"`},
		"status was 500, should be 200":                  {"200", "500"},
		"it is open, and nobody wants that":              {"", ""},
		"a must be != b and c":                           {"", ""},
		"it broke":                                       {"", ""},
		"forgotten":                                      {"", ""},
	} {
		expected, actual := Compared(words)
		if [2]string{expected, actual} != want {
			t.Errorf("%q: expected %q, actual %q; want %q", words, expected, actual, want)
		}
	}
}

// TestDescribed takes the title and both sides of a failure from blocks of labels, whichever library prints them.
func TestDescribed(t *testing.T) {
	const trace = "\tError Trace:\t/home/a/pump_test.go:12\n"
	for _, c := range []struct{ words, message, expected, actual string }{
		{"pump_test.go:12: \n" + trace + "\tError:      \tNot equal: \n\t            \texpected: 3\n\t            \tactual  : 2\n\tTest:       \tTestPump\n\tMessages:   \tthe pump 3\n",
			"the pump 3: Not equal", "3", "2"},
		{trace + "\tError:      \tReceived unexpected error:\n\t            \tno water\n\tTest:       \tTestPump", "Received unexpected error: no water", "", ""},
		{trace + "\tError:      \tShould be true\n\tTest:       \tTestPump\n\nmore", "Should be true", "", ""},
		{trace + "\tError:      \tNot equal: \n\t            \texpected: \"a\"\n\t            \tactual  : \"b\"\n\t            \t\n\t            \tDiff:\n\t            \t--- Expected\n\t            \t+++ Actual\n\t            \t   A: {\n\t            \t-    B: 1\n\tTest:       \tTestPump",
			"Not equal\nDiff:\n--- Expected\n+++ Actual\n   A: {\n-    B: 1", `"a"`, `"b"`},
		{"\nerror:\n  values are not equal\ncomment:\n  the pump\ngot:\n  int(2)\nwant:\n  int(3)\nstack:\n  /home/a/pump_test.go:12\n    qt.Assert(c, 2, qt.Equals, 3)\n", "the pump: values are not equal", "int(3)", "int(2)"},
		{"error: it broke", "error: it broke", "", ""},
		{"note: got 3, want 4", "note: got 3, want 4", "4", "3"},
	} {
		message, expected, actual := Described(c.words)
		if message != c.message || expected != c.expected || actual != c.actual {
			t.Errorf("%q\nis described as %q, %q, %q\nwant %q, %q, %q", c.words, message, expected, actual, c.message, c.expected, c.actual)
		}
		if left := WithoutBlock("before\n"+c.words, message); message != c.words && (strings.Contains(left, "rror:") || !strings.Contains(left, "before")) {
			t.Errorf("without the block, %q is left", left)
		}
	}
}

// FuzzDescribed holds that no output of a test takes long to describe or is described without words.
func FuzzDescribed(f *testing.F) {
	f.Add("Error Trace: a\n\tError: b\n\t\texpected: c\nactual: d\nTest: e")
	f.Add(strings.Repeat("test: a\n", 50))
	f.Add("error:\n  a\nwant:\n\n")
	f.Fuzz(func(t *testing.T, words string) {
		message, _, _ := Described(words)
		if strings.TrimSpace(words) != "" && message == "" {
			t.Errorf("%q is described without words", words)
		}
		WithoutBlock(words, message)
	})
}
