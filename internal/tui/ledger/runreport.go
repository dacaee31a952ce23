package ledger

import (
	"cmp"
	"fmt"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/report"
	"fernrelay/internal/sidebyside"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
)

// runReport shows the results of a run, or how it differs from another, as a tree that folds.
type runReport struct {
	title  string
	words  string
	Causes ChosenRun
	roots  []*branch
	Rows   []reportRow
	open   map[*branch]bool
	At     int
	top    int
}

// branch is something that folds: a cause with its tests, a suite, a group, a test with its steps, or a kind of
// difference.
type branch struct {
	Words   string
	message string      // what went wrong, behind the words
	note    string      // to the right
	Result  *run.Result // of a test; of a cause, its first one
	Outcome run.Outcome // of a test and of a step
	Below   []*branch
	step    *run.Step
}

// reportRow is a branch at its place in the tree.
type reportRow struct {
	*branch
	Depth int
}

// newRunReport makes the report of a run: the causes of its failures, then its suites, groups, files, tests and steps.
// What is bad is unfolded down to the tests.
func newRunReport(of ChosenRun, file func(id string) string) *runReport {
	rep := &runReport{title: fmt.Sprintf("run %d", of.Record.Number), words: report.Counts(of.Record.Counts), Causes: of, open: map[*branch]bool{}}
	rep.addCauses()
	for _, suite := range of.Run.Suites(file) {
		b := rep.partBranch(suite)
		rep.roots = append(rep.roots, b)
		rep.open[b] = true
	}
	rep.unfold()
	rep.At = max(0, slices.IndexFunc(rep.Rows, func(row reportRow) bool { return row.Result != nil && row.Outcome.Bad() }))
	return rep
}

// addCauses begins the report with the causes of the failures, each folded over its tests.
func (rep *runReport) addCauses() {
	if len(rep.Causes.Causes) == 0 {
		return
	}
	root := &branch{Words: wording.Plural(len(rep.Causes.Causes), "cause")}
	for _, c := range rep.Causes.Causes {
		b := &branch{Words: wording.Plural(len(c.Results), "test"), message: report.CauseWords(c), note: sinceWords(&c, rep.Causes.Record),
			Result: c.Results[0], Outcome: c.Results[0].Outcome}
		for _, r := range c.Results {
			b.Below = append(b.Below, testBranch(r, wording.ShortID(r.ID)))
		}
		root.Below = append(root.Below, b)
	}
	rep.roots = append(rep.roots, root)
	rep.open[root] = true
}

// partBranch is a suite, a group or a file with what is in it, unfolded if something in it is bad.
func (rep *runReport) partBranch(p *run.Section) *branch {
	b := &branch{Words: cmp.Or(plain.Line(p.Name), "other tests"), note: partNote(p)}
	for _, section := range p.Sections {
		b.Below = append(b.Below, rep.partBranch(section))
	}
	for _, r := range p.Results {
		_, _, name := catalog.Parts(r.ID)
		b.Below = append(b.Below, testBranch(r, name))
	}
	rep.open[b] = run.CountBad(p.Counts) > 0
	return b
}

// testBranch is a test with its steps.
func testBranch(r *run.Result, name string) *branch {
	b := &branch{Words: plain.Line(name), note: history.Short(r.Seconds), Result: r, Outcome: r.Outcome}
	if r.Outcome.Bad() {
		b.message = plain.Line(r.Message)
	}
	for i := range r.Steps {
		s := &r.Steps[i]
		b.Below = append(b.Below, &branch{Words: plain.Line(s.Name), note: history.Short(s.Seconds), step: s, Outcome: s.Outcome, Result: r})
	}
	return b
}

// partNote sums up the outcomes of tests, the share of those that passed, and their time.
func partNote(p *run.Section) string {
	note := report.Counts(p.Counts)
	if p.Ran > 0 {
		note += "  " + wording.Percent(float64(p.Passed)/float64(p.Ran))
	}
	return note + "  " + history.Short(p.Seconds)
}

