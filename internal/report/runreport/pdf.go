package runreport

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/draw"
	"fernrelay/internal/report"
	"fernrelay/internal/wording"
)

// The bounds of the document: whole failures, lines of the message and of the output of each, and tests.
const (
	pdfFailures = 200
	pdfMessage  = 8
	pdfOutput   = 15
	pdfTests    = 2000
)

func writePDF(w io.Writer, a *About) error {
	t := &text{}
	t.add(draw.Title, 0, a.Title)
	for _, words := range a.words() {
		t.add(draw.Faint, 0, words)
	}
	if len(a.Explained) > 0 {
		t.add(draw.Heading, 0, "What explains the failures")
		for _, words := range a.Explained {
			t.add(draw.Plain, 1, words)
		}
	}
	if len(a.Parts) > 0 {
		t.add(draw.Heading, 0, a.PartsHeading())
		for _, words := range a.Parts {
			t.add(draw.Plain, 1, words)
		}
	}
	failures := a.Run.Troubled()
	if len(failures) > 0 {
		pdfCauses(t, a, len(failures))
	}
	pages := draw.Pages(t.lines)
	if d, caption := a.drawing(); caption != "" {
		pages = append(pages, d)
	}
	drawn, err := pastDrawings(a)
	if err != nil {
		return err
	}
	pages = append(pages, drawn...)
	t = &text{}
	if len(failures) > 0 {
		t.add(draw.Heading, 0, "Failures")
	}
	for i, r := range failures {
		if i == pdfFailures {
			t.add(draw.Faint, 0, "… and "+wording.Plural(len(failures)-i, "more failure"))
			break
		}
		pdfFailure(t, a, r)
	}
	pdfSlowest(t, a)
	pdfParts(t, a)
	return draw.WritePages(w, append(pages, draw.Pages(t.lines)...))
}

// pastDrawings draws what the ledger knows: the history of what failed, and all charts of the others.
func pastDrawings(a *About) (drawn []draw.Drawing, err error) {
	if len(a.past.Runs) == 0 {
		return nil, nil
	}
	all := a.past.Order(history.ByTime, nil)
	for _, chart := range draw.ChartsOf(draw.OfPast) {
		tests := all
		if chart.Name == "history" {
			tests = a.troubledInPast()
		}
		if len(tests) == 0 {
			continue
		}
		d, err := chart.Draw(draw.Data{Title: a.project.Name, Past: a.past, Tests: tests})
		if err != nil {
			return nil, err
		}
		drawn = append(drawn, d)
	}
	return drawn, nil
}

// troubledInPast returns the tests in trouble that the past knows.
func (a *About) troubledInPast() (tests []int) {
	for _, r := range a.Run.Troubled() {
		if test, ok := a.past.History.Index(r.ID); ok {
			tests = append(tests, test)
		}
	}
	return tests
}

// text grows line by line.
type text struct{ lines []draw.Line }

func (t *text) add(tone draw.Tone, indent int, words string) {
	line := draw.Line{Text: plain.Line(words), Tone: tone, Indent: indent}
	if tone == draw.Heading || tone == draw.Bad {
		line.Keep = 2
	}
	t.lines = append(t.lines, line)
}

// addAll adds the lines of a text, up to a bound.
func (t *text) addAll(tone draw.Tone, indent int, words string, most int) {
	for i, line := range strings.Split(strings.TrimRight(plain.Text(words), "\n "), "\n") {
		if i == most {
			t.lines = append(t.lines, draw.Line{Text: "…", Tone: draw.Faint, Indent: indent})
			return
		}
		t.lines = append(t.lines, draw.Line{Text: line, Tone: tone, Indent: indent})
	}
}

func pdfCauses(t *text, a *About, failures int) {
	t.add(draw.Heading, 0, wording.Plural(failures, "failure")+", "+wording.Plural(len(a.Causes), "cause"))
	for _, c := range a.Causes {
		t.add(draw.Bad, 0, wording.Plural(len(c.Results), "test")+": "+report.CauseWords(c))
		if at := report.CausePlace(c.Cause); at != "" {
			t.add(draw.Plain, 1, at)
		}
		for i, r := range c.Results {
			if i == causeTests {
				t.add(draw.Faint, 1, "… and "+wording.Plural(len(c.Results)-i, "more test"))
				break
			}
			t.add(draw.Plain, 1, r.ID)
		}
		if c.Since != nil {
			t.add(draw.Faint, 1, "since "+report.RunName(c.Since))
		}
	}
}

func pdfFailure(t *text, a *About, r *run.Result) {
	t.add(draw.Bad, 0, strings.TrimSuffix(fmt.Sprintf("%s: %s in %s, %s", r.ID, r.Outcome, history.Short(r.Seconds), place(r)), ", "))
	if r.Message != "" {
		t.addAll(draw.Plain, 1, r.Message, pdfMessage)
	}
	if r.Expected != "" || r.Actual != "" {
		t.addAll(draw.Plain, 1, "expected: "+r.Expected, pdfMessage)
		t.addAll(draw.Plain, 1, "actual: "+r.Actual, pdfMessage)
	}
	for _, s := range r.Steps {
		if s.Outcome.Bad() {
			t.add(draw.Plain, 1, "step "+s.Name+": "+s.Message)
		}
	}
	if output := lastLines(run.WithoutBlock(string(r.Output), r.Message), pdfOutput); strings.TrimSpace(output) != "" {
		t.addAll(draw.Faint, 2, output, pdfOutput+1)
	}
	if card := a.Cards[r.ID]; card != nil {
		for _, words := range report.CardWords(card) {
			t.add(draw.Faint, 1, words)
		}
	}
}

func pdfSlowest(t *text, a *About) {
	slowest, work := a.slowest()
	t.add(draw.Heading, 0, "Slowest")
	for _, r := range slowest {
		t.add(draw.Plain, 1, fmt.Sprintf("%s: %s, %s of all work", r.ID, history.Short(r.Seconds), wording.Percent(r.Seconds/max(work, 1e-9))))
	}
}

func pdfParts(t *text, a *About) {
	t.add(draw.Heading, 0, "Suites, groups and files")
	more := a.eachPart(pdfTests, func(level, name string, p *run.Section, some []*run.Result) {
		indent := 1 + slices.Index(partLevels, level)
		t.add(draw.Plain, indent, fmt.Sprintf("%s: %s; %s passed, %s", name, report.Counts(p.Counts), passed(p.Totals), history.Short(p.Seconds)))
		for _, r := range some {
			t.add(draw.Faint, indent+1, fmt.Sprintf("%s: %s in %s", report.Name(r.ID), r.Outcome, history.Short(r.Seconds)))
		}
	})
	if more > 0 {
		t.add(draw.Faint, 1, "… and "+wording.Plural(more, "more test"))
	}
}
