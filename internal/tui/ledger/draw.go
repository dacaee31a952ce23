package ledger

import (
	"cmp"
	"fmt"
	"math"
	"path"
	"slices"

	"fernrelay/core/history"
	"fernrelay/core/order"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/report"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
)

// The places of the parts of the view.
const (
	TestsTop    = 3   // row of the first test
	reportTop   = 4   // row of the first row of a report
	ledgerPanel = 58  // columns of the right-hand panel
	ledgerBoth  = 140 // columns from which on it is beside the tests, as those need the runs beside their names
	chartRows   = 15  // of the chart with its heading and axis
	cellsInPart = 8   // runs between two gaps
	leastCells  = 16  // columns for the runs, as many as say which they are
	besideCells = 26  // columns that are none of the groups', the names' and the runs'
	beforeCells = 5   // those of them that come before the runs
)

func (v View) Draw(c screen.Canvas) {
	t := c.Theme
	switch {
	case v.wrong != nil:
		c.Text(2, 1, screen.Style{Colour: t.Rust, Bold: true}, "The ledger cannot be read.")
		for i, line := range screen.Wrap(plain.Line(v.wrong.Error()), c.Width-4) {
			c.Text(2, 3+i, screen.Style{Colour: t.Ink}, line)
		}
		return
	case v.Past == nil:
		c.Text(2, 1, screen.Style{Colour: t.Fog}, "reading the ledger …")
		return
	case len(v.Past.Runs) == 0:
		c.Text(2, 1, screen.Style{Colour: t.Ink, Bold: true}, "Nothing has run yet.")
		for i, line := range screen.Wrap("Every run is kept here: which tests come and go, why they failed, how long they take. "+
			"enter in Split runs the picked tests; fern-relay ledger import adds the reports of your CI.", c.Width-4) {
			c.Text(2, 3+i, screen.Style{Colour: t.Fog}, line)
		}
		return
	}
	left, panel := c.Sub(0, 0, c.Width-ledgerPanel-4, c.Height), c.Sub(c.Width-ledgerPanel-1, 0, ledgerPanel, c.Height)
	if c.Width < ledgerBoth {
		left, panel = c, c.Sub(2, 0, c.Width-4, c.Height)
	}
	if c.Width >= ledgerBoth || !v.panel {
		v.drawLeft(left)
	}
	if c.Width >= ledgerBoth || v.panel {
		v.drawPanel(panel)
	}
}

func (v View) drawLeft(c screen.Canvas) {
	if v.Report != nil {
		v.Report.draw(c)
		return
	}
	rows := testRows(c.Height)
	if rows < c.Height-TestsTop-2 {
		v.drawTrend(c.Sub(0, c.Height-chartRows, c.Width, chartRows))
	}
	v.drawTests(c)
}

var orderWords = map[string]string{history.ByTrouble: "most troubled first", history.ByTime: "slowest first", history.ByChange: "most changed time first", history.ByName: "by name"}

// nameOf returns the name of a test.
func (v View) nameOf(test int) string {
	_, name := leg.GroupAndName(v.Past.History.IDs[test])
	return name
}

// drawTests draws the tests against the runs.
func (v View) drawTests(c screen.Canvas) {
	t := c.Theme
	if v.Cells.shown == 0 {
		c.Text(2, 1, screen.Style{Colour: t.Fog}, "no picked test is in these runs")
		return
	}
	groups, names := v.columns(c.Width)
	first, shown, n := v.Cells.first, v.Cells.shown, v.Cells.Rows
	cells := c.Sub(v.Cells.X, 0, c.Width-groups-names-besideCells, c.Height)
	c.Text(2, 1, screen.Style{Colour: t.Fog}, orderWords[v.By])
	c.Right(c.Width-11, 1, screen.Style{Colour: t.Fog}, "passed")
	c.Right(c.Width-1, 1, screen.Style{Colour: t.Fog}, "time")
	v.drawRuns(cells, first, shown, n)
	onScreen := v.Order[v.top : v.top+n]
	common := screen.SharedIn(onScreen, v.nameOf, names)
	for i, test := range onScreen {
		y := TestsTop + i
		group, name := leg.GroupAndName(v.Past.History.IDs[test])
		c.Text(2, y, screen.Style{Colour: t.Fog}, screen.CutGroup(group, groups))
		c.Text(groups+3, y, screen.Style{Colour: t.Ink, Bold: v.top+i == v.At}, common.Cut(name, names))
		drawOutcomes(cells, y, v.Past.History.Past(test)[first:first+shown])
		v.drawFigures(c, y, &v.Past.Figures[test])
		if v.top+i == v.At {
			c.SelectRow(1, y, c.Width-1, 1)
		}
	}
	c.Text(2, TestsTop+n+1, screen.Style{Colour: t.Faint()}, v.restWords(v.top+n))
}

