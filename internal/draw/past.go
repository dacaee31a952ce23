package draw

import (
	"fmt"
	"math"

	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/internal/wording"
)

// What a drawing of the history shows at most.
const (
	historyTests = 60
	historyRow   = 14.0
	historyLeft  = 250.0
)

// drawHistory draws tests against runs, with the shape of its outcome in every cell.
//
// Columns are at most 12 points wide, and narrower if there are many runs, so that 100 runs still fit beside the names; the shapes shrink
// with them. Every so many columns the number of the run is above, as far as the digits do not touch.
func drawHistory(title string, p *history.Past, tests []int) Drawing {
	shown := tests[:min(len(tests), historyTests)]
	runs := len(p.Runs)
	pitch := math.Min(12, (pageWidth-historyLeft-margin-90)/float64(runs))
	top := 96.0
	bottom := top + historyRow*float64(len(shown))
	return Drawing{Width: pageWidth, Height: bottom + 60, paint: func(pg *page) {
		pg.text(margin, 36, 15, true, fromLeft, ink, title)
		pg.text(margin, 56, 10, false, fromLeft, fog, fmt.Sprintf("%d of %s; a column a run, the latest to the right", len(shown), wording.Plural(len(p.History.IDs), "test")))
		right := historyLeft + pitch*float64(runs)
		pg.text(right+44, top-12, 9, false, fromRight, fog, "passed")
		pg.text(right+86, top-12, 9, false, fromRight, fog, "time")
		for i := 0; i < runs; i += max(1, int(math.Ceil(24/pitch))) {
			pg.text(historyLeft+pitch*(float64(i)+0.5), top-12, 9, false, centred, fog, digits(p.Runs[i].Number))
		}
		for row, test := range shown {
			y := top + historyRow*float64(row)
			pg.text(margin, y+3, 9, false, fromLeft, ink, fits(wording.ShortID(p.History.IDs[test]), 9, historyLeft-margin-8))
			for run, cell := range p.History.Past(test) {
				shape(pg, historyLeft+pitch*(float64(run)+0.5), y, math.Min(3.2, pitch*0.42), cell.Outcome())
			}
			f := &p.Figures[test]
			pg.text(right+44, y+3, 9, false, fromRight, ink, wording.Percent(f.Rate))
			pg.text(right+86, y+3, 9, false, fromRight, ink, history.Short(f.Seconds))
		}
		x := historyLeft
		for _, o := range run.Outcomes {
			shape(pg, x, bottom+27, 3.2, o)
			label := string(o)
			pg.text(x+8, bottom+30, 9, false, fromLeft, ink, label)
			x += 22 + fontOf(false).width(label, 9)
		}
	}}
}

// shape draws the sign of an outcome with its middle at x, y.
func shape(p *page, x, y, size float64, o run.Outcome) {
	c := outcomeColours[o]
	hollow := func() { p.rect(x-size*0.55, y-size*0.55, size*1.1, size*1.1, white) }
	switch o {
	case "":
		p.rect(x-size*0.2, y-size*0.2, size*0.4, size*0.4, mixed(fog, 0.4))
	case run.Passed:
		p.rect(x-size*0.8, y-size*0.8, size*1.6, size*1.6, mixed(c, 0.62))
	case run.Skipped:
		p.rect(x-size*0.8, y-size*0.8, size*1.6, size*1.6, mixed(c, 0.62))
		hollow()
	case run.Failed:
		p.triangle(x, y, size, c)
	case run.Owed:
		p.triangle(x, y, size, c)
		p.triangle(x, y+size*0.1, size*0.5, white)
	case run.TimedOut:
		p.canvas.polygon([]point{{x, y + size}, {x + size, y - size*0.8}, {x - size, y - size*0.8}}, c)
	case run.Lost:
		p.line(x-size*0.7, y+size*0.7, x+size*0.7, y-size*0.7, 1, c)
	default: // errored, surprise
		p.canvas.polygon([]point{{x, y - size}, {x + size, y}, {x, y + size}, {x - size, y}}, c)
		if o == run.Surprise {
			p.rect(x-size*0.35, y-size*0.35, size*0.7, size*0.7, white)
		}
	}
}

// slowTests bounds the tests in the drawing of the slowest.
const slowTests = 40

