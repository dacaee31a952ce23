package tui

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
	"fernrelay/internal/wording"
)

// The places of the parts of the view.
const (
	testsTop    = 3   // row of the first test
	reportTop   = 4   // row of the first row of a report
	ledgerPanel = 58  // columns of the right-hand panel
	ledgerBoth  = 140 // columns from which on it is beside the tests, as those need the runs beside their names
	chartRows   = 15  // of the chart with its heading and axis
	cellsInPart = 8   // runs between two gaps
	leastCells  = 16  // columns for the runs, as many as say which they are
	besideCells = 26  // columns that are none of the groups', the names' and the runs'
	beforeCells = 5   // those of them that come before the runs
)

func (v ledgerView) draw(c canvas) {
	t := c.theme
	switch {
	case v.wrong != nil:
		c.text(2, 1, style{t.rust, true}, "The ledger cannot be read.")
		for i, line := range wrap(plain.Line(v.wrong.Error()), c.width-4) {
			c.text(2, 3+i, style{colour: t.ink}, line)
		}
		return
	case v.past == nil:
		c.text(2, 1, style{colour: t.fog}, "reading the ledger …")
		return
	case len(v.past.Runs) == 0:
		c.text(2, 1, style{t.ink, true}, "Nothing has run yet.")
		for i, line := range wrap("Every run is kept here: which tests come and go, why they failed, how long they take. "+
			"enter in Split runs the picked tests; fern-relay ledger import adds the reports of your CI.", c.width-4) {
			c.text(2, 3+i, style{colour: t.fog}, line)
		}
		return
	}
	left, panel := c.sub(0, 0, c.width-ledgerPanel-4, c.height), c.sub(c.width-ledgerPanel-1, 0, ledgerPanel, c.height)
	if c.width < ledgerBoth {
		left, panel = c, c.sub(2, 0, c.width-4, c.height)
	}
	if c.width >= ledgerBoth || !v.panel {
		v.drawLeft(left)
	}
	if c.width >= ledgerBoth || v.panel {
		v.drawPanel(panel)
	}
}

func (v ledgerView) drawLeft(c canvas) {
	if v.report != nil {
		v.report.draw(c)
		return
	}
	rows := testRows(c.height)
	if rows < c.height-testsTop-2 {
		v.drawTrend(c.sub(0, c.height-chartRows, c.width, chartRows))
	}
	v.drawTests(c)
}

var orderWords = map[string]string{history.ByTrouble: "most troubled first", history.ByTime: "slowest first", history.ByChange: "most changed time first", history.ByName: "by name"}

// nameOf returns the name of a test.
func (v ledgerView) nameOf(test int) string {
	_, name := groupAndName(v.past.History.IDs[test])
	return name
}

// drawTests draws the tests against the runs.
func (v ledgerView) drawTests(c canvas) {
	t := c.theme
	if v.cells.shown == 0 {
		c.text(2, 1, style{colour: t.fog}, "no picked test is in these runs")
		return
	}
	groups, names := v.columns(c.width)
	first, shown, n := v.cells.first, v.cells.shown, v.cells.rows
	cells := c.sub(v.cells.x, 0, c.width-groups-names-besideCells, c.height)
	c.text(2, 1, style{colour: t.fog}, orderWords[v.by])
	c.right(c.width-11, 1, style{colour: t.fog}, "passed")
	c.right(c.width-1, 1, style{colour: t.fog}, "time")
	v.drawRuns(cells, first, shown, n)
	onScreen := v.order[v.top : v.top+n]
	common := sharedIn(onScreen, v.nameOf, names)
	for i, test := range onScreen {
		y := testsTop + i
		group, name := groupAndName(v.past.History.IDs[test])
		c.text(2, y, style{colour: t.fog}, cutGroup(group, groups))
		c.text(groups+3, y, style{t.ink, v.top+i == v.at}, common.cut(name, names))
		drawOutcomes(cells, y, v.past.History.Past(test)[first:first+shown])
		v.drawFigures(c, y, &v.past.Figures[test])
		if v.top+i == v.at {
			c.selectRow(1, y, c.width-1, 1)
		}
	}
	c.text(2, testsTop+n+1, style{colour: t.faint()}, v.restWords(v.top+n))
}

// columns returns the widths of the groups and the names of the tests: those of the widest, if the runs leave
// room.
func (v *ledgerView) columns(room int) (groups, names int) {
	groups, names = min(16, room/6, max(5, v.groupWidth)), min(30, max(16, room*2/9))
	spare := room - groups - names - besideCells - max(leastCells, cellColumn(len(v.past.Runs)))
	if spare > 0 {
		names = max(names, min(v.nameWidth, names+spare))
	}
	return groups, names
}

