package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"fernrelay/core/cause"
	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/wording"
)

// testsNamed bounds the tests of an explanation that are named.
const testsNamed = 5

// Matrix prints what explains the failures of a matrix, then its crossings, then the step after them.
func Matrix(w io.Writer, r *matrix.Results, own func(file string) (string, bool)) {
	First(w, r.Mixed)
	Explained(w, r, own)
	rows := make([][]string, len(r.Results))
	for i, one := range r.Results {
		shape, took := one.Outcome.Shape(), ""
		if one.Run != nil {
			took = history.ClockTenths(one.Run.Ended.Sub(one.Run.Started).Seconds())
		}
		rows[i] = []string{shape + " " + one.Label(), fmt.Sprintf("%7s", took), CrossingWords(one)}
	}
	table(w, rows)
	passed, must := r.Counts()
	fmt.Fprintf(w, "%d of %s that must pass passed\n", passed, wording.Plural(must, "crossing"))
	if r.Then.Command != "" {
		fmt.Fprintf(w, "then %s: %s\n", plain.Line(r.Then.Command), ThenWords(&r.Then))
		if output := strings.TrimSpace(r.Then.Output); output != "" {
			indent(w, output)
		}
	}
}

// Explained prints which values explain the failures of a matrix.
func Explained(w io.Writer, r *matrix.Results, own func(file string) (string, bool)) {
	x := r.Explain()
	for i := range x.Explanations {
		e := &x.Explanations[i]
		fmt.Fprintf(w, "%s: %s\n", e.Text(&r.Matrix.Spec), namedTests(e.Tests))
		for _, line := range ExplanationNotes(r.Matrix, e, own) {
			fmt.Fprintf(w, "    %s\n", line)
		}
	}
	if len(x.Flaky) > 0 {
		fmt.Fprintf(w, "%s within a crossing: %s\n", differ(len(x.Flaky)), namedTests(x.Flaky))
	}
	if len(x.Unexplained) > 0 {
		fmt.Fprintf(w, "%s in crossings that no values describe: %s\n", verb(len(x.Unexplained), "test fails", "tests fail"), namedTests(x.Unexplained))
	}
	if len(x.Explanations)+len(x.Flaky)+len(x.Unexplained) > 0 {
		fmt.Fprintln(w)
	}
}

// ExplanationNotes says how many causes the failures of an explanation have, and what the crossings that ran cannot decide.
func ExplanationNotes(m *matrix.Matrix, e *matrix.Explanation, own func(file string) (string, bool)) (lines []string) {
	if causes := cause.Group(e.Failures, own); len(causes) > 0 {
		words := "one cause: "
		if n := len(causes); n > 1 {
			words = fmt.Sprintf("%d causes, the most frequent: ", n)
		}
		lines = append(lines, words+plain.Line(causes[0].Words))
	}
	for i := range e.Rivals {
		lines = append(lines, e.Rivals[i].Text(m))
	}
	return lines
}

// CrossingWords describes the result of a crossing.
func CrossingWords(one *matrix.Result) string {
	var parts []string
	switch {
	case one.State == matrix.LeftOut:
		return plain.Line(one.Why)
	case one.State == matrix.Waiting && one.Why != "":
		parts = append(parts, plain.Line(one.Why))
	case one.State == matrix.Waiting:
		parts = append(parts, "it has not run")
	case one.Outcome == run.Lost && one.Why != "":
		parts = append(parts, plain.Line(one.Why))
	case one.Run == nil || one.Outcome == run.Skipped:
		parts = append(parts, plain.Line(strings.TrimSpace(string(one.Outcome)+": "+one.Why)))
	default:
		parts = append(parts, one.Run.Summary())
	}
	if one.Run != nil && one.Outcome != run.Skipped {
		for _, s := range one.Run.Services {
			parts = append(parts, fmt.Sprintf("%s ready in %s", plain.Line(s.Name), history.Short(s.Ready)))
		}
	}
	if one.MayFail != "" {
		parts = append(parts, "may fail: "+plain.Line(one.MayFail))
	}
	return strings.Join(parts, "; ")
}

// ThenWords describes the result of the step after all crossings.
func ThenWords(t *matrix.Then) string {
	switch {
	case t.Outcome == "":
		return "waits for all crossings"
	case t.Why != "":
		return string(t.Outcome) + ", as " + plain.Line(t.Why)
	}
	return string(t.Outcome)
}

// namedTests names some tests and counts the others.
func namedTests(ids []string) string {
	names := slices.Clone(ids)
	for i, id := range ids[:min(len(ids), testsNamed)] {
		names[i] = wording.ShortID(id)
	}
	return wording.Some(names, testsNamed)
}

func differ(n int) string { return verb(n, "test differs", "tests differ") }

// verb returns a number of things that do something.
func verb(n int, one, several string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprint(n, " ", several)
}