// slowest draws the slowest of the tests as bars, with their share of all work.
func slowest(title string, p *history.Past, tests []int) Drawing {
	order := p.Order(history.ByTime, nil)
	among := make(map[int]bool, len(tests))
	for _, test := range tests {
		among[test] = true
	}
	var shown []int
	share := 0.0
	for _, test := range order {
		if f := &p.Figures[test]; among[test] && f.Seconds > 0 && len(shown) < slowTests {
			shown = append(shown, test)
			share += f.Seconds / max(p.Work, 1e-9)
		}
	}
	const top, row, left = 90.0, 15.0, 280.0
	bottom := top + row*float64(len(shown))
	return Drawing{Width: pageWidth, Height: bottom + 50, paint: func(pg *page) {
		pg.text(margin, 36, 15, true, fromLeft, ink, title)
		pg.text(margin, 56, 10, false, fromLeft, fog, fmt.Sprintf("the slowest: %s of all work in %s; in amber what takes longer than before", wording.Percent(share), wording.Plural(len(shown), "test")))
		if len(shown) == 0 {
			return
		}
		most := p.Figures[shown[0]].Seconds
		scale := (pageWidth - margin - left - 90) / most
		for _, tick := range wording.Ticks(most, mostTicks) {
			x := left + tick.Seconds*scale
			pg.line(x, top-12, x, bottom, 0.4, mixed(fog, 0.4))
			pg.text(x, bottom+12, 9, false, centred, fog, tick.Label)
		}
		pg.text(left, bottom+26, 9, false, fromLeft, fog, "time, the median of the latest runs")
		for i, test := range shown {
			f, y := &p.Figures[test], top+row*float64(i)
			c := mixed(leaf, 0.55)
			if f.Change() > 0 {
				c = mixed(amber, 0.7)
			}
			pg.text(left-8, y+4, 9, false, fromRight, ink, fits(wording.ShortID(p.History.IDs[test]), 9, left-margin-8))
			pg.rect(left, y-5, max(0.5, f.Seconds*scale), row-4, c)
			pg.text(left+f.Seconds*scale+5, y+4, 9, false, fromLeft, ink, history.Short(f.Seconds)+"  "+wording.TimeChange(f.Seconds, f.Before))
		}
	}}
}

// trend draws the work and the wall time of runs, one after the other.
func trend(title string, runs []*run.Record) Drawing {
	const top, height, left = 90.0, 260.0, 80.0
	bottom := top + height
	return Drawing{Width: pageWidth, Height: bottom + 70, paint: func(p *page) {
		p.text(margin, 36, 15, true, fromLeft, ink, title)
		p.text(margin, 56, 10, false, fromLeft, fog, "the work of all tests, and the wall time, run by run")
		most := 1e-9
		for _, k := range runs {
			most = max(most, k.Work, k.Wall())
		}
		for _, tick := range wording.Ticks(most, mostTicks) {
			y := bottom - height*tick.Seconds/most
			p.line(left, y, pageWidth-margin, y, 0.4, mixed(fog, 0.4))
			p.text(left-8, y+3, 9, false, fromRight, fog, tick.Label)
		}
		pitch := (pageWidth - margin - left) / float64(len(runs))
		wide := math.Min(24, pitch*0.7)
		for i, k := range runs {
			x := left + pitch*(float64(i)+0.5)
			p.rect(x-wide/2, bottom-height*k.Work/most, wide, height*k.Work/most, mixed(leaf, 0.55))
			if bad := run.CountBad(k.Counts); bad > 0 {
				p.triangle(x, bottom-height*k.Work/most-6, math.Min(3, pitch*0.4), rust)
			}
			if k.Wall() > 0 {
				p.rect(x-wide/2, bottom-height*k.Wall()/most-1, wide, 2, water)
			}
			if i%max(1, int(math.Ceil(26/pitch))) == 0 {
				p.text(x, bottom+13, 9, false, centred, fog, digits(k.Number))
			}
		}
		p.text(left, bottom+28, 9, false, fromLeft, fog, "run; on the left time")
		p.rect(left, bottom+40, 8, 8, mixed(leaf, 0.55))
		p.text(left+13, bottom+47, 9, false, fromLeft, ink, "work")
		p.rect(left+60, bottom+43, 12, 2, water)
		p.text(left+77, bottom+47, 9, false, fromLeft, ink, "wall time")
		p.triangle(left+150, bottom+44, 3, rust)
		p.text(left+158, bottom+47, 9, false, fromLeft, ink, "a test failed")
	}}
}
