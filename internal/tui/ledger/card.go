package ledger

import (
	"fmt"
	"image/color"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/internal/report"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
)

// drawCard draws the facts about the test under the cursor.
func (v View) drawCard(c screen.Canvas) {
	t := c.Theme
	test, ok := v.current()
	if !ok {
		return
	}
	f := &v.Past.Figures[test]
	group, name := leg.GroupAndName(v.Past.History.IDs[test])
	share := ""
	if f.Ran > 0 {
		share = wording.Percent(f.Seconds/max(v.Past.Work, 1e-9)) + " of all work"
	}
	c.Right(c.Width, 0, screen.Style{Colour: t.Fog}, share)
	rows := screen.DrawName(c, group, name, screen.Width(share)+2)
	c = c.Sub(0, rows-1, c.Width, c.Height-rows+1)
	if f.Ran == 0 {
		c.Text(0, 2, screen.Style{Colour: t.Fog}, "it did not come to an end in any of these runs")
		return
	}
	known := v.Card
	if known != nil && known.ID != v.Past.History.IDs[test] {
		known = nil // it is on its way
	}
	drawRate(c, 2, f, known)
	switch {
	case known != nil && known.Caught != nil:
		caught := fmt.Sprintf("caught in hunt %d", known.Caught.Number)
		how := strings.TrimPrefix(report.Sentence(*known.Caught.Finding), name+" ") // the name is shown above
		c.Text(0, 5, screen.Style{Colour: t.Orchid}, screen.Cut(how, c.Width-screen.Width(caught)-2))
		c.Right(c.Width, 5, screen.Style{Colour: t.Fog}, caught)
	case f.Flips > 2:
		c.Text(c.Text(0, 5, screen.Style{Colour: t.Leaf}, "H"), 5, screen.Style{Colour: t.Fog}, " hunts it: it may depend on what runs before it")
	}
	v.drawTimes(c, 7, test, f)
	if known != nil {
		drawSince(c, 9, known)
	}
}

// drawRate draws how often a test passes, how that changes, and how flaky it is.
func drawRate(c screen.Canvas, y int, f *history.Figures, known *history.Card) {
	t := c.Theme
	x := c.Text(0, y, screen.Style{Colour: t.Ink}, fmt.Sprintf("%d of %d passed", f.Ran-f.Bad, f.Ran))
	rate := screen.Style{Colour: t.Leaf}
	if f.Rate < 0.9 {
		rate.Colour = t.Rust
	}
	words := wording.Percent(f.Rate)
	if known != nil {
		words += report.Earlier(known)
	}
	c.Text(x+3, y, rate, screen.Cut(words, c.Width-x-3))
	words = "always the same outcome"
	if f.Flips > 0 {
		words = fmt.Sprintf("%s of outcome; it changes in %s of all runs", wording.Plural(f.Flips, "change"), report.Between(f.Flaky))
	}
	c.Text(0, y+1, screen.Style{Colour: t.Fog}, screen.Cut(words, c.Width))
}

// drawSince draws since when a test fails.
func drawSince(c screen.Canvas, y int, known *history.Card) {
	t := c.Theme
	line := func(label string, k *run.Record) {
		if k != nil {
			c.Text(c.Text(0, y, screen.Style{Colour: t.Fog}, label), y, screen.Style{Colour: t.Ink}, report.RunName(k))
			y++
		}
	}
	line("first failed  ", known.First)
	if known.LastBad >= 0 {
		line("last failed   ", known.Runs[known.LastBad])
	}
	line("last passed   ", known.Well)
}

// drawTimes draws the times of a test, run by run, with those from a change on marked.
func (v View) drawTimes(c screen.Canvas, y, test int, f *history.Figures) {
	t := c.Theme
	words := history.Short(f.Seconds)
	look := screen.Style{Colour: t.Ink}
	if change := wording.TimeChange(f.Seconds, f.Before); f.Changed >= 0 && change != "" {
		words += ", " + change
		look.Colour = t.Amber
	}
	const left = 6
	c.Text(0, y, screen.Style{Colour: t.Fog}, "time")
	past := v.Past.History.Past(test)
	room := min(len(past), c.Width-left-screen.Width(words)-3)
	drawColumns(c.Sub(left, y, room, 1), past, f.Changed)
	c.Text(left+room+2, y, look, words)
}

// drawColumns draws a column for each of the latest times, amber since the change.
func drawColumns(c screen.Canvas, past []history.Cell, change int) {
	t, from := c.Theme, len(past)-c.Width
	most := float32(1e-9)
	for _, cell := range past[from:] {
		most = max(most, cell.Seconds)
	}
	for i, cell := range past[from:] {
		o := cell.Outcome()
		if o == "" || o == run.Skipped || o == run.Lost {
			continue
		}
		colour := color.Color(t.Mix(t.Leaf, 0.7))
		if change >= 0 && from+i >= change {
			colour = t.Amber
		}
		c.Text(i, 0, screen.Style{Colour: colour}, string([]rune("▁▂▃▄▅▆▇█")[min(7, int(8*cell.Seconds/most))]))
	}
}
