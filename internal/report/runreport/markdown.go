package runreport

import (
	"bytes"
	"fmt"
	"html"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/report"
	"fernrelay/internal/wording"
)

// The bounds of the summary: whole failures, bytes of each of their texts, lines of the output of each, and tests.
// Pages of CI systems cut longer summaries off.
const (
	markdownFailures = 40
	markdownText     = 4000
	markdownLines    = 30
	markdownTests    = 1000
)

func writeMarkdown(to io.Writer, a *About) error {
	w := &bytes.Buffer{}
	fmt.Fprintf(w, "# %s\n\n", report.Prose(a.Title))
	for _, words := range a.words() {
		fmt.Fprintf(w, "- %s\n", report.Prose(words))
	}
	if len(a.Explained) > 0 {
		fmt.Fprint(w, "\n## What explains the failures\n\n")
		for _, words := range a.Explained {
			fmt.Fprintf(w, "- %s\n", report.Prose(plain.Line(words)))
		}
	}
	if len(a.Parts) > 0 {
		fmt.Fprintf(w, "\n## %s\n\n", a.PartsHeading())
		for _, words := range a.Parts {
			fmt.Fprintf(w, "- %s\n", report.Prose(plain.Line(words)))
		}
	}
	failures := a.Run.Troubled()
	if len(failures) > 0 {
		fmt.Fprintf(w, "\n## %s, %s\n\n", wording.Plural(len(failures), "failure"), wording.Plural(len(a.Causes), "cause"))
		markdownCauses(w, a)
		fmt.Fprint(w, "\n## Failures\n")
		for i, r := range failures {
			if i == markdownFailures {
				fmt.Fprintf(w, "\n… and %s\n", wording.Plural(len(failures)-i, "more failure"))
				break
			}
			markdownFailure(w, a, r)
		}
	}
	markdownWorkers(w, a)
	slowest, work := a.slowest()
	fmt.Fprint(w, "\n## Slowest\n\n| test | time | of all work |\n| --- | ---: | ---: |\n")
	for _, r := range slowest {
		fmt.Fprintf(w, "| %s | %s | %s |\n", report.Code(r.ID), history.Short(r.Seconds), wording.Percent(r.Seconds/max(work, 1e-9)))
	}
	markdownParts(w, a)
	_, err := to.Write(w.Bytes())
	return err
}

func markdownCauses(w io.Writer, a *About) {
	fmt.Fprint(w, "| tests | cause | where | since |\n| ---: | --- | --- | --- |\n")
	for _, c := range a.Causes {
		since := ""
		if c.Since != nil {
			since = report.Prose(report.RunName(c.Since))
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

func markdownFailure(w io.Writer, a *About, r *run.Result) {
	verdict := ""
	if r.Finding != nil {
		verdict = " " + report.FindingWords(r.Finding)
	}
	fmt.Fprintf(w, "\n<details><summary>%s %s%s</summary>\n\n", r.Outcome.Shape(), html.EscapeString(plain.Line(r.ID)), html.EscapeString(verdict))
	if r.Finding != nil && r.Finding.See != "" {
		fmt.Fprintf(w, "to see it\n%s\n\n", report.Block("sh", plain.Line(r.Finding.See)))
	}
	if at := place(r); at != "" {
		fmt.Fprintf(w, "%s in %s, %s\n\n", r.Outcome, history.Short(r.Seconds), report.Code(at))
	}
	if r.Message != "" {
		fmt.Fprintf(w, "%s\n\n", block(r.Message))
	}
	if r.Expected != "" || r.Actual != "" {
		fmt.Fprintf(w, "expected\n%s\n\nactual\n%s\n\n", block(r.Expected), block(r.Actual))
	}
	for _, s := range r.Steps {
		if s.Outcome.Bad() {
			fmt.Fprintf(w, "- step %s %s\n", report.Code(s.Name), report.Prose(plain.Line(s.Message)))
		}
	}
	if output := lastLines(run.WithoutBlock(string(r.Output), r.Message), markdownLines); strings.TrimSpace(output) != "" {
		fmt.Fprintf(w, "%s\n\n", block(output))
	}
	if card := a.Cards[r.ID]; card != nil {
		for _, words := range report.CardWords(card) {
			fmt.Fprintf(w, "- %s\n", report.Prose(words))
		}
	}
	fmt.Fprint(w, "\n</details>\n")
}

// block writes what a test printed as lines of code, cut if it is too long.
func block(text string) string {
	text = plain.Text(text)
	if len(text) > markdownText {
		text = strings.ToValidUTF8(text[:markdownText], "") + "\n… cut off here"
	}
	return report.Block("", text)
}

// workerCells is how many cells the time of a run takes.
const workerCells = 72

// markdownWorkers draws the workers on one time axis: in every cell the sign of the first bad
// outcome of what ran in it, or else that something passed.
func markdownWorkers(w io.Writer, a *About) {
	if !a.placed() {
		return
	}
	first, wall := a.Run.FirstProcess(), a.Run.Wall()
	var tracks [][]string // by worker
	for _, r := range a.Run.Results {
		if r.Worker == 0 || r.Started.IsZero() {
			continue
		}
		for len(tracks) < r.Worker {
			tracks = append(tracks, slices.Repeat([]string{"·"}, workerCells))
		}
		at := func(t time.Time) int {
			return max(0, min(workerCells-1, int(workerCells*t.Sub(first).Seconds()/wall)))
		}
		for cell := at(r.Started); cell <= at(r.Ended); cell++ {
			if track := tracks[r.Worker-1]; track[cell] == "·" || r.Outcome.Bad() && track[cell] == run.Passed.Shape() {
				track[cell] = r.Outcome.Shape()
			}
		}
	}
	fmt.Fprint(w, "\n## Workers\n\n```\n")
	labels, widest := make([]string, len(tracks)), 0
	for i := range tracks {
		labels[i] = plain.Line(a.Run.PlaceOf(i + 1).Label())
		widest = max(widest, utf8.RuneCountInString(labels[i]))
	}
	for i, track := range tracks {
		fmt.Fprintf(w, "%-*s  %s\n", widest, labels[i], strings.Join(track, ""))
	}
	fmt.Fprintf(w, "```\n\n%s from the left to the right\n", a.wall())
}

func markdownParts(w io.Writer, a *About) {
	tests := &bytes.Buffer{}
	fmt.Fprint(w, "\n## Suites, groups and files\n\n| | name | outcome | passed | time |\n| --- | --- | --- | ---: | ---: |\n")
	more := a.eachPart(markdownTests, func(level, name string, p *run.Section, some []*run.Result) {
		fmt.Fprintf(w, "| %s | %s | %s | %s | %s |\n", level, report.Code(name), report.Counts(p.Counts), passed(p.Totals), history.Short(p.Seconds))
		for _, r := range some {
			fmt.Fprintf(tests, "| %s %s | %s %s | %s |\n", report.Code(where(r.ID)), report.Code(report.Name(r.ID)), r.Outcome.Shape(), r.Outcome, history.Short(r.Seconds))
		}
	})
	fmt.Fprintf(w, "\n<details><summary>All tests</summary>\n\n| test | | time |\n| --- | --- | ---: |\n%s", tests)
	if more > 0 {
		fmt.Fprintf(w, "\n… and %s\n", wording.Plural(more, "more test"))
	}
	fmt.Fprint(w, "\n</details>\n")
}
