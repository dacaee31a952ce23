package tap

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"fernrelay/core/plain"
	"fernrelay/core/run"
)

// Write writes a run as TAP 14: one test point per test, its ID the description, with diagnostics if it did not
// pass and its steps as a subtest.
func Write(w io.Writer, run *run.Run) error {
	out := bufio.NewWriter(w)
	fmt.Fprintf(out, "TAP version 14\n")
	if !run.About.IsZero() {
		text, err := json.Marshal(run.About)
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "%s%s\n", aboutSign, plain.Line(string(text)))
	}
	if p := run.Planned; p != nil { // for earlier versions
		fmt.Fprintf(out, plannedLine+pickPart+"%s\n", p.Shard, p.Of, p.Plan, p.Catalog, p.Timings, escape(p.Pick))
	}
	fmt.Fprintf(out, "1..%d\n", len(run.Results))
	for n, r := range run.Results {
		for i, step := range r.Steps {
			if i == 0 {
				fmt.Fprintf(out, "# Subtest: %s\n", escape(r.ID))
			}
			fmt.Fprintf(out, "%s%s %d - %s%s\n", indent, ok(step.Outcome), i+1, escape(step.Name), directiveOf(step.Outcome, step.Message))
			if err := writeDiagnosis(out, indent, step.Outcome, step.Seconds, "", step.Failure); err != nil {
				return err
			}
		}
		if len(r.Steps) > 0 {
			fmt.Fprintf(out, "%s1..%d\n", indent, len(r.Steps))
		}
		fmt.Fprintf(out, "%s %d - %s%s\n", ok(r.Outcome), n+1, escape(r.ID), directiveOf(r.Outcome, r.Message))
		sign := ""
		switch {
		case r.Flaky:
			sign = "flaky"
		case r.Entry:
			sign = "entry"
		}
		if err := writeDiagnosis(out, "", r.Outcome, r.Seconds, sign, r.Failure); err != nil {
			return err
		}
	}
	return out.Flush()
}

// aboutSign begins a comment with everything about the run, as JSON.
const aboutSign = "# fern run "

// plannedLine is a comment with the plan that a run is a part of.
const plannedLine = "# fern shard %d/%d plan %s tests %s times %s"

// pickPart ends that line, before the pick of the plan.
const pickPart = " pick "

func ok(o run.Outcome) string {
	switch o {
	case run.Passed, run.Skipped, run.Surprise:
		return "ok"
	}
	return "not ok"
}

// directiveOf returns the directive of a point: SKIP for a test that did not run, TODO for one that was expected
// to fail.
func directiveOf(o run.Outcome, reason string) string {
	word := map[run.Outcome]string{run.Skipped: "SKIP", run.Owed: "TODO", run.Surprise: "TODO"}[o]
	if word == "" {
		return ""
	}
	return strings.TrimRight(" # "+word+" "+escape(reason), " ")
}

// escape puts a text on one line in which no directive begins.
func escape(text string) string { return escapes.Replace(plain.Line(text)) }

var escapes = strings.NewReplacer(`\`, `\\`, `#`, `\#`)

// writeDiagnosis writes the YAML of a point at some indentation. Texts are written as in JSON, which is
// YAML, too: on one line, whatever is in them.
func writeDiagnosis(out io.Writer, indent string, o run.Outcome, seconds float64, sign string, f run.Failure) error {
	fmt.Fprintf(out, "%[1]s  ---\n%[1]s  duration_ms: %[2]g\n", indent, seconds*1000)
	if o != run.Passed {
		fmt.Fprintf(out, "%s  outcome: %s\n", indent, o)
	}
	if sign != "" {
		fmt.Fprintf(out, "%s  %s: true\n", indent, sign)
	}
	for _, field := range []struct{ key, text string }{{"message", f.Message}, {"expected", f.Expected}, {"actual", f.Actual}} {
		if field.text == "" {
			continue
		}
		text, err := quoted(field.text)
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "%s  %s: %s\n", indent, field.key, text)
	}
	if f.File != "" {
		file, err := quoted(f.File)
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "%[1]s  at:\n%[1]s    file: %[2]s\n%[1]s    line: %[3]d\n", indent, file, f.Line)
	}
	_, err := fmt.Fprintf(out, "%s  ...\n", indent)
	return err
}

func quoted(text string) (string, error) {
	data, err := json.Marshal(plain.Text(text))
	return string(data), err
}