// NewComparison makes the report of how a run differs from the one before it.
func NewComparison(after ChosenRun, before *run.Record, c history.Comparison) *runReport {
	rep := &runReport{title: fmt.Sprintf("run %d against run %d", after.Record.Number, before.Number), Causes: after, open: map[*branch]bool{}}
	add := func(words string, list []history.Difference, note func(d history.Difference) string) {
		if len(list) == 0 {
			return
		}
		b := &branch{Words: words, note: fmt.Sprint(len(list))}
		for _, d := range list {
			result := cmp.Or(d.After, d.Before)
			b.Below = append(b.Below, &branch{Words: wording.ShortID(d.ID), note: note(d), Result: result, Outcome: result.Outcome})
		}
		rep.roots = append(rep.roots, b)
		rep.open[b] = true
	}
	was := func(d history.Difference) string {
		if d.Before == nil {
			return "new"
		}
		return "was " + string(d.Before.Outcome)
	}
	times := func(d history.Difference) string {
		return fmt.Sprintf("%s, was %s", history.Short(d.After.Seconds), history.Short(d.Before.Seconds))
	}
	add("newly failing", c.Failing, was)
	add("mended", c.Mended, was)
	add("slower", c.Slower, times)
	add("faster", c.Faster, times)
	add("new", c.New, func(d history.Difference) string { return history.Short(d.After.Seconds) })
	add("gone", c.Gone, func(d history.Difference) string { return "" })
	rep.title += report.OtherPick(before, after.Record)
	if rep.words = fmt.Sprintf("%d newly failing, %d mended", len(c.Failing), len(c.Mended)); c.Same() {
		rep.words = "the same tests had the same outcomes, and noise explains the differences in time"
	}
	rep.unfold()
	rep.At = min(1, max(0, len(rep.Rows)-1))
	return rep
}

// unfold lists the rows of what is open.
func (rep *runReport) unfold() {
	rep.Rows = rep.Rows[:0]
	var list func(all []*branch, depth int)
	list = func(all []*branch, depth int) {
		for _, b := range all {
			rep.Rows = append(rep.Rows, reportRow{b, depth})
			if rep.open[b] {
				list(b.Below, depth+1)
			}
		}
	}
	list(rep.roots, 0)
}

// Current returns the row under the cursor; its branch is nil if there is none.
func (rep *runReport) Current() reportRow {
	if len(rep.Rows) == 0 {
		return reportRow{}
	}
	return rep.Rows[max(0, min(rep.At, len(rep.Rows)-1))]
}

func (rep *runReport) press(v *View, msg tea.KeyPressMsg) tea.Msg {
	row := rep.Current()
	switch pressed := msg.String(); {
	case key.Matches(msg, v.keyMap.back):
		v.Report = nil
	case row.branch == nil:
	case pressed == "enter" || pressed == "space":
		rep.fold(row.branch, !rep.open[row.branch])
	case pressed == "right" || pressed == "l":
		rep.fold(row.branch, true)
	case pressed == "left" || pressed == "h":
		rep.close(row)
	case key.Matches(msg, v.keyMap.hunt) && row.Result != nil:
		return v.hunt(row.Result.ID)
	case key.Matches(msg, v.keyMap.edit) && row.Result != nil:
		if r := row.Result; r.File != "" {
			return leg.EditFileMsg{File: r.File, Line: r.Line}
		}
		return leg.EditTestMsg(row.Result.ID)
	default:
		rep.At = screen.Moved(rep.At, pressed, len(rep.Rows))
	}
	return nil
}

func (rep *runReport) fold(b *branch, open bool) {
	if len(b.Below) > 0 {
		rep.open[b] = open
		rep.unfold()
	}
}

// close folds the row, or goes to its parent.
func (rep *runReport) close(row reportRow) {
	if rep.open[row.branch] {
		rep.fold(row.branch, false)
		return
	}
	for at := rep.At; at >= 0; at-- {
		if rep.Rows[at].Depth < row.Depth {
			rep.At = at
			return
		}
	}
}

// fit keeps the row under the cursor in sight.
func (rep *runReport) fit(height int) {
	rep.top = screen.Follow(rep.top, rep.At, height-reportTop-1, len(rep.Rows))
}

func (rep *runReport) draw(c screen.Canvas) {
	t := c.Theme
	x := c.Text(2, 1, screen.Style{Colour: t.Ink, Bold: true}, rep.title)
	c.Text(x+3, 1, screen.Style{Colour: t.Fog}, screen.Cut(rep.words, c.Width-x-4))
	c.Text(2, 2, screen.Style{Colour: t.Faint()}, screen.Cut(runWords(rep.Causes.Record), c.Width-3))
	onScreen := rep.Rows[rep.top:min(len(rep.Rows), rep.top+c.Height-reportTop-1)]
	const beside = 24 // cells beside a name, for its place in the tree and its time
	common := screen.SharedIn(onScreen, func(row reportRow) string { return row.Words }, c.Width-beside)
	for i, row := range onScreen {
		rep.drawRow(c, reportTop+i, row, common, rep.top+i == rep.At)
	}
}

