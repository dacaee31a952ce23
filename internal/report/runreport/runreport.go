// Package runreport writes everything about one run into a file for others: an HTML page of its own, a Markdown
// summary, a PDF document, or JUnit XML.
//
//	about, err := runreport.Of(runreport.Project{Name: name, File: fileOf}, ledger, record, results)
//	err = runreport.WriteFile("run.html", about)
package runreport

import (
	"cmp"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/draw"
	"fernrelay/internal/format/junit"
	"fernrelay/internal/ledger"
	"fernrelay/internal/report"
	"fernrelay/internal/wholefile"
	"fernrelay/internal/wording"
)

// About is the content of a report.
type About struct {
	Title  string
	First  []string    // what must be known before all else, such as that a shard is missing
	Record *run.Record // nil of a run that is not kept, as one that was merged
	Run    *run.Run
	Causes []history.KnownCause
	Cards  map[string]*history.Card // what the ledger knows of failing tests, by ID
	Parts  []string                 // which shards came back, failed and are missing, in words

	Explained []string // which values explain the failures of a matrix, in words

	matrix  *matrix.Results // nil if this is no report of a matrix
	project Project
	past    *history.Past // up to the run; without runs if the ledger has none
}

// Project is what a report says of the project.
type Project struct {
	Name string
	File func(id string) string // the file of a test, "" if it is not known
}

// failuresKnown bounds the failing tests about which the report says what the ledger knows.
const failuresKnown = 500

// Of collects everything about a run of a project's ledger.
func Of(project Project, l *ledger.Ledger, record *run.Record, run *run.Run) (*About, error) {
	title := fmt.Sprintf("%s, run %d", plain.Line(project.Name), record.Number)
	if record.Number == 0 { // as of a fleet, which this ledger does not have
		title = fmt.Sprintf("%s, %s", plain.Line(project.Name), plain.Line(record.Machine))
	}
	a := &About{Title: title, Record: record, Run: run, project: project}
	return a, a.know(l, record)
}

// OfMatrix collects everything about the crossings of a matrix: what explains their failures, and of each test the worst
// outcome.
func OfMatrix(project Project, l *ledger.Ledger, r *matrix.Results) (*About, error) {
	a := &About{Title: plain.Line(project.Name) + ", " + wording.Plural(len(r.Results), "crossing"), matrix: r, project: project, past: &history.Past{}}
	var explained strings.Builder
	report.Explained(&explained, r, l.Own)
	if text := strings.TrimSpace(explained.String()); text != "" {
		a.Explained = strings.Split(text, "\n")
	}
	var parts []run.Part
	for _, one := range r.Results {
		a.Parts = append(a.Parts, plain.Line(one.Label())+": "+report.CrossingWords(one))
		if one.Run != nil {
			parts = append(parts, run.Part{Name: one.Key(), Run: one.Run})
		}
	}
	if r.Then.Command != "" {
		a.Parts = append(a.Parts, "then "+plain.Line(r.Then.Command)+": "+report.ThenWords(&r.Then))
	}
	a.Run = run.Merge(parts).Run
	a.Run.Mixed = r.Mixed
	var err error
	a.Causes, err = l.Causes(a.Run)
	return a, err
}

// PartsHeading is the heading of the parts.
func (a *About) PartsHeading() string {
	if a.matrix != nil {
		return "Crossings"
	}
	return "Reports"
}

// drawing returns the drawing of what ran when, and what it shows; empty if that is not known.
func (a *About) drawing() (d draw.Drawing, caption string) {
	switch {
	case a.matrix != nil:
		return draw.Matrix(a.Title, a.matrix, a.matrix.Explain()), "The crossings on one time axis"
	case a.placed():
		return draw.Timeline("workers on one time axis", a.Run), "Workers on one time axis"
	}
	return d, ""
}

// OfMerged collects everything about merged shards, with what the project's ledger knows about the failures.
func OfMerged(project Project, l *ledger.Ledger, m *run.Merged, parts []run.Part, broken []string) (*About, error) {
	a := &About{Title: plain.Line(project.Name) + ", " + wording.Plural(len(parts), "report") + " together", Run: m.Run, project: project}
	if lack := report.Lack(m); lack != "" {
		a.First = append(a.First, lack)
	}
	for _, p := range parts {
		words := plain.Line(p.Name)
		if of := p.Run.Planned; of != nil {
			words += fmt.Sprintf(", shard %d of %d", of.Shard, of.Of)
		}
		words += ": " + p.Run.Summary()
		if run.CountBad(p.Run.Counts) > 0 {
			words += "; it failed"
		}
		a.Parts = append(a.Parts, words)
	}
	for _, k := range m.Missing {
		a.Parts = append(a.Parts, fmt.Sprintf("shard %d of %d is missing", k, m.Of))
	}
	for _, k := range m.Stale {
		a.Parts = append(a.Parts, fmt.Sprintf("shard %d of %d is of another plan", k, m.Of))
	}
	for _, words := range m.Unlike {
		a.Parts = append(a.Parts, "not planned alike: "+words)
	}
	a.Parts = append(a.Parts, broken...)
	return a, a.know(l, nil)
}

