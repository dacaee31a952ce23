package runreport

import (
	"bytes"
	"fmt"
	"html"
	"io"
	"strings"

	"fernrelay/core/outcome"
	"fernrelay/core/timing"
	"fernrelay/internal/report"
)

// What the summary tells at most: failures whole, and lines of the output of each. Pages of CI
// systems cut longer ones off.
const (
	markdownFailures = 40
	markdownLines    = 30
)

func writeMarkdown(to io.Writer, a *About) error {
	w := &bytes.Buffer{}
	fmt.Fprintf(w, "# %s\n\n", report.Prose(a.Title))
	for _, words := range a.words() {
		fmt.Fprintf(w, "- %s\n", report.Prose(words))
	}
	if len(a.Parts) > 0 {
		fmt.Fprint(w, "\n## Reports\n\n")
		for _, words := range a.Parts {
			fmt.Fprintf(w, "- %s\n", report.Prose(outcome.PlainLine(words)))
		}
	}
	failures := a.Run.Troubled()
	if len(failures) > 0 {
		fmt.Fprintf(w, "\n## %s, %s\n\n", report.Plural(len(failures), "failure"), report.Plural(len(a.Causes), "cause"))
		markdownCauses(w, a)
		fmt.Fprint(w, "\n## Failures\n")
		for i, r := range failures {
			if i == markdownFailures {
				fmt.Fprintf(w, "\n… and %s\n", report.Plural(len(failures)-i, "more failure"))
				break
			}
			markdownFailure(w, a, r)
		}
	}
	markdownGroups(w, a)
	slowest, work := a.slowest()
	fmt.Fprint(w, "\n## Slowest\n\n| test | time | of all work |\n| --- | ---: | ---: |\n")
	for _, r := range slowest {
		fmt.Fprintf(w, "| %s | %s | %s |\n", report.Code(r.ID), timing.Short(r.Seconds), report.Percent(r.Seconds/max(work, 1e-9)))
	}
	_, err := to.Write(w.Bytes())
	return err
}

func markdownCauses(w io.Writer, a *About) {
	fmt.Fprint(w, "| tests | cause | where | since |\n| ---: | --- | --- | --- |\n")
	for _, c := range a.Causes {
		since := ""
		if c.Since != nil {
			since = report.RunName(c.Since)
		}
		fmt.Fprintf(w, "| %d | %s | %s | %s |\n", len(c.Results), report.Code(report.CauseWords(c)), codeOrNothing(report.CausePlace(c.Cause)), since)
	}
}

func codeOrNothing(text string) string {
	if text == "" {
		return ""
	}
	return report.Code(text)
}

func markdownFailure(w io.Writer, a *About, r *outcome.Result) {
	fmt.Fprintf(w, "\n<details><summary>%s %s</summary>\n\n", r.Outcome.Shape(), html.EscapeString(outcome.PlainLine(r.ID)))
	if at := place(r); at != "" {
		fmt.Fprintf(w, "%s in %s, %s\n\n", r.Outcome, timing.Short(r.Seconds), report.Code(at))
	}
	if r.Message != "" {
		fmt.Fprintf(w, "%s\n\n", report.Block("", outcome.Plain(r.Message)))
	}
	if r.Expected != "" || r.Actual != "" {
		fmt.Fprintf(w, "expected\n%s\n\nactual\n%s\n\n", report.Block("", outcome.Plain(r.Expected)), report.Block("", outcome.Plain(r.Actual)))
	}
	for _, s := range r.Steps {
		if s.Outcome.Bad() {
			fmt.Fprintf(w, "- step %s %s\n", report.Code(s.Name), report.Prose(outcome.PlainLine(s.Message)))
		}
	}
	if output := lastLines(string(r.Output), markdownLines); strings.TrimSpace(output) != "" {
		fmt.Fprintf(w, "%s\n\n", report.Block("", output))
	}
	if card := a.Cards[r.ID]; card != nil {
		for _, words := range report.CardWords(card) {
			fmt.Fprintf(w, "- %s\n", report.Prose(words))
		}
	}
	fmt.Fprint(w, "\n</details>\n")
}

func markdownGroups(w io.Writer, a *About) {
	fmt.Fprint(w, "\n## Groups\n\n| group | what came of it | passed | time |\n| --- | --- | ---: | ---: |\n")
	for _, s := range a.Run.Suites() {
		for _, g := range s.Groups {
			passed := "–"
			if g.Ran > 0 {
				passed = report.Percent(float64(g.Passed) / float64(g.Ran))
			}
			fmt.Fprintf(w, "| %s | %s | %s | %s |\n", report.Code(s.Name+":"+g.Name), report.Counts(g.Counts), passed, timing.Short(g.Seconds))
		}
	}
}
