package tui

import (
	"image/color"
	"slices"

	"fernrelay/core/run"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
)

// everywhere explains the keys that work in every leg.
var everywhere = []leg.KeyLine{
	{Key: "1-6", Does: "change legs"},
	{Key: "/", Does: "edits the pick: ↑↓ choose, tab completes, esc leaves it as it was"},
	{Key: "?", Does: "shows this page"},
	{Key: "q", Does: "quits, and asks first while something runs; ctrl-c stops and quits"},
	{Key: "mouse", Does: "a click chooses what it is on, also a leg; the wheel scrolls"},
}

// glossary explains the words of the screens that are not everyday ones.
var glossary = []leg.KeyLine{
	{Key: "unit", Does: "what stays together in a plan: a group, a file or a test"},
	{Key: "floor", Does: "the proved least finish: no plan ends sooner"},
	{Key: "knee", Does: "beyond this number of shards machines cost more than they save"},
	{Key: "spread", Does: "from the end of the first shard to that of the last"},
	{Key: "culprit", Does: "a test that leaves behind the state that makes the victim fail"},
	{Key: "crossing", Does: "one combination of the values that vary in the matrix"},
}

// helpLine is a line of the page of keys: a heading, or a key with what it does.
type helpLine struct {
	leg.KeyLine
	heading bool
}

// helpLines returns the lines of the page for the leg that is shown.
func (a *App) helpLines() []helpLine {
	var lines []helpLine
	add := func(heading string, part []leg.KeyLine) {
		if len(lines) > 0 {
			lines = append(lines, helpLine{})
		}
		lines = append(lines, helpLine{leg.KeyLine{Key: "", Does: heading}, true})
		for _, line := range part {
			lines = append(lines, helpLine{line, false})
		}
	}
	add("in "+a.legs[a.leg].Name(), a.legs[a.leg].Guide())
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
func (a *App) drawHelp(c screen.Canvas) {
	t := c.Theme
	pages := a.helpPages(c.Width, c.Height)
	page := min(a.helpPage, len(pages)-1)
	c.Text(2, 1, screen.Style{Colour: t.Ink, Bold: true}, "Keys, words and shapes")
	wide := c.Width / max(1, c.Width/helpColumn)
	for i, column := range pages[page] {
		for y, line := range column {
			at := c.Sub(2+i*wide, 3+y, wide-3, 1)
			if line.heading {
				at.Text(0, 0, screen.Style{Colour: t.Fog}, line.Does)
				continue
			}
			at.Text(0, 0, screen.Style{Colour: t.Leaf}, line.Key)
			at.Text(helpKey, 0, screen.Style{Colour: t.Ink}, screen.Cut(line.Does, at.Width-helpKey))
		}
	}
	drawShapes(c, c.Height-helpShapes)
	words := "any key goes back"
	if page < len(pages)-1 {
		words = "space shows the rest, any other key goes back"
	}
	c.Text(2, c.Height-1, screen.Style{Colour: t.Fog}, words)
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
func drawShapes(c screen.Canvas, y int) {
	t, x := c.Theme, 2
	draw := func(shape, word string, colour color.Color) {
		if x+screen.Width(word)+2 >= c.Width {
			x, y = 2, y+1
		}
		x = c.Text(x, y, screen.Style{Colour: colour, Bold: true}, shape)
		x = c.Text(x+1, y, screen.Style{Colour: t.Fog}, word) + 2
	}
	for _, o := range run.Outcomes {
		draw(o.Shape(), string(o), t.Outcome(o))
	}
	draw(screen.RunningSign, "running", t.Water)
	draw("·", "waiting", t.Fog)
	draw("◎", "victim", t.Orchid)
	draw("●", "culprit", t.Orchid)
}
