package tui

import (
	"fmt"
	"image/color"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/internal/report"
	"fernrelay/internal/wording"
)

// drawCard draws the facts about the test under the cursor.
func (v ledgerView) drawCard(c canvas) {
	t := c.theme
	test, ok := v.current()
	if !ok {
		return
	}
	f := &v.past.Figures[test]
	group, name := groupAndName(v.past.History.IDs[test])
	share := ""
	if f.Ran > 0 {
		share = wording.Percent(f.Seconds/max(v.past.Work, 1e-9)) + " of all work"
	}
	c.right(c.width, 0, style{colour: t.fog}, share)
	rows := drawName(c, group, name, width(share)+2)
	c = c.sub(0, rows-1, c.width, c.height-rows+1)
	if f.Ran == 0 {
		c.text(0, 2, style{colour: t.fog}, "it did not come to an end in any of these runs")
		return
	}
	known := v.card
	if known != nil && known.ID != v.past.History.IDs[test] {
		known = nil // it is on its way
	}
	drawRate(c, 2, f, known)
	switch {
	case known != nil && known.Caught != nil:
		caught := fmt.Sprintf("caught in hunt %d", known.Caught.Number)
		how := strings.TrimPrefix(report.Sentence(*known.Caught.Finding), name+" ") // the name is shown above
		c.text(0, 5, style{colour: t.orchid}, cut(how, c.width-width(caught)-2))
		c.right(c.width, 5, style{colour: t.fog}, caught)
	case f.Flips > 2:
		c.text(c.text(0, 5, style{colour: t.leaf}, "H"), 5, style{colour: t.fog}, " hunts it: it may depend on what runs before it")
	}
	v.drawTimes(c, 7, test, f)
	if known != nil {
		drawSince(c, 9, known)
	}
}

// drawRate draws how often a test passes, how that changes, and how flaky it is.
func drawRate(c canvas, y int, f *history.Figures, known *history.Card) {
	t := c.theme
	x := c.text(0, y, style{colour: t.ink}, fmt.Sprintf("%d of %d passed", f.Ran-f.Bad, f.Ran))
	rate := style{colour: t.leaf}
	if f.Rate < 0.9 {
		rate.colour = t.rust
	}
	words := wording.Percent(f.Rate)
	if known != nil {
		words += report.Earlier(known)
	}
	c.text(x+3, y, rate, cut(words, c.width-x-3))
	words = "always the same outcome"
	if f.Flips > 0 {
		words = fmt.Sprintf("%s of outcome; it changes in %s of all runs", wording.Plural(f.Flips, "change"), report.Between(f.Flaky))
	}
	c.text(0, y+1, style{colour: t.fog}, cut(words, c.width))
}

// drawSince draws since when a test fails.
func drawSince(c canvas, y int, known *history.Card) {
	t := c.theme
	line := func(label string, k *run.Record) {
		if k != nil {
			c.text(c.text(0, y, style{colour: t.fog}, label), y, style{colour: t.ink}, report.RunName(k))
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
func (v ledgerView) drawTimes(c canvas, y, test int, f *history.Figures) {
	t := c.theme
	words := history.Short(f.Seconds)
	look := style{colour: t.ink}
	if change := wording.TimeChange(f.Seconds, f.Before); f.Changed >= 0 && change != "" {
		words += ", " + change
		look.colour = t.amber
	}
	const left = 6
	c.text(0, y, style{colour: t.fog}, "time")
	past := v.past.History.Past(test)
	room := min(len(past), c.width-left-width(words)-3)
	from := len(past) - room
	most := float32(1e-9)
	for _, cell := range past[from:] {
		most = max(most, cell.Seconds)
	}
	for i, cell := range past[from:] {
		o := cell.Outcome()
		if o == "" || o == run.Skipped || o == run.Lost {
			continue
		}
		colour := color.Color(t.mix(t.leaf, 0.7))
		if f.Changed >= 0 && from+i >= f.Changed {
			colour = t.amber
		}
		c.text(left+i, y, style{colour: colour}, string([]rune("▁▂▃▄▅▆▇█")[min(7, int(8*cell.Seconds/most))]))
	}
	c.text(left+room+2, y, look, words)
}