// drawRuns says which runs are shown, and marks the chosen one in all rows.
func (v ledgerView) drawRuns(c canvas, first, shown, rows int) {
	t, runs := c.theme, v.past.Runs
	span := fmt.Sprintf("runs %d – %d", runs[first].Number, runs[first+shown-1].Number)
	if shown == 1 {
		span = fmt.Sprintf("run %d", runs[first].Number)
	}
	c.text(max(0, cellColumn(shown-1)+1-width(span)), 1, style{colour: t.faint()}, span)
	at := v.column() - first
	if at < 0 || at >= shown {
		return
	}
	c.text(cellColumn(at), testsTop-1, style{t.ink, true}, "▾")
	if !t.shades {
		c.fill(cellColumn(at), testsTop, 1, rows, t.leaf, 0.15)
	}
}

// drawOutcomes draws the outcomes of a test, one shape per run.
func drawOutcomes(c canvas, y int, past []history.Cell) {
	t := c.theme
	for i, cell := range past {
		o := cell.Outcome()
		colour := t.outcome(o)
		switch o {
		case run.Passed:
			colour = t.mix(t.leaf, 0.75)
		case "":
			colour = t.faint()
		}
		c.text(cellColumn(i), y, style{colour, o.Bad()}, o.Shape())
	}
}

// restWords says what is below the tests that are shown.
func (v *ledgerView) restWords(shown int) string {
	rest := len(v.order) - shown
	switch {
	case rest == 0:
		return ""
	case v.by == history.ByTrouble && shown >= v.troubled:
		return wording.Plural(rest, "more test") + ", none of them bad in these runs"
	case v.by == history.ByTrouble:
		return fmt.Sprintf("%s, %d of them bad in these runs", wording.Plural(rest, "more test"), v.troubled-shown)
	}
	return wording.Plural(rest, "more test")
}

// cellColumn returns the column of a run among those that are shown.
func cellColumn(at int) int { return at + at/cellsInPart }

// shownRuns returns which of the past's runs are shown in a number of columns, the chosen one among them.
func (v *ledgerView) shownRuns(room int) (first, shown int) {
	shown = max(1, min(len(v.past.Runs), room))
	first = len(v.past.Runs) - shown
	if at := v.column(); at >= 0 && at < first {
		first = at
	}
	return first, shown
}

// drawFigures draws the pass rate and the time of a test at the end of its row.
func (v ledgerView) drawFigures(c canvas, y int, f *history.Figures) {
	t := c.theme
	rate := style{colour: t.ink}
	switch {
	case f.Ran == 0:
		rate.colour = t.fog
	case f.Rate < 0.9:
		rate.colour = t.rust
	}
	c.right(c.width-11, y, rate, wording.Percent(f.Rate))
	if f.Ran == 0 {
		c.right(c.width-1, y, style{colour: t.fog}, "–")
		return
	}
	at := style{colour: t.ink}
	if f.Change() > 0 {
		at.colour = t.amber
	}
	c.right(c.width-1, y, at, history.Short(f.Seconds))
}