func (rep *runReport) drawRow(c screen.Canvas, y int, row reportRow, common screen.Shared, current bool) {
	t := c.Theme
	x := 2 + 2*row.Depth
	if len(row.Below) > 0 {
		arrow := "▸"
		if rep.open[row.branch] {
			arrow = "▾"
		}
		c.Text(x, y, screen.Style{Colour: t.Fog}, arrow)
	}
	if row.Result != nil {
		c.Text(x+2, y, screen.Style{Colour: t.Outcome(row.Outcome), Bold: row.Outcome.Bad()}, row.Outcome.Shape())
		x += 2
	}
	look := screen.Style{Colour: t.Ink, Bold: current || row.Result == nil}
	if row.Outcome == run.Passed && row.Result != nil {
		look.Colour = t.Fog
	}
	c.Right(c.Width-1, y, screen.Style{Colour: t.Fog}, row.note)
	room := c.Width - x - 5 - screen.Width(row.note)
	words := screen.CutGroup(row.Words, room)
	if row.Result != nil {
		words = common.Cut(row.Words, room)
	}
	x = c.Text(x+2, y, look, words)
	c.Text(x+2, y, screen.Style{Colour: t.Rust}, screen.Cut(row.message, c.Width-1-x-4-screen.Width(row.note)))
	if current {
		c.SelectRow(1, y, c.Width-1, 1)
	}
}

// drawDetail draws the facts about the row under the cursor.
func (rep *runReport) drawDetail(c screen.Canvas, v View) {
	t, row := c.Theme, rep.Current()
	c = c.Sub(0, 1, c.Width, c.Height-2)
	if row.branch == nil || row.Result == nil {
		v.drawCauses(c)
		return
	}
	r := row.Result
	group, name := leg.GroupAndName(r.ID)
	rows := screen.DrawName(c, group, name, 0)
	c = c.Sub(0, rows-1, c.Width, c.Height-rows+1)
	x := c.Text(0, 1, screen.Style{Colour: t.Outcome(r.Outcome), Bold: true}, r.Outcome.Shape()+" "+string(r.Outcome))
	words := history.Short(r.Seconds)
	if r.Worker > 0 {
		place := run.Place{Worker: r.Worker}
		if ran := rep.Causes.Run; ran != nil { // a comparison is of two
			place = ran.PlaceOf(r.Worker)
		}
		words += " on " + plain.Line(place.Label())
	}
	c.Text(x+2, 1, screen.Style{Colour: t.Fog}, words)
	c.Right(c.Width, 1, screen.Style{Colour: t.Water}, screen.CutGroup(plain.Line(r.Where()), c.Width-x-4-screen.Width(words)))
	y := 3
	message := r.Message
	if row.step != nil {
		c.Text(0, y, screen.Style{Colour: t.Fog}, screen.Cut("step "+row.Words, c.Width))
		message = cmp.Or(row.step.Message, message)
		y += 2
	}
	if r.Expected != "" || r.Actual != "" {
		y = screen.DrawDifference(c, y, sidebyside.Align(plain.Text(r.Expected), plain.Text(r.Actual)))
	}
	for i, line := range screen.Wrap(plain.Text(message), c.Width) {
		if message == "" || i == messageRows {
			break
		}
		c.Text(0, y, screen.Style{Colour: t.Outcome(r.Outcome)}, line)
		y++
	}
	screen.DrawOutput(c.Sub(0, 0, c.Width, c.Height-4), y+1, r)
	if len(r.Steps) > 0 && row.step == nil {
		c.Text(0, c.Height-5, screen.Style{Colour: t.Fog}, wording.Plural(len(r.Steps), "step")+": enter unfolds them")
	}
	if test, known := v.Past.History.Index(r.ID); known && v.Past.Figures[test].Ran > 0 {
		past := v.Past.History.Past(test)
		drawOutcomes(c, c.Height-3, past[max(0, len(past)-c.Width*cellsInPart/(cellsInPart+1)):])
		drawRate(c, c.Height-2, &v.Past.Figures[test], nil)
	}
}

// messageRows bounds the rows of a message.
const messageRows = 6
