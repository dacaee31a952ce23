package tui

import (
	"image/color"
	"slices"

	"fernrelay/core/run"
)

// guides explains the keys of each leg, in the order of the legs. docs/keys.md has the same lines.
var guides = [][]keyLine{{
	{"arrows", "move over groups, tags and tests; hjkl do the same"},
	{"+", "narrows the pick to the cell under the cursor"},
	{"-", "takes the tests of the cell out of the pick"},
	{"=", "picks only the tests of the cell, the test or the step"},
	{"⌫", "undoes the last change of the pick"},
	{"space", "folds a group or unfolds it; in the list, the steps of a test"},
	{"enter", "looks into the cell: its tests, then the card of one"},
	{"tab", "goes to the tests of the cell and back"},
	{"esc", "goes back to the weave"},
	{"y", "explains why the test is in the pick or out"},
	{"R", "sets or clears a rule on the test, the cell or the pick"},
	{"s", "saves the pick under a name"},
	{"r", "runs the pick"},
	{"H", "hunts the test: which tests make it fail"},
	{"e", "opens the test in your editor"},
	{"o", "orders the groups by name, tests or time"},
	{"O", "orders the tags by name, tests or time"},
	{"d", "draws the weave as SVG or PDF"},
}, {
	{"[ ]", "one shard less or more; a run has as many workers"},
	{"enter", "runs the plan, each shard on its own worker, or the queue"},
	{"m", "plans workers here, which share processors, or machines"},
	{"t", "says what stays together: groups, files or tests"},
	{"u", "shows fixed shards or a shared queue"},
	{"l L", "limit how many shards run at once, or do not"},
	{"w", "says how late the shard under the cursor starts"},
	{"↑↓←→", "move over the shards and their units"},
	{"p", "pins the unit to its shard; the rest is balanced around it"},
	{"J K", "carry the unit to a neighbouring shard and pin it there"},
	{"d", "draws the plan or its curve as SVG or PDF"},
}, {
	{"↑↓", "choose a result"},
	{"h", "hunts the failed test: which of the tests before it made it fail"},
	{"r", "runs the test again"},
	{"R", "runs all tests that failed again"},
	{"e", "opens the line of the failure in your editor"},
	{"enter", "unfolds the steps of the test"},
	{"f", "lists other results: failed, errored, recovered, skipped, all"},
	{"F", "lists the results of some groups or with a text"},
	{"space", "holds the run: workers finish their batches and take no more"},
	{"x", "finishes running tests and starts no more; again, stops now"},
	{"c", "reruns the picked tests that a saved file touches"},
	{"tab", "goes to the details and back on a narrow screen"},
	{"d", "draws the run as SVG or PDF"},
}, {
	{"↑↓", "choose a victim"},
	{"a", "hunts all tests that failed in the latest run"},
	{"enter", "hunts the victim again, or goes on with an interrupted hunt"},
	{"o", "runs the picked tests in new orders, and hunts what differs"},
	{"v", "tries known culprits once more: are they mended?"},
	{"p", "shows a patch of a Go culprit that was tried, or looks for one"},
	{"w", "writes the patch that is shown to a file"},
	{"A", "applies the patch that is shown, after a question"},
	{"c", "copies a command that shows the failure"},
	{"m", "copies the finding as Markdown"},
	{"e", "opens the culprit in your editor"},
	{"x", "stops the hunt; what it tried is kept"},
	{"tab", "goes to the verdict and back on a narrow screen"},
	{"d", "draws the hunt as SVG or PDF"},
}, {
	{"↑↓", "choose a test, or a row of the report"},
	{"←→", "choose a run; in a report, fold and unfold"},
	{"enter", "opens the run's report: its causes first, then all tests"},
	{"=", "compares the run with the one before"},
	{"esc", "goes back to the tests"},
	{"o", "orders the tests by trouble, time, change of time or name"},
	{"H", "goes to the hunt of the test, or hunts it"},
	{"e", "opens the test in your editor"},
	{"tab", "goes to causes and cards and back on a narrow screen"},
	{"d", "draws the past as SVG or PDF"},
}, {
	{"↑↓", "choose a crossing, or an explanation"},
	{"r", "runs every crossing with the tests of the pick"},
	{"enter", "runs the crossing; on an explanation, lists its tests"},
	{"w", "opens the run of the crossing in Watch"},
	{"tab", "goes to the explanations and back"},
	{"esc", "goes back to the crossings"},
	{"D", "runs the crossing that decides between two explanations"},
	{"H", "hunts the first test that failed in the crossing"},
	{"c", "copies the command that repeats the crossing"},
	{"x", "finishes running tests and starts no more"},
	{"d", "draws the matrix as SVG or PDF"},
}}