// columns returns the widths of the groups and the names of the tests: those of the widest, if the runs leave
// room.
func (v *View) columns(room int) (groups, names int) {
	groups, names = min(16, room/6, max(5, v.groupWidth)), min(30, max(16, room*2/9))
	spare := room - groups - names - besideCells - max(leastCells, cellColumn(len(v.Past.Runs)))
	if spare > 0 {
		names = max(names, min(v.nameWidth, names+spare))
	}
	return groups, names
}

// drawRuns says which runs are shown, and marks the chosen one in all rows.
func (v View) drawRuns(c screen.Canvas, first, shown, rows int) {
	t, runs := c.Theme, v.Past.Runs
	span := fmt.Sprintf("runs %d – %d", runs[first].Number, runs[first+shown-1].Number)
	if shown == 1 {
		span = fmt.Sprintf("run %d", runs[first].Number)
	}
	c.Text(max(0, cellColumn(shown-1)+1-screen.Width(span)), 1, screen.Style{Colour: t.Faint()}, span)
	at := v.Column() - first
	if at < 0 || at >= shown {
		return
	}
	c.Text(cellColumn(at), TestsTop-1, screen.Style{Colour: t.Ink, Bold: true}, "▾")
	if !t.Shades {
		c.Fill(cellColumn(at), TestsTop, 1, rows, t.Leaf, 0.15)
	}
}

// drawOutcomes draws the outcomes of a test, one shape per run.
func drawOutcomes(c screen.Canvas, y int, past []history.Cell) {
	t := c.Theme
	for i, cell := range past {
		o := cell.Outcome()
		colour := t.Outcome(o)
		switch o {
		case run.Passed:
			colour = t.Mix(t.Leaf, 0.75)
		case "":
			colour = t.Faint()
		}
		c.Text(cellColumn(i), y, screen.Style{Colour: colour, Bold: o.Bad()}, o.Shape())
	}
}

// restWords says what is below the tests that are shown.
func (v *View) restWords(shown int) string {
	rest := len(v.Order) - shown
	switch {
	case rest == 0:
		return ""
	case v.By == history.ByTrouble && shown >= v.troubled:
		return wording.Plural(rest, "more test") + ", none of them bad in these runs"
	case v.By == history.ByTrouble:
		return fmt.Sprintf("%s, %d of them bad in these runs", wording.Plural(rest, "more test"), v.troubled-shown)
	}
	return wording.Plural(rest, "more test")
}

// cellColumn returns the column of a run among those that are shown.
func cellColumn(at int) int { return at + at/cellsInPart }

// shownRuns returns which of the past's runs are shown in a number of columns, the chosen one among them.
func (v *View) shownRuns(room int) (first, shown int) {
	shown = max(1, min(len(v.Past.Runs), room))
	first = len(v.Past.Runs) - shown
	if at := v.Column(); at >= 0 && at < first {
		first = at
	}
	return first, shown
}

// drawFigures draws the pass rate and the time of a test at the end of its row.
func (v View) drawFigures(c screen.Canvas, y int, f *history.Figures) {
	t := c.Theme
	rate := screen.Style{Colour: t.Ink}
	switch {
	case f.Ran == 0:
		rate.Colour = t.Fog
	case f.Rate < 0.9:
		rate.Colour = t.Rust
	}
	c.Right(c.Width-11, y, rate, wording.Percent(f.Rate))
	if f.Ran == 0 {
		c.Right(c.Width-1, y, screen.Style{Colour: t.Fog}, "–")
		return
	}
	at := screen.Style{Colour: t.Ink}
	if f.Change() > 0 {
		at.Colour = t.Amber
	}
	c.Right(c.Width-1, y, at, history.Short(f.Seconds))
}

