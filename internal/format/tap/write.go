package tap

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"fernrelay/core/outcome"
)

// Write writes a run as TAP 14: a test point a test, its ID the description, with
// diagnostics where it did not pass and its steps as a subtest.
func Write(w io.Writer, run *outcome.Run) error {
	out := bufio.NewWriter(w)
	fmt.Fprintf(out, "TAP version 14\n")
	if p := run.Planned; p != nil {
		fmt.Fprintf(out, plannedLine+"\n", p.Shard, p.Of, p.Plan, p.Catalog, p.Timings)
	}
	fmt.Fprintf(out, "1..%d\n", len(run.Results))
	for n, r := range run.Results {
		for i, step := range r.Steps {
			if i == 0 {
				fmt.Fprintf(out, "# Subtest: %s\n", escape(r.ID))
			}
			fmt.Fprintf(out, "%s%s %d - %s%s\n", indent, ok(step.Outcome), i+1, escape(step.Name), directiveOf(step.Outcome, ""))
		}
		if len(r.Steps) > 0 {
			fmt.Fprintf(out, "%s1..%d\n", indent, len(r.Steps))
		}
		fmt.Fprintf(out, "%s %d - %s%s\n", ok(r.Outcome), n+1, escape(r.ID), directiveOf(r.Outcome, r.Message))
		if err := writeDiagnosis(out, r); err != nil {
			return err
		}
	}
	return out.Flush()
}

// plannedLine is a comment that says of which plan a run is a part.
const plannedLine = "# fern shard %d/%d plan %s tests %s times %s"

func ok(o outcome.Outcome) string {
	switch o {
	case outcome.Passed, outcome.Skipped, outcome.Surprise:
		return "ok"
	}
	return "not ok"
}

// directiveOf is what stands behind a point: SKIP for what did not run, TODO for
// what was expected to fail.
func directiveOf(o outcome.Outcome, reason string) string {
	word := map[outcome.Outcome]string{outcome.Skipped: "SKIP", outcome.Owed: "TODO", outcome.Surprise: "TODO"}[o]
	if word == "" {
		return ""
	}
	return strings.TrimRight(" # "+word+" "+escape(reason), " ")
}

// escape puts a text into one line that no directive begins in.
func escape(text string) string { return escapes.Replace(outcome.PlainLine(text)) }

var escapes = strings.NewReplacer(`\`, `\\`, `#`, `\#`)

// writeDiagnosis writes the YAML of a point. Texts stand there as JSON has them, which is YAML,
// too: on one line, whatever is in them.
func writeDiagnosis(out io.Writer, r *outcome.Result) error {
	fmt.Fprintf(out, "  ---\n  duration_ms: %g\n", r.Seconds*1000)
	if r.Outcome != outcome.Passed {
		fmt.Fprintf(out, "  outcome: %s\n", r.Outcome)
	}
	if r.Unstable {
		fmt.Fprintf(out, "  unstable: true\n")
	}
	for _, field := range []struct{ key, text string }{{"message", r.Message}, {"expected", r.Expected}, {"actual", r.Actual}} {
		if field.text == "" {
			continue
		}
		text, err := quoted(field.text)
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "  %s: %s\n", field.key, text)
	}
	if r.File != "" {
		file, err := quoted(r.File)
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "  at:\n    file: %s\n    line: %d\n", file, r.Line)
	}
	_, err := fmt.Fprintf(out, "  ...\n")
	return err
}

func quoted(text string) (string, error) {
	data, err := json.Marshal(outcome.Plain(text))
	return string(data), err
}
