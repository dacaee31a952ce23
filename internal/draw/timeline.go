package draw

import (
	"image/color"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/wording"
)

var outcomeColours = map[run.Outcome]color.NRGBA{
	run.Passed: leaf, run.Failed: rust, run.Errored: rust, run.TimedOut: rust,
	run.Skipped: fog, run.Owed: amber, run.Surprise: amber, run.Lost: fog,
}

const (
	margin       = 28.0
	trackLeft    = 92.0
	machineWidth = 46.0 // of a name of one, before the number of its worker
	trackTop     = 86.0
	trackHeight  = 26.0
	trackGap     = 10.0
	pageWidth    = 842.0 // A4 lying, in points
	pageHeight   = 595.0
)

// Timeline draws a run: a track a worker on one time axis, every test to scale
// in the colour of its outcome.
func Timeline(title string, run *run.Run) Drawing {
	workers := 1
	for _, r := range run.Results {
		workers = max(workers, r.Worker)
	}
	bottom := trackTop + float64(workers)*(trackHeight+trackGap)
	return Drawing{Width: pageWidth, Height: bottom + 70, paint: func(p *page) {
		p.text(margin, 36, 15, true, fromLeft, ink, title)
		first, wall := run.FirstProcess(), run.Wall()
		p.text(margin, 56, 10, false, fromLeft, fog, run.Summary()+"; "+history.ClockTenths(wall)+" in all")
		scale := (pageWidth - margin - trackLeft) / max(wall, 1e-3)
		timeAxis(p, wall, scale, bottom)
		for w := 1; w <= workers; w++ {
			y := trackTop + float64(w-1)*(trackHeight+trackGap)
			place := run.PlaceOf(w)
			place.Machine = fits(plain.Line(place.Machine), 10, machineWidth)
			p.text(margin, y+trackHeight*0.65, 10, false, fromLeft, fog, place.Label())
		}
		drawn := map[int]float64{} // by worker: the end of the last block
		for i, r := range run.Results {
			if r.Worker == 0 || r.Started.IsZero() {
				continue
			}
			end := r.Ended.Sub(first).Seconds() * scale
			if !r.Outcome.Bad() && end < drawn[r.Worker]+thinnest {
				continue // many short ones would be invisible
			}
			drawn[r.Worker] = end
			block(p, r, i, r.Started.Sub(first).Seconds(), scale)
		}
		legend(p, run, bottom+48)
	}}
}

// thinnest is the width of a block, in points, below which not every one is drawn.
const thinnest = 0.5

// block draws the result of a test that began at a time, in seconds.
func block(p *page, r *run.Result, at int, began, scale float64) {
	x := trackLeft + max(0, began)*scale
	y := trackTop + float64(r.Worker-1)*(trackHeight+trackGap)
	width := max(r.Ended.Sub(r.Started).Seconds()*scale, 0.4)
	amount := 0.62
	if at%2 == 1 {
		amount = 0.44 // so that neighbours differ
	}
	c := outcomeColours[r.Outcome]
	if r.Outcome.Bad() {
		amount = 1
	}
	p.rect(x, y, max(width-0.5, 0.4), trackHeight, mixed(c, amount))
	if r.Outcome.Bad() {
		p.triangle(x+width/2, y-4, 3.2, c)
	}
	_, name, _ := strings.Cut(r.ID, "#")
	if label := fits(plain.Line(name), 9, width-6); label != "" {
		text := ink
		if amount > 0.5 {
			text = white
		}
		p.text(x+3, y+trackHeight*0.62, 9, false, fromLeft, text, label)
	}
}

// mostTicks is how many steps an axis has at most.
const mostTicks = 12

// timeAxis draws ticks at round times.
func timeAxis(p *page, wall, scale, bottom float64) {
	for _, tick := range wording.Ticks(wall, mostTicks) {
		x := trackLeft + tick.Seconds*scale
		p.line(x, trackTop-12, x, bottom, 0.4, mixed(fog, 0.4))
		p.text(x, bottom+13, 9, false, centred, fog, tick.Label)
	}
	p.text(trackLeft, bottom+26, 9, false, fromLeft, fog, "time since the first test began")
}

func legend(p *page, r *run.Run, y float64) {
	x := trackLeft
	for _, o := range run.Outcomes {
		if r.Counts[o] == 0 {
			continue
		}
		p.rect(x, y-7, 8, 8, mixed(outcomeColours[o], 0.62))
		if o.Bad() {
			p.rect(x, y-7, 8, 8, outcomeColours[o])
		}
		label := digits(r.Counts[o]) + " " + string(o)
		p.text(x+13, y, 9, false, fromLeft, ink, label)
		x += 28 + fontOf(false).width(label, 9)
	}
}