// drawTrend draws the work and the wall time of the runs as columns and points.
func (v View) drawTrend(c screen.Canvas) {
	t := c.Theme
	x := c.Text(2, 0, screen.Style{Colour: t.Fog}, "the whole suite, run by run")
	x = c.Text(x+5, 0, screen.Style{Colour: t.Leaf, Bold: true}, "▪ work")
	c.Text(x+2, 0, screen.Style{Colour: t.Water}, "▫ wall")
	const left = 9
	step := 2
	room := func() int { return (c.Width - left - 19) * cellsInPart / (cellsInPart*step + 1) } // runs beside the words
	if len(v.Past.Runs) > room() {
		step = 1
	}
	first, shown := v.shownRuns(room())
	runs := v.Past.Runs[first : first+shown]
	most := 1e-9
	for _, k := range runs {
		most = max(most, k.Work, k.Wall())
	}
	most = roundTop(most)
	height := c.Height - 3
	at := func(i int) int { return left + i*step + i/cellsInPart }
	row := func(seconds float64) int {
		return 1 + height - min(height, max(1, int(math.Ceil(float64(height)*seconds/most))))
	}
	c.Right(left-1, height, screen.Style{Colour: t.Faint()}, "0")
	for _, part := range []float64{0.5, 1} {
		c.Right(left-1, 1+height-int(math.Round(part*float64(height))), screen.Style{Colour: t.Faint()}, history.Clock(part*most))
	}
	chosen := v.Column() - first
	for i, k := range runs {
		amount := 0.42
		if i == chosen {
			amount = 0.95
		}
		screen.DrawColumn(c, at(i), 1+height, 1, int(math.Round(8*float64(height)*k.Work/most)), t.Leaf, amount)
		if k.Wall() > 0 {
			c.Text(at(i), row(k.Wall()), screen.Style{Colour: t.Water}, "▫")
		}
		if number := fmt.Sprint(k.Number); i == 0 || i == len(runs)-1 || i%cellsInPart == 0 && i < len(runs)-screen.Width(number)-1 {
			c.Text(at(i), 1+height, screen.Style{Colour: t.Faint()}, number)
		}
	}
	v.annotate(c, at(shown-1)+3, runs)
}

// roundTops are times, in seconds, whose halves are round as well.
var roundTops = []float64{0.01, 0.02, 0.04, 0.1, 0.2, 0.4, 1, 2, 4, 6, 8, 10, 20, 30, 40, 60, 90, 120, 180, 240, 300, 360, 480, 600, 900, 1200, 1800, 2400, 3600, 5400, 7200, 10800, 14400, 21600}

// roundTop returns a round time for the top of an axis.
func roundTop(seconds float64) float64 {
	if at, _ := slices.BinarySearch(roundTops, seconds); at < len(roundTops) {
		return roundTops[at]
	}
	last := roundTops[len(roundTops)-1]
	return last * math.Ceil(seconds/last)
}

// annotate says since when the runs have as many workers as they have.
func (v View) annotate(c screen.Canvas, x int, runs []*run.Record) {
	last := runs[len(runs)-1]
	for i := len(runs) - 1; i > 0; i-- {
		if runs[i-1].Workers != last.Workers {
			c.Text(x, 3, screen.Style{Colour: c.Theme.Fog}, screen.Cut(fmt.Sprintf("from run %d:", runs[i].Number), c.Width-x))
			c.Text(x, 4, screen.Style{Colour: c.Theme.Ink}, screen.Cut(wording.Plural(last.Workers, "worker"), c.Width-x))
			return
		}
	}
}

// drawPanel draws the facts about the chosen run, the time, and the test under the cursor.
func (v View) drawPanel(c screen.Canvas) {
	if v.Report != nil {
		v.Report.drawDetail(c, v)
		return
	}
	const card, slow = 12, 7
	causes := c.Height - card - slow - 1
	if causes < 6 { // there is no room for the slowest
		causes = c.Height / 2
		v.drawCauses(c.Sub(0, 1, c.Width, causes-2))
		v.drawCard(c.Sub(0, causes, c.Width, c.Height-causes))
		return
	}
	v.drawCauses(c.Sub(0, 1, c.Width, causes-2))
	v.drawSlowest(c.Sub(0, causes, c.Width, slow))
	v.drawCard(c.Sub(0, causes+slow+1, c.Width, c.Height-causes-slow-1))
}

// drawCauses draws the causes of the chosen run.
func (v View) drawCauses(c screen.Canvas) {
	t, chosen := c.Theme, &v.Chosen
	record := v.All[v.Run]
	x := c.Text(0, 0, screen.Style{Colour: t.Ink, Bold: true}, fmt.Sprintf("run %d · causes", record.Number))
	if chosen.Record == nil || chosen.Record.Number != record.Number {
		return
	}
	failures := 0
	for _, cause := range chosen.Causes {
		failures += len(cause.Results)
	}
	words := wording.Plural(failures, "failure") + ", " + wording.Plural(len(chosen.Causes), "cause")
	if failures == 0 {
		words = report.Counts(record.Counts)
	}
	c.Right(c.Width, 0, screen.Style{Colour: t.Fog}, screen.Cut(words, c.Width-x-2))
	c.Text(0, 1, screen.Style{Colour: t.Faint()}, screen.Cut(runWords(record), c.Width))
	y, rows, names := 3, 0, causeNames
	for i := range chosen.Causes {
		rows += causeRows(&chosen.Causes[i], names) + 1
	}
	air := 1
	if y+rows > c.Height { // it is tight: one name each, and no air
		names, air = 1, 0
	}
	for i := range chosen.Causes {
		if rows := causeRows(&chosen.Causes[i], names); y+rows > c.Height || y+rows == c.Height && i < len(chosen.Causes)-1 {
			c.Text(0, y, screen.Style{Colour: t.Fog}, fmt.Sprintf("… and %s: enter opens the run's report", wording.Plural(len(chosen.Causes)-i, "more cause")))
			return
		}
		y = v.drawCause(c, y, &chosen.Causes[i], names) + air
	}
}

