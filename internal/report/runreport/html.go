package runreport

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"strings"
	"sync"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/draw"
	"fernrelay/internal/report"
	"fernrelay/internal/wording"
)

//go:embed page.html
var pageText string

// page returns the template of the page. What tests said goes through its escaping.
var page = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Funcs(template.FuncMap{
		"line":    plain.Line,
		"plain":   plain.Text,
		"output":  func(b []byte) string { return lastLines(string(b), htmlLines) },
		"short":   history.Short,
		"clock":   history.ClockTenths,
		"percent": wording.Percent,
		"plural":  wording.Plural,
		"place":   place,
		"found":   report.FindingWords,
		"name":    report.Name,
		"where":   where,
		"passed":  passed,
		"part":    func(some, of float64) float64 { return some / max(of, 1e-9) },
		"bar":     func(some, of float64) int { return int(100 * some / max(of, 1e-9)) },
		"cause":   report.CauseWords,
		"from":    func(c history.KnownCause) string { return report.CausePlace(c.Cause) },
		"since":   report.RunName,
		"card":    report.CardWords,
		"counts":  report.Counts,
		"anchor":  anchor,
		"bad":     run.CountBad,
		"first":   func(list []*run.Result) []*run.Result { return list[:min(len(list), causeTests)] },
		"more":    func(list []*run.Result) int { return max(0, len(list)-causeTests) },
		"rest":    func(failed int) int { return max(0, failed-htmlFailures) },
		"past":    func(c *history.Card) []history.Cell { return c.Cells[max(0, len(c.Cells)-mostPast):] },
	}).Parse(pageText))
})

// The bounds of the page: whole failures, lines of an output, runs of a past.
const (
	htmlFailures = 1000
	htmlLines    = 200
	mostPast     = 40
)

// pageData is what the template is filled with.
type pageData struct {
	*About
	Words    []string
	Failed   int
	Failures []*run.Result // those that are shown whole
	Suites   []*run.Section
	Slowest  []*run.Result
	Work     float64
	Timeline template.HTML // drawn by ourselves; its texts are escaped there
	Caption  string        // of the drawing
	Marks    []mark
}

// mark is a count of an outcome.
type mark struct {
	Outcome run.Outcome
	Count   int
}

func writeHTML(w io.Writer, a *About) error {
	data := pageData{About: a, Words: a.words(), Failures: a.Run.Troubled(), Suites: a.Run.Suites(a.project.File)}
	data.Failed = len(data.Failures)
	data.Failures = data.Failures[:min(data.Failed, htmlFailures)]
	data.Slowest, data.Work = a.slowest()
	for _, o := range run.Outcomes {
		if n := a.Run.Counts[o]; n > 0 {
			data.Marks = append(data.Marks, mark{o, n})
		}
	}
	if d, caption := a.drawing(); caption != "" {
		data.Caption = caption
		var svg bytes.Buffer
		if err := draw.WriteSVG(&svg, d); err != nil {
			return err
		}
		_, drawing, _ := strings.Cut(svg.String(), "<svg") // what is before it is for a file of its own
		data.Timeline = template.HTML("<svg" + drawing)
	}
	return page().Execute(w, data)
}

// where returns the suite and the group of a test, if its ID has them.
func where(id string) string {
	suite, group, _ := catalog.Parts(id)
	return within(suite, group)
}

// within is a group with its suite, which a report of others may not name.
func within(suite, group string) string {
	return plain.Line(strings.TrimPrefix(suite+":"+group, ":"))
}

// anchor names a test within the page, each by another name.
func anchor(id string) string {
	var name strings.Builder
	for _, r := range id {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			name.WriteRune(r)
		} else {
			fmt.Fprintf(&name, "-%x-", r)
		}
	}
	return "t-" + name.String()
}
