package format

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/format/events"
	"fernrelay/internal/format/junit"
	"fernrelay/internal/format/tap"
)

// hostile are pieces of what tests print and are called that mean something to the formats.
var hostile = []string{"ran {\"worker\":7}", "step {\"name\":\"x\"}", "finding {\"verdict\":\"x\"}", "<script>", "]]>", "&lt;", "\x00", "\x1b[31m", "\xff\xfe", "\uFFFE", "'", "\"", "# SKIP", "# TODO x", "\\", "\\#", "ok 1 - a", "not ok 2",
	"1..3", "Bail out!", "  ---\n", "  ...\n", "    ok 1", "TAP version 14", "\r\n", "\n\n", "\t", " ", "é", "水", "\u202e", "pragma +strict", ": ", "- ", "| ", "{", "%s", "at a.go:3\n", "..."}

func hostileText(random *rand.Rand) string {
	var text strings.Builder
	for range random.IntN(6) {
		if random.IntN(3) == 0 {
			text.WriteByte(byte(random.IntN(256)))
		}
		text.WriteString(hostile[random.IntN(len(hostile))])
	}
	return text.String()
}

// TestRoundTrip writes runs of tests that print and are called all kinds of things, as JUnit XML
// and as TAP, and reads them back to the same outcomes, in the same order, under the same names.
func TestRoundTrip(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 3))
	for range 400 {
		ran := run.New()
		now := time.Unix(1_700_000_000, 0)
		ran.Apply(run.Event{Event: run.RunBegins, At: now})
		for i := range 1 + random.IntN(8) {
			id := fmt.Sprintf("u:g%d#%st%d", i%2, hostileText(random), i)
			if random.IntN(2) == 0 {
				ran.Apply(run.Event{Event: run.Started, ID: id, At: now.Add(time.Duration(i) * time.Microsecond), Machine: "m" + hostileText(random), Worker: 1 + random.IntN(3), Batch: 1 + random.IntN(3)})
			}
			ran.Apply(run.Event{Event: run.Output, ID: id, Text: hostileText(random)})
			for s := range random.IntN(3) {
				ran.Apply(run.Event{Event: run.StepDone, ID: id, Step: fmt.Sprint(hostileText(random), s), Outcome: run.Outcomes[random.IntN(len(run.Outcomes))], Seconds: run.Took(0.1), Failure: run.Failure{Message: hostileText(random)}})
			}
			e := run.Event{Event: run.Finished, ID: id, At: now, Outcome: run.Outcomes[random.IntN(len(run.Outcomes))], Seconds: run.Took(float64(random.IntN(1000)) / 64),
				Failure: run.Failure{Message: hostileText(random), Expected: hostileText(random), Actual: hostileText(random)}}
			if e.Flaky = random.IntN(4) == 0 && e.Outcome == run.Passed; random.IntN(2) == 0 {
				e.File, e.Line = "a/b_test.go", 1+random.IntN(99)
			}
			e.Entry = e.Outcome.Bad() && e.Outcome != run.Surprise && random.IntN(3) == 0
			ran.Apply(e)
			if random.IntN(3) == 0 {
				ran.Apply(run.Event{Event: run.Found, ID: id, Finding: &run.Finding{Verdict: "polluted", Words: hostileText(random), Remedy: hostileText(random), See: hostileText(random), Culprits: [][]string{{hostileText(random)}}}})
			}
		}
		ran.Apply(run.Event{Event: run.RunEnds, At: now})
		for name, write := range map[string]func(io.Writer, *run.Run) error{"junit": func(w io.Writer, ran *run.Run) error { return junit.Write(w, ran) }, "tap": tap.Write} {
			var text bytes.Buffer
			if err := write(&text, ran); err != nil {
				t.Fatal(err)
			}
			written := text.String()
			var back []run.Event
			steps, findings, started := map[string][]run.Event{}, map[string]*run.Finding{}, map[string]run.Event{}
			kind, err := Read(&text, func(e run.Event) {
				switch e.Event {
				case run.Finished:
					back = append(back, e)
				case run.Started:
					started[e.ID] = e
				case run.StepDone:
					steps[e.ID] = append(steps[e.ID], e)
				case run.Found:
					findings[e.ID] = e.Finding
				}
			})
			if kind != name || err != nil || len(back) != len(ran.Results) {
				t.Fatalf("%s is read as %s with %d of %d tests, %v:\n%s", name, kind, len(back), len(ran.Results), err, written)
			}
			for _, r := range ran.Results {
				place, test, _ := strings.Cut(r.ID, "#")
				want := plain.Line(place) + "#" + plain.Line(test)
				if name == "tap" {
					want = plain.Line(r.ID) // as one description
				} else {
					want = strings.ReplaceAll(want, "\uFFFE", "\uFFFD") // which XML cannot hold
				}
				at := -1
				for i, e := range back { // JUnit XML has them group by group
					if e.ID == want {
						at = i
					}
				}
				if at < 0 {
					t.Fatalf("%s has no %q:\n%s", name, want, written)
				}
				e := back[at]
				if e.Outcome != r.Outcome || e.Entry != r.Entry || e.Flaky != r.Flaky || e.Seconds == nil || *e.Seconds != r.Seconds {
					t.Fatalf("%s: %q came back as %+v, want %s flaky %t %v s:\n%s", name, want, e, r.Outcome, r.Flaky, r.Seconds, written)
				}
				where := ran.PlaceOf(r.Worker)
				if began := started[e.ID]; name == "junit" && r.Worker > 0 && run.CountBad(ran.Counts) > 0 && (began.Worker != where.Worker || began.Batch != r.Batch || e.Batch != r.Batch || !began.At.Equal(r.Started) || plain.Line(began.Machine) != strings.ReplaceAll(plain.Line(where.Machine), "\uFFFE", "\uFFFD")) {
					t.Fatalf("%q came back as run at %+v, want %+v of %+v:\n%s", want, began, place, r, written)
				}
				if f := findings[e.ID]; name == "junit" && ((f == nil) != (r.Finding == nil) || f != nil && (f.Verdict != "polluted" || f.Culprits[0][0] != strings.ReplaceAll(plain.Line(r.Finding.Culprits[0][0]), "\uFFFE", "\uFFFD"))) {
					t.Fatalf("the finding of %q came back as %+v, want %+v:\n%s", want, f, r.Finding, written)
				}
				if words := plain.Line(r.Message); name == "junit" && r.Outcome.Bad() && r.Finding != nil && words != "" && strings.TrimSpace(words) == words && plain.Line(e.Message) != strings.ReplaceAll(words, "\uFFFE", "\uFFFD") {
					t.Fatalf("the message of %q came back as %q, want %q:\n%s", want, e.Message, r.Message, written)
				}
				if len(steps[e.ID]) != len(r.Steps) {
					t.Fatalf("%s: %q came back with %d steps of %d:\n%s", name, want, len(steps[e.ID]), len(r.Steps), written)
				}
				for i, s := range steps[e.ID] {
					if s.Outcome != r.Steps[i].Outcome || plain.Line(s.Step) != plain.Line(r.Steps[i].Name) {
						t.Fatalf("%s: step %d of %q came back as %+v, want %+v:\n%s", name, i, want, s, r.Steps[i], written)
					}
				}
				if reason := plain.Line(r.Message); (r.Outcome == run.Skipped || r.Outcome == run.Surprise) && strings.TrimSpace(reason) == reason && plain.Line(e.Message) != strings.ReplaceAll(reason, "\uFFFE", "\uFFFD") {
					t.Fatalf("%s: the reason of %q came back as %q, want %q:\n%s", name, want, e.Message, r.Message, written)
				}
				if e.Outcome.Bad() && (e.File != r.File || e.Line != r.Line) {
					t.Fatalf("%s: the place of %q came back as %s:%d, want %s:%d:\n%q", name, want, e.File, e.Line, r.File, r.Line, written)
				}
			}
		}
	}
}