// runWords says how a run was.
func runWords(k *run.Record) string {
	words := k.Began.Format("2 Jan 15:04")
	if k.Revision != "" {
		words += " · " + report.Revision(k)
	}
	if k.Workers > 0 {
		words += " · " + wording.Plural(k.Workers, "worker")
	}
	if k.Crossing != "" {
		words += " · " + plain.Line(k.Crossing)
	}
	words += " · " + cmp.Or(plain.Line(k.Order), order.AsWritten) + " · pick " + cmp.Or(plain.Line(k.Pick), "all")
	if k.Imported != "" {
		words += " · from " + path.Base(plain.Line(k.Imported))
	}
	return words
}

// causeNames bounds the tests of a cause that are named.
const causeNames = 3

// causeRows returns how many rows a cause takes with a number of names.
func causeRows(cause *history.KnownCause, names int) int {
	rows := 1 + min(len(cause.Results), names)
	if cause.Origin.File != "" {
		rows++
	}
	return rows
}

// drawCause draws a cause with some of its tests, and returns the row after it.
func (v View) drawCause(c screen.Canvas, y int, cause *history.KnownCause, names int) int {
	t := c.Theme
	tests := wording.Plural(len(cause.Results), "test")
	left := max(9, screen.Width(tests)+2)
	c.Text(0, y, screen.Style{Colour: t.Rust, Bold: true}, tests)
	since := sinceWords(cause, v.All[v.Run])
	c.Text(left, y, screen.Style{Colour: t.Ink}, screen.Cut(report.CauseWords(*cause), c.Width-left))
	y++
	if at := report.CausePlace(cause.Cause); at != "" {
		c.Text(left, y, screen.Style{Colour: t.Water}, screen.Cut(at, c.Width-left))
		y++
	}
	named := cause.Results[:min(len(cause.Results), names)]
	for i, r := range named {
		branch, words := "├", ""
		if i == len(named)-1 {
			branch = "└"
			if more := len(cause.Results) - len(named); more > 0 {
				words = fmt.Sprintf("  and %d more", more)
			}
		}
		group, name := leg.GroupAndName(r.ID)
		x := c.Text(left, y, screen.Style{Colour: t.Faint()}, branch+" ")
		room := c.Width - x - screen.Width(words) - screen.Width(since) - 2
		group = screen.CutGroup(group, room/2)
		c.Text(x, y, screen.Style{Colour: t.Fog}, group+" "+screen.CutMiddle(name, room-screen.Width(group)-1)+words)
		y++
	}
	c.Right(c.Width, y-1, screen.Style{Colour: t.Amber}, since)
	return y
}

// sinceWords says since which run a cause of a run is known.
func sinceWords(cause *history.KnownCause, of *run.Record) string {
	if cause.Since == nil || cause.Since.Number == of.Number {
		return "new"
	}
	return fmt.Sprintf("since run %d", cause.Since.Number)
}

// drawSlowest draws where the time goes, to scale.
func (v View) drawSlowest(c screen.Canvas) {
	t := c.Theme
	slowest := v.Past.SlowestTests()
	c.Text(0, 0, screen.Style{Colour: t.Ink, Bold: true}, "slowest")
	share := 0.0
	for _, test := range slowest {
		share += v.Past.Figures[test].Seconds / max(v.Past.Work, 1e-9)
	}
	c.Right(c.Width, 0, screen.Style{Colour: t.Fog}, fmt.Sprintf("%s of all work in %s", wording.Percent(share), wording.Plural(len(slowest), "test")))
	rows := c.Height - 2
	room := c.Width * 2 / 5
	slowest = slowest[:min(rows, len(slowest))]
	const figure = 6 // cells of a time
	common := screen.SharedIn(slowest, v.nameOf, c.Width-room-4-figure)
	for i, test := range slowest {
		f := &v.Past.Figures[test]
		amount := 0.25
		if i == 0 {
			amount = 0.45
		}
		c.Bar(0, 2+i, float64(room)*f.Seconds/max(v.Past.Figures[slowest[0]].Seconds, 1e-9), t.Amber, amount)
		at := history.Short(f.Seconds)
		c.Text(room+2, 2+i, screen.Style{Colour: t.Ink}, common.Cut(v.nameOf(test), c.Width-room-4-screen.Width(at)))
		c.Right(c.Width, 2+i, screen.Style{Colour: t.Ink}, at)
	}
}