// drawTrend draws the work and the wall time of the runs as columns and points.
func (v ledgerView) drawTrend(c canvas) {
	t := c.theme
	x := c.text(2, 0, style{colour: t.fog}, "the whole suite, run by run")
	x = c.text(x+5, 0, style{t.leaf, true}, "▪ work")
	c.text(x+2, 0, style{colour: t.water}, "▫ wall")
	const left = 9
	step := 2
	room := func() int { return (c.width - left - 19) * cellsInPart / (cellsInPart*step + 1) } // runs beside the words
	if len(v.past.Runs) > room() {
		step = 1
	}
	first, shown := v.shownRuns(room())
	runs := v.past.Runs[first : first+shown]
	most := 1e-9
	for _, k := range runs {
		most = max(most, k.Work, k.Wall())
	}
	most = roundTop(most)
	height := c.height - 3
	at := func(i int) int { return left + i*step + i/cellsInPart }
	row := func(seconds float64) int {
		return 1 + height - min(height, max(1, int(math.Ceil(float64(height)*seconds/most))))
	}
	c.right(left-1, height, style{colour: t.faint()}, "0")
	for _, part := range []float64{0.5, 1} {
		c.right(left-1, 1+height-int(math.Round(part*float64(height))), style{colour: t.faint()}, history.Clock(part*most))
	}
	chosen := v.column() - first
	for i, k := range runs {
		amount := 0.42
		if i == chosen {
			amount = 0.95
		}
		column(c, at(i), 1+height, 1, int(math.Round(8*float64(height)*k.Work/most)), t.leaf, amount)
		if k.Wall() > 0 {
			c.text(at(i), row(k.Wall()), style{colour: t.water}, "▫")
		}
		if number := fmt.Sprint(k.Number); i == 0 || i == len(runs)-1 || i%cellsInPart == 0 && i < len(runs)-width(number)-1 {
			c.text(at(i), 1+height, style{colour: t.faint()}, number)
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
func (v ledgerView) annotate(c canvas, x int, runs []*run.Record) {
	last := runs[len(runs)-1]
	for i := len(runs) - 1; i > 0; i-- {
		if runs[i-1].Workers != last.Workers {
			c.text(x, 3, style{colour: c.theme.fog}, cut(fmt.Sprintf("from run %d:", runs[i].Number), c.width-x))
			c.text(x, 4, style{colour: c.theme.ink}, cut(wording.Plural(last.Workers, "worker"), c.width-x))
			return
		}
	}
}

// drawPanel draws the facts about the chosen run, the time, and the test under the cursor.
func (v ledgerView) drawPanel(c canvas) {
	if v.report != nil {
		v.report.drawDetail(c, v)
		return
	}
	const card, slow = 12, 7
	causes := c.height - card - slow - 1
	if causes < 6 { // there is no room for the slowest
		causes = c.height / 2
		v.drawCauses(c.sub(0, 1, c.width, causes-2))
		v.drawCard(c.sub(0, causes, c.width, c.height-causes))
		return
	}
	v.drawCauses(c.sub(0, 1, c.width, causes-2))
	v.drawSlowest(c.sub(0, causes, c.width, slow))
	v.drawCard(c.sub(0, causes+slow+1, c.width, c.height-causes-slow-1))
}

// drawCauses draws the causes of the chosen run.
func (v ledgerView) drawCauses(c canvas) {
	t, chosen := c.theme, &v.chosen
	record := v.all[v.run]
	x := c.text(0, 0, style{t.ink, true}, fmt.Sprintf("run %d · causes", record.Number))
	if chosen.record == nil || chosen.record.Number != record.Number {
		return
	}
	failures := 0
	for _, cause := range chosen.causes {
		failures += len(cause.Results)
	}
	words := wording.Plural(failures, "failure") + ", " + wording.Plural(len(chosen.causes), "cause")
	if failures == 0 {
		words = report.Counts(record.Counts)
	}
	c.right(c.width, 0, style{colour: t.fog}, cut(words, c.width-x-2))
	c.text(0, 1, style{colour: t.faint()}, cut(runWords(record), c.width))
	y, rows, names := 3, 0, causeNames
	for i := range chosen.causes {
		rows += causeRows(&chosen.causes[i], names) + 1
	}
	air := 1
	if y+rows > c.height { // it is tight: one name each, and no air
		names, air = 1, 0
	}
	for i := range chosen.causes {
		if rows := causeRows(&chosen.causes[i], names); y+rows > c.height || y+rows == c.height && i < len(chosen.causes)-1 {
			c.text(0, y, style{colour: t.fog}, fmt.Sprintf("… and %s: enter opens the run's report", wording.Plural(len(chosen.causes)-i, "more cause")))
			return
		}
		y = v.drawCause(c, y, &chosen.causes[i], names) + air
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
	words += " · " + cmp.Or(k.Order, order.AsWritten) + " · pick " + cmp.Or(plain.Line(k.Pick), "all")
	if k.Source != "" {
		words += " · from " + path.Base(plain.Line(k.Source))
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
func (v ledgerView) drawCause(c canvas, y int, cause *history.KnownCause, names int) int {
	t := c.theme
	tests := wording.Plural(len(cause.Results), "test")
	left := max(9, width(tests)+2)
	c.text(0, y, style{t.rust, true}, tests)
	since := sinceWords(cause, v.all[v.run])
	c.text(left, y, style{colour: t.ink}, cut(report.CauseWords(*cause), c.width-left))
	y++
	if at := report.CausePlace(cause.Cause); at != "" {
		c.text(left, y, style{colour: t.water}, cut(at, c.width-left))
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
		group, name := groupAndName(r.ID)
		x := c.text(left, y, style{colour: t.faint()}, branch+" ")
		room := c.width - x - width(words) - width(since) - 2
		group = cutGroup(group, room/2)
		c.text(x, y, style{colour: t.fog}, group+" "+cutMiddle(name, room-width(group)-1)+words)
		y++
	}
	c.right(c.width, y-1, style{colour: t.amber}, since)
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
func (v ledgerView) drawSlowest(c canvas) {
	t := c.theme
	slowest := v.past.SlowestTests()
	c.text(0, 0, style{t.ink, true}, "slowest")
	share := 0.0
	for _, test := range slowest {
		share += v.past.Figures[test].Seconds / max(v.past.Work, 1e-9)
	}
	c.right(c.width, 0, style{colour: t.fog}, fmt.Sprintf("%s of all work in %s", wording.Percent(share), wording.Plural(len(slowest), "test")))
	rows := c.height - 2
	room := c.width * 2 / 5
	slowest = slowest[:min(rows, len(slowest))]
	const figure = 6 // cells of a time
	common := sharedIn(slowest, v.nameOf, c.width-room-4-figure)
	for i, test := range slowest {
		f := &v.past.Figures[test]
		amount := 0.25
		if i == 0 {
			amount = 0.45
		}
		c.bar(0, 2+i, float64(room)*f.Seconds/max(v.past.Figures[slowest[0]].Seconds, 1e-9), t.amber, amount)
		at := history.Short(f.Seconds)
		c.text(room+2, 2+i, style{colour: t.ink}, common.cut(v.nameOf(test), c.width-room-4-width(at)))
		c.right(c.width, 2+i, style{colour: t.ink}, at)
	}
}
