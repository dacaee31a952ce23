package tui

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
	"fernrelay/internal/wording"
)

// runReport shows the results of a run, or how it differs from another, as a tree that folds.
type runReport struct {
	title  string
	words  string
	causes chosenRun
	roots  []*branch
	rows   []reportRow
	open   map[*branch]bool
	at     int
	top    int
}

// branch is something that folds: a cause with its tests, a suite, a group, a test with its steps, or a kind of
// difference.
type branch struct {
	words   string
	message string      // what went wrong, behind the words
	note    string      // to the right
	result  *run.Result // of a test; of a cause, its first one
	outcome run.Outcome // of a test and of a step
	below   []*branch
	step    *run.Step
}

// reportRow is a branch at its place in the tree.
type reportRow struct {
	*branch
	depth int
}

// newRunReport makes the report of a run: the causes of its failures, then its suites, groups, files, tests and steps.
// What is bad is unfolded down to the tests.
func newRunReport(of chosenRun, file func(id string) string) *runReport {
	rep := &runReport{title: fmt.Sprintf("run %d", of.record.Number), words: report.Counts(of.record.Counts), causes: of, open: map[*branch]bool{}}
	rep.addCauses()
	for _, suite := range of.run.Suites(file) {
		b := rep.partBranch(suite)
		rep.roots = append(rep.roots, b)
		rep.open[b] = true
	}
	rep.unfold()
	rep.at = max(0, slices.IndexFunc(rep.rows, func(row reportRow) bool { return row.result != nil && row.outcome.Bad() }))
	return rep
}

// addCauses begins the report with the causes of the failures, each folded over its tests.
func (rep *runReport) addCauses() {
	if len(rep.causes.causes) == 0 {
		return
	}
	root := &branch{words: wording.Plural(len(rep.causes.causes), "cause")}
	for _, c := range rep.causes.causes {
		b := &branch{words: wording.Plural(len(c.Results), "test"), message: report.CauseWords(c), note: sinceWords(&c, rep.causes.record),
			result: c.Results[0], outcome: c.Results[0].Outcome}
		for _, r := range c.Results {
			b.below = append(b.below, testBranch(r, wording.ShortID(r.ID)))
		}
		root.below = append(root.below, b)
	}
	rep.roots = append(rep.roots, root)
	rep.open[root] = true
}

// partBranch is a suite, a group or a file with what is in it, unfolded if something in it is bad.
func (rep *runReport) partBranch(p *run.Section) *branch {
	b := &branch{words: cmp.Or(plain.Line(p.Name), "other tests"), note: partNote(p)}
	for _, section := range p.Sections {
		b.below = append(b.below, rep.partBranch(section))
	}
	for _, r := range p.Results {
		_, _, name := catalog.Parts(r.ID)
		b.below = append(b.below, testBranch(r, name))
	}
	rep.open[b] = run.CountBad(p.Counts) > 0
	return b
}