// endless gives a beginning and then the same byte again and again, and counts what was read.
type endless struct {
	head io.Reader
	fill byte
	left int
	read int
}

func (e *endless) Read(into []byte) (int, error) {
	if n, err := e.head.Read(into); n > 0 || err == nil {
		return n, nil
	}
	n := min(len(into), e.left)
	for i := range n {
		into[i] = e.fill
	}
	if e.left, e.read = e.left-n, e.read+n; n == 0 {
		return 0, io.EOF
	}
	return n, nil
}

// TestBrokenXML holds that documents that are hostile, wrong or cut off end in a message, and soon.
func TestBrokenXML(t *testing.T) {
	const begin = `<testsuite name="s"><testcase name="a"/><testcase name="b">`
	gigabyte := func(begin string) *endless { return &endless{head: strings.NewReader(begin), fill: 'x', left: 1 << 30} }
	for _, c := range []struct {
		name  string
		from  io.Reader
		words string
		tests int // that are reported before
	}{
		{"a bomb of entities", strings.NewReader(`<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "ha"><!ENTITY b "&a;&a;&a;">]><testsuite><testcase name="&b;"/></testsuite>`), "entities", 0},
		{"a gigabyte of text", gigabyte(begin + "<system-out>"), "more than 32 MB", 1},
		{"a gigabyte in CDATA", gigabyte(begin + "<system-out><![CDATA["), "more than 32 MB", 1},
		{"a gigabyte in an attribute", gigabyte(`<testsuite name="`), "more than 32 MB", 0},
		{"a gigabyte in a comment", gigabyte(begin + "<!--"), "more than 32 MB", 1},
		{"a gigabyte between suites", gigabyte("<testsuites>"), "more than 32 MB", 0},
		{"a wrong encoding", strings.NewReader(`<?xml version="1.0" encoding="klingon"?>` + begin), "klingon", 0},
		{"bytes that are no UTF-8", strings.NewReader(begin + "<system-out>caf\xe9</system-out></testcase></testsuite>"), "UTF-8", 1},
		{"cut off in a case", strings.NewReader(begin + "<system-out>so f"), "unexpected EOF", 1},
		{"cut off in a tag", strings.NewReader(begin + "<syst"), "unexpected EOF", 1},
		{"cut off between cases", strings.NewReader(`<testsuites><testsuite name="s"><testcase name="a"/>`), "unexpected EOF", 1},
		{"no report", strings.NewReader("<html><body/></html>"), "no testsuite", 0},
	} {
		tests := 0
		_, err := Read(c.from, func(e run.Event) {
			if e.Event == run.Finished {
				tests++
			}
		})
		if err == nil || !strings.Contains(err.Error(), c.words) || tests != c.tests {
			t.Errorf("%s: %d tests and %v; want %d and %q", c.name, tests, err, c.tests, c.words)
		}
		if e, ok := c.from.(*endless); ok && e.read > 40<<20 {
			t.Errorf("%s: %d bytes of it were read", c.name, e.read)
		}
	}
}

