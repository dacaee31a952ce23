package draw

import (
	"fmt"
	"image/color"
	"time"

	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/wording"
)

// Rows of a drawing of a matrix, in points.
const (
	matrixRow    = 19.0
	matrixBar    = 13.0
	explainedRow = 18.0
	mostNames    = 300.0 // that the values of crossings take
)

// Matrix draws what explains the failures of a matrix, and its crossings on one time axis: the start of services, tests, and
// failures where they happened.
func Matrix(title string, r *matrix.Results, x matrix.Explained) Drawing {
	lines := explainedLines(r, x)
	top := 66 + explainedRow*float64(len(lines)) + 40
	bottom := top + matrixRow*float64(len(r.Results))
	return Drawing{Width: pageWidth, Height: bottom + 86, paint: func(p *page) {
		passed, must := r.Counts()
		p.text(margin, 36, 15, true, fromLeft, ink, title)
		p.text(margin, 54, 10, false, fromLeft, fog, fmt.Sprintf("%d of %s that must pass passed", passed, wording.Plural(must, "crossing")))
		for i, line := range lines {
			p.text(margin, 78+explainedRow*float64(i), 11, true, fromLeft, line.colour, fits(line.text, 11, pageWidth-2*margin))
		}
		m := newMatrixPage(r, top, bottom)
		m.draw(p)
		if r.Then.Outcome != "" {
			p.text(margin, bottom+62, 9, false, fromLeft, fog, plain.Line(fmt.Sprintf("then %s: %s", r.Then.Command, string(r.Then.Outcome))))
		}
	}}
}

type colouredLine struct {
	text   string
	colour color.NRGBA
}

// explainedLines says which values explain the failures, a line each.
func explainedLines(r *matrix.Results, x matrix.Explained) (lines []colouredLine) {
	for i := range x.Explanations {
		lines = append(lines, colouredLine{x.Explanations[i].Text(&r.Matrix.Spec), rust})
	}
	if n := len(x.Flaky); n > 0 {
		lines = append(lines, colouredLine{wording.Plural(n, "flaky test") + " within a crossing", amber})
	}
	if n := len(x.Unexplained); n > 0 {
		lines = append(lines, colouredLine{wording.Plural(n, "test") + " failing in crossings that no values describe", rust})
	}
	if lines == nil {
		lines = append(lines, colouredLine{"no test failed", leaf})
	}
	return lines
}

// matrixPage is the crossings of a drawing.
type matrixPage struct {
	results     *matrix.Results
	top, bottom float64
	columns     []float64 // of the names that vary
	left        float64   // at which the time axis begins
	begins      []float64 // in seconds
	end, scale  float64
}

// wordsWidth is the room for the counts of a crossing.
const wordsWidth = 120.0

func newMatrixPage(r *matrix.Results, top, bottom float64) *matrixPage {
	m := &matrixPage{results: r, top: top, bottom: bottom, left: margin + 14}
	m.begins, m.end = r.Begins(time.Time{})
	for _, n := range r.Matrix.Spec.Names {
		wide := fontOf(false).width(n.Name, 9)
		for _, one := range r.Results {
			wide = max(wide, fontOf(false).width(plain.Line(one.Of[n.Name]), 9))
		}
		if m.left+wide > mostNames {
			break
		}
		m.columns = append(m.columns, m.left)
		m.left += wide + 12
	}
	m.left += 12 // for half of the axis' first label
	m.scale = (pageWidth - margin - wordsWidth - m.left) / max(m.end, 1e-3)
	return m
}

func (m *matrixPage) draw(p *page) {
	for i, x := range m.columns {
		p.text(x, m.top-10, 9, false, fromLeft, fog, plain.Line(m.results.Matrix.Spec.Names[i].Name))
	}
	for _, tick := range wording.Ticks(m.end, mostTicks) {
		x := m.left + tick.Seconds*m.scale
		p.line(x, m.top-6, x, m.bottom, 0.4, mixed(fog, 0.4))
		p.text(x, m.top-10, 9, false, centred, fog, tick.Label)
	}
	for i, one := range m.results.Results {
		m.crossing(p, i, one)
	}
	y := m.bottom + 18
	p.text(m.left, y, 9, false, fromLeft, fog, "time since the first crossing began")
	x := m.left
	for _, item := range []struct {
		label  string
		colour color.NRGBA
	}{{"start of services", mixed(amber, 0.4)}, {"tests", mixed(leaf, 0.55)}, {"a failure", rust}} {
		p.rect(x, y+12, 8, 8, item.colour)
		p.text(x+13, y+19, 9, false, fromLeft, ink, item.label)
		x += 28 + fontOf(false).width(item.label, 9)
	}
}

// crossing draws a crossing.
func (m *matrixPage) crossing(p *page, i int, one *matrix.Result) {
	y := m.top + matrixRow*float64(i)
	base := y + matrixBar*0.78
	look := ink
	if one.State == matrix.LeftOut {
		look = fog
	}
	for n, x := range m.columns {
		p.text(x, base, 9, false, fromLeft, look, plain.Line(one.Of[m.results.Matrix.Spec.Names[n].Name]))
	}
	if one.Outcome.Bad() {
		p.triangle(margin+4, y+matrixBar/2, 3.2, rust)
	}
	words := pageWidth - margin - wordsWidth + 8
	if one.Run == nil {
		p.text(m.left, base, 9, false, fromLeft, fog, fits(plain.Line(one.Why), 9, pageWidth-margin-m.left))
		return
	}
	m.bar(p, y, m.left+m.begins[i]*m.scale, one)
	text, tint := resultWords(one)
	p.text(words, base, 9, false, fromLeft, tint, fits(text, 9, wordsWidth))
}

// resultWords returns the words beside the bar of a crossing that ran, and their colour.
func resultWords(r *matrix.Result) (string, color.NRGBA) {
	words, tint := fmt.Sprintf("%s  %d passed", history.ClockTenths(r.Took(time.Time{})), r.Run.Counts[run.Passed]), fog
	if bad := run.CountBad(r.Run.Counts); bad > 0 {
		words, tint = fmt.Sprintf("%s, %d failed", words, bad), rust
	}
	if r.MayFail != "" {
		words += ", may fail"
	}
	return words, tint
}

// bar draws what a crossing did, from a place on.
func (m *matrixPage) bar(p *page, y, from float64, one *matrix.Result) {
	p.rect(from, y, max(1, one.Took(time.Time{})*m.scale), matrixBar, mixed(leaf, 0.55))
	ready := 0.0
	for _, s := range one.Run.Services {
		ready = max(ready, s.Ready)
	}
	if ready > 0 {
		p.rect(from, y, ready*m.scale, matrixBar, mixed(amber, 0.4))
	}
	drawn := 0.0 // many failures at one place are drawn once
	for _, result := range one.Run.Troubled() {
		x := from + result.Ended.Sub(one.Began).Seconds()*m.scale
		if x < drawn+thinnest {
			continue
		}
		drawn = x
		p.rect(x-1.5, y, 1.5, matrixBar, rust)
	}
}