func (a *About) know(l *ledger.Ledger, upTo *run.Record) (err error) {
	if a.Causes, err = l.Causes(a.Run); err != nil {
		return err
	}
	if err := a.knowFindings(l); err != nil {
		return err
	}
	a.past, err = l.PastWithChanges(history.PastRuns, upTo)
	if err != nil || len(a.past.Runs) == 0 {
		return err
	}
	var ids []string
	for _, res := range a.Run.Troubled() {
		ids = append(ids, res.ID)
	}
	a.Cards, err = l.Cards(a.past, ids[:min(len(ids), failuresKnown)])
	return err
}

// knowFindings adds to each failure what the latest hunt of its test found, if that did not begin before the run.
func (a *About) knowFindings(l *ledger.Ledger) error {
	hunts, err := l.Hunts()
	if err != nil {
		return err
	}
	for _, h := range hunts {
		if res := a.Run.Result(h.Victim); res != nil && res.Outcome.Bad() && res.Finding == nil && h.Finding != nil && !h.Began.Before(a.Run.Started) {
			res.Finding = report.InRun(*h.Finding)
		}
	}
	return nil
}

// Endings are the endings of the files that a report may be written into.
var Endings = []string{".html", ".md", ".pdf", ".xml"}

// Check refuses the name of a file that a report cannot be written into.
func Check(file string) error {
	if !slices.Contains(Endings, strings.ToLower(filepath.Ext(file))) {
		return fmt.Errorf("the report %q: a file ending in %s is expected", file, strings.Join(Endings, ", "))
	}
	return nil
}

// WriteFile writes a report into a file, in the form that its ending names.
func WriteFile(file string, a *About) error {
	write := map[string]func(io.Writer, *About) error{
		".html": writeHTML, ".md": writeMarkdown, ".pdf": writePDF,
		".xml": func(w io.Writer, a *About) error { return junit.Write(w, a.Run) },
	}[strings.ToLower(filepath.Ext(file))]
	if write == nil {
		return Check(file)
	}
	err := wholefile.Write(file, func(w io.Writer) error { return write(w, a) })
	if err != nil {
		return fmt.Errorf("the report %s: %w", file, err)
	}
	return nil
}

// words returns the counts against the pick, and how the run was, in lines.
func (a *About) words() []string {
	lines := append(slices.Clone(a.First), fmt.Sprintf("%s: %s", wording.Plural(a.Run.Tests(), "picked test"), a.Run.Summary()))
	if a.Run.Mixed != "" {
		lines = append([]string{plain.Line(a.Run.Mixed)}, lines...)
	}
	if a.Record != nil {
		lines = append(lines, report.RunWords(a.Record)...)
		if a.Record.Revision != "" {
			lines = append(lines, "revision "+report.Revision(a.Record))
		}
	}
	if a.Run.Note != "" {
		lines = append(lines, "beside the tests: "+plain.Line(a.Run.Note))
	}
	return lines
}

// mostSlow bounds the tests that are listed as the slowest.
const mostSlow = 10

// slowest returns the slowest tests of the run, and the seconds of all.
func (a *About) slowest() (tests []*run.Result, work float64) {
	tests = slices.Clone(a.Run.Results)
	for _, r := range tests {
		work += r.Seconds
	}
	slices.SortStableFunc(tests, func(a, b *run.Result) int { return cmp.Compare(b.Seconds, a.Seconds) })
	return tests[:min(len(tests), mostSlow)], work
}

// partLevels are the levels of parts, from the outermost.
var partLevels = []string{"suite", "group", "file"}

// eachPart calls visit with the suites of the run, their groups and the files of these, those with the most bad tests first,
// and with the tests of the innermost up to a bound. It counts the tests that it leaves out.
func (a *About) eachPart(most int, visit func(level, name string, p *run.Section, tests []*run.Result)) (more int) {
	var each func(parts []*run.Section, level int, around string)
	each = func(parts []*run.Section, level int, around string) {
		for _, p := range parts {
			name := cmp.Or(plain.Line(p.Name), "other tests")
			if level == 1 {
				name = within(around, p.Name)
			}
			n := min(most, len(p.Results))
			visit(partLevels[level], name, p, p.Results[:n])
			most -= n
			more += len(p.Results) - n
			each(p.Sections, level+1, p.Name)
		}
	}
	each(a.Run.Suites(a.project.File), 0, "")
	return more
}

// passed returns the share of tests that passed, of those that ended.
func passed(t run.Totals) string {
	if t.Ran == 0 {
		return "–"
	}
	return wording.Percent(float64(t.Passed) / float64(t.Ran))
}

// lastLines returns the last lines of an output.
func lastLines(text string, most int) string {
	lines := strings.Split(strings.TrimRight(plain.Text(text), "\n "), "\n")
	if cut := len(lines) - most; cut > 0 {
		lines = append([]string{fmt.Sprintf("… %s before", wording.Plural(cut, "line"))}, lines[cut:]...)
	}
	return strings.Join(lines, "\n")
}

// place returns the place of a failure, "" if it is not known.
func place(r *run.Result) string { return plain.Line(r.Where()) }

// causeTests bounds the tests of a cause that are named.
const causeTests = 20

// wall returns how long the run took, in words; "" if that is not known.
func (a *About) wall() string {
	wall := a.Run.Wall()
	if wall <= 0 || a.Run.Started.IsZero() {
		return ""
	}
	return history.ClockTenths(wall)
}

// placed reports whether the run says what ran where.
func (a *About) placed() bool {
	return a.matrix == nil && a.wall() != "" && slices.ContainsFunc(a.Run.Results, func(r *run.Result) bool { return r.Worker > 0 })
}