// TestFailuresAreCarried holds that every format which can hold all that a failure says, of tests and of
// steps, gives it back: event lines and TAP.
func TestFailuresAreCarried(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 4))
	failure := func() run.Failure {
		return run.Failure{Message: plain.Text("it leaks" + hostileText(random)), File: "a/b_test.go", Line: 1 + random.IntN(99),
			Expected: plain.Text("x" + hostileText(random)), Actual: plain.Text("y" + hostileText(random))}
	}
	for range 200 {
		first := run.New()
		first.Apply(run.Event{Event: run.RunBegins, Format: run.Format, At: time.Unix(1_700_000_000, 0)})
		for i := range 1 + random.IntN(4) {
			id := fmt.Sprint("u:g#t", i)
			for s := range random.IntN(4) {
				first.Apply(run.Event{Event: run.StepDone, ID: id, Step: fmt.Sprint("s", s), Outcome: run.Outcomes[random.IntN(len(run.Outcomes))], Seconds: run.Took(0.25), Failure: failure()})
			}
			first.Apply(run.Event{Event: run.Finished, ID: id, Outcome: run.Outcomes[random.IntN(len(run.Outcomes))], Seconds: run.Took(0.5), Failure: failure()})
		}
		for name, write := range map[string]func(w io.Writer, run *run.Run) error{"tap": tap.Write, "events": writeEvents} {
			var text bytes.Buffer
			if err := write(&text, first); err != nil {
				t.Fatal(err)
			}
			written, back := text.String(), run.New()
			if _, err := Read(&text, back.Apply); err != nil {
				t.Fatalf("%s: %v\n%s", name, err, written)
			}
			for _, want := range first.Results {
				got := back.Result(want.ID)
				if got == nil || !same(got.Failure, want.Failure) || got.Outcome != want.Outcome || len(got.Steps) != len(want.Steps) {
					t.Fatalf("%s: %+v\ncame back as\n%+v\n%s", name, want, got, written)
				}
				for i, step := range want.Steps {
					if !same(got.Steps[i].Failure, step.Failure) || got.Steps[i].Outcome != step.Outcome || got.Steps[i].Seconds != step.Seconds {
						t.Fatalf("%s: the step %+v\ncame back as\n%+v\n%s", name, step, got.Steps[i], written)
					}
				}
			}
		}
	}
}

// same compares failures but for space around their texts.
func same(a, b run.Failure) bool {
	for _, f := range []*run.Failure{&a, &b} {
		f.Message, f.Expected, f.Actual = strings.TrimSpace(f.Message), strings.TrimSpace(f.Expected), strings.TrimSpace(f.Actual)
	}
	return a == b
}

func writeEvents(w io.Writer, run *run.Run) error {
	lines := events.NewWriter(w)
	run.Replay(lines.Write)
	return lines.Close()
}