// everywhere explains the keys that work in every leg.
var everywhere = []keyLine{
	{"1-6", "change legs"},
	{"/", "edits the pick: ↑↓ choose, tab completes, esc leaves it as it was"},
	{"?", "shows this page"},
	{"q", "quits, and asks first while something runs; ctrl-c stops and quits"},
	{"mouse", "a click chooses what it is on, also a leg; the wheel scrolls"},
}

// glossary explains the words of the screens that are not everyday ones.
var glossary = []keyLine{
	{"unit", "what stays together in a plan: a group, a file or a test"},
	{"floor", "the proved least finish: no plan ends sooner"},
	{"knee", "beyond this number of shards machines cost more than they save"},
	{"spread", "from the end of the first shard to that of the last"},
	{"culprit", "a test that leaves behind the state that makes the victim fail"},
	{"crossing", "one combination of the values that vary in the matrix"},
}

// helpLine is a line of the page of keys: a heading, or a key with what it does.
type helpLine struct {
	keyLine
	heading bool
}

// helpLines returns the lines of the page for the leg that is shown.
func (a *App) helpLines() []helpLine {
	var lines []helpLine
	add := func(heading string, part []keyLine) {
		if len(lines) > 0 {
			lines = append(lines, helpLine{})
		}
		lines = append(lines, helpLine{keyLine{"", heading}, true})
		for _, line := range part {
			lines = append(lines, helpLine{line, false})
		}
	}
	add("in "+a.legs[a.leg].name(), guides[a.leg])
	add("everywhere", everywhere)
	add("words", glossary)
	return lines
}

const (
	helpKey    = 9  // columns of the keys
	helpColumn = 76 // columns of a column of the page, at least
	helpShapes = 3  // rows of the shapes, with the air above them
)

// helpPages returns the lines of the page by screen and column.
func (a *App) helpPages(width, height int) (pages [][][]helpLine) {
	columns, rows := max(1, width/helpColumn), max(1, height-4-helpShapes) // one too small shows no page, but takes keys
	for column := range slices.Chunk(a.helpLines(), rows) {
		if n := len(pages); n == 0 || len(pages[n-1]) == columns {
			pages = append(pages, nil)
		}
		pages[len(pages)-1] = append(pages[len(pages)-1], column)
	}
	return pages
}

// drawHelp explains all keys of the leg and of the frame, the shapes and the words.
func (a *App) drawHelp(c canvas) {
	t := c.theme
	pages := a.helpPages(c.width, c.height)
	page := min(a.helpPage, len(pages)-1)
	c.text(2, 1, style{t.ink, true}, "Keys, words and shapes")
	wide := c.width / max(1, c.width/helpColumn)
	for i, column := range pages[page] {
		for y, line := range column {
			at := c.sub(2+i*wide, 3+y, wide-3, 1)
			if line.heading {
				at.text(0, 0, style{colour: t.fog}, line.does)
				continue
			}
			at.text(0, 0, style{colour: t.leaf}, line.key)
			at.text(helpKey, 0, style{colour: t.ink}, cut(line.does, at.width-helpKey))
		}
	}
	drawShapes(c, c.height-helpShapes)
	words := "any key goes back"
	if page < len(pages)-1 {
		words = "space shows the rest, any other key goes back"
	}
	c.text(2, c.height-1, style{colour: t.fog}, words)
}

// pressHelp takes a key while the page of keys is shown.
func (a *App) pressHelp(pressed string) {
	if pages := a.helpPages(a.width, a.height-topRows-bottomRows); pressed == "space" && a.helpPage < len(pages)-1 {
		a.helpPage++
		return
	}
	a.help, a.helpPage = false, 0
}

// drawShapes draws what the shapes mean, in two rows.
func drawShapes(c canvas, y int) {
	t, x := c.theme, 2
	draw := func(shape, word string, colour color.Color) {
		if x+width(word)+2 >= c.width {
			x, y = 2, y+1
		}
		x = c.text(x, y, style{colour, true}, shape)
		x = c.text(x+1, y, style{colour: t.fog}, word) + 2
	}
	for _, o := range run.Outcomes {
		draw(o.Shape(), string(o), t.outcome(o))
	}
	draw(runningSign, "running", t.water)
	draw("·", "waiting", t.fog)
	draw("◎", "victim", t.orchid)
	draw("●", "culprit", t.orchid)
}