// testBranch is a test with its steps.
func testBranch(r *run.Result, name string) *branch {
	b := &branch{words: plain.Line(name), note: history.Short(r.Seconds), result: r, outcome: r.Outcome}
	if r.Outcome.Bad() {
		b.message = plain.Line(r.Message)
	}
	for i := range r.Steps {
		s := &r.Steps[i]
		b.below = append(b.below, &branch{words: plain.Line(s.Name), note: history.Short(s.Seconds), step: s, outcome: s.Outcome, result: r})
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

// newComparison makes the report of how a run differs from the one before it.
func newComparison(after chosenRun, before *run.Record, c history.Comparison) *runReport {
	rep := &runReport{title: fmt.Sprintf("run %d against run %d", after.record.Number, before.Number), causes: after, open: map[*branch]bool{}}
	add := func(words string, list []history.Difference, note func(d history.Difference) string) {
		if len(list) == 0 {
			return
		}
		b := &branch{words: words, note: fmt.Sprint(len(list))}
		for _, d := range list {
			result := cmp.Or(d.After, d.Before)
			b.below = append(b.below, &branch{words: wording.ShortID(d.ID), note: note(d), result: result, outcome: result.Outcome})
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
	rep.title += report.OtherPick(before, after.record)
	if rep.words = fmt.Sprintf("%d newly failing, %d mended", len(c.Failing), len(c.Mended)); c.Same() {
		rep.words = "the same tests had the same outcomes, and noise explains the differences in time"
	}
	rep.unfold()
	rep.at = min(1, max(0, len(rep.rows)-1))
	return rep
}

// unfold lists the rows of what is open.
func (rep *runReport) unfold() {
	rep.rows = rep.rows[:0]
	var list func(all []*branch, depth int)
	list = func(all []*branch, depth int) {
		for _, b := range all {
			rep.rows = append(rep.rows, reportRow{b, depth})
			if rep.open[b] {
				list(b.below, depth+1)
			}
		}
	}
	list(rep.roots, 0)
}

// current returns the row under the cursor; its branch is nil if there is none.
func (rep *runReport) current() reportRow {
	if len(rep.rows) == 0 {
		return reportRow{}
	}
	return rep.rows[max(0, min(rep.at, len(rep.rows)-1))]
}

func (rep *runReport) press(v *ledgerView, msg tea.KeyPressMsg) tea.Msg {
	row := rep.current()
	switch pressed := msg.String(); {
	case key.Matches(msg, v.keyMap.back):
		v.report = nil
	case row.branch == nil:
	case pressed == "enter" || pressed == "space":
		rep.fold(row.branch, !rep.open[row.branch])
	case pressed == "right" || pressed == "l":
		rep.fold(row.branch, true)
	case pressed == "left" || pressed == "h":
		rep.close(row)
	case key.Matches(msg, v.keyMap.hunt) && row.result != nil:
		return v.hunt(row.result.ID)
	case key.Matches(msg, v.keyMap.edit) && row.result != nil:
		if r := row.result; r.File != "" {
			return editFileMsg{r.File, r.Line}
		}
		return editTestMsg(row.result.ID)
	default:
		rep.at = moved(rep.at, pressed, len(rep.rows))
	}
	return nil
}

func (rep *runReport) fold(b *branch, open bool) {
	if len(b.below) > 0 {
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
	for at := rep.at; at >= 0; at-- {
		if rep.rows[at].depth < row.depth {
			rep.at = at
			return
		}
	}
}

// fit keeps the row under the cursor in sight.
func (rep *runReport) fit(height int) {
	rep.top = follow(rep.top, rep.at, height-reportTop-1, len(rep.rows))
}

func (rep *runReport) draw(c canvas) {
	t := c.theme
	x := c.text(2, 1, style{t.ink, true}, rep.title)
	c.text(x+3, 1, style{colour: t.fog}, cut(rep.words, c.width-x-4))
	c.text(2, 2, style{colour: t.faint()}, cut(runWords(rep.causes.record), c.width-3))
	onScreen := rep.rows[rep.top:min(len(rep.rows), rep.top+c.height-reportTop-1)]
	const beside = 24 // cells beside a name, for its place in the tree and its time
	common := sharedIn(onScreen, func(row reportRow) string { return row.words }, c.width-beside)
	for i, row := range onScreen {
		rep.drawRow(c, reportTop+i, row, common, rep.top+i == rep.at)
	}
}

func (rep *runReport) drawRow(c canvas, y int, row reportRow, common shared, current bool) {
	t := c.theme
	x := 2 + 2*row.depth
	if len(row.below) > 0 {
		arrow := "▸"
		if rep.open[row.branch] {
			arrow = "▾"
		}
		c.text(x, y, style{colour: t.fog}, arrow)
	}
	if row.result != nil {
		c.text(x+2, y, style{t.outcome(row.outcome), row.outcome.Bad()}, row.outcome.Shape())
		x += 2
	}
	look := style{t.ink, current || row.result == nil}
	if row.outcome == run.Passed && row.result != nil {
		look.colour = t.fog
	}
	c.right(c.width-1, y, style{colour: t.fog}, row.note)
	room := c.width - x - 5 - width(row.note)
	words := cutGroup(row.words, room)
	if row.result != nil {
		words = common.cut(row.words, room)
	}
	x = c.text(x+2, y, look, words)
	c.text(x+2, y, style{colour: t.rust}, cut(row.message, c.width-1-x-4-width(row.note)))
	if current {
		c.selectRow(1, y, c.width-1, 1)
	}
}

// drawDetail draws the facts about the row under the cursor.
func (rep *runReport) drawDetail(c canvas, v ledgerView) {
	t, row := c.theme, rep.current()
	c = c.sub(0, 1, c.width, c.height-2)
	if row.branch == nil || row.result == nil {
		v.drawCauses(c)
		return
	}
	r := row.result
	group, name := groupAndName(r.ID)
	rows := drawName(c, group, name, 0)
	c = c.sub(0, rows-1, c.width, c.height-rows+1)
	x := c.text(0, 1, style{t.outcome(r.Outcome), true}, r.Outcome.Shape()+" "+string(r.Outcome))
	words := history.Short(r.Seconds)
	if r.Worker > 0 {
		place := run.Place{Worker: r.Worker}
		if ran := rep.causes.run; ran != nil { // a comparison is of two
			place = ran.PlaceOf(r.Worker)
		}
		words += " on " + plain.Line(place.Label())
	}
	c.text(x+2, 1, style{colour: t.fog}, words)
	c.right(c.width, 1, style{colour: t.water}, cutGroup(plain.Line(r.Where()), c.width-x-4-width(words)))
	y := 3
	message := r.Message
	if row.step != nil {
		c.text(0, y, style{colour: t.fog}, cut("step "+row.words, c.width))
		message = cmp.Or(row.step.Message, message)
		y += 2
	}
	if r.Expected != "" || r.Actual != "" {
		y = drawDifference(c, y, sidebyside.Align(plain.Text(r.Expected), plain.Text(r.Actual)))
	}
	for i, line := range wrap(plain.Text(message), c.width) {
		if message == "" || i == messageRows {
			break
		}
		c.text(0, y, style{colour: t.outcome(r.Outcome)}, line)
		y++
	}
	drawOutput(c.sub(0, 0, c.width, c.height-4), y+1, r)
	if len(r.Steps) > 0 && row.step == nil {
		c.text(0, c.height-5, style{colour: t.fog}, wording.Plural(len(r.Steps), "step")+": enter unfolds them")
	}
	if test, known := v.past.History.Index(r.ID); known && v.past.Figures[test].Ran > 0 {
		past := v.past.History.Past(test)
		drawOutcomes(c, c.height-3, past[max(0, len(past)-c.width*cellsInPart/(cellsInPart+1)):])
		drawRate(c, c.height-2, &v.past.Figures[test], nil)
	}
}

// messageRows bounds the rows of a message.
const messageRows = 6
