package draw

import (
	"fmt"
	"strconv"
	"strings"

	"fernrelay/core/hunt"
	"fernrelay/core/plain"
)

const (
	frondTop  = 118.0
	frondRow  = 30.0
	stemLeft  = 300.0
	leafWidth = 220.0 // of the largest part
)

// Frond draws a hunt: the stem goes down one row per cut, on the left and right are the two parts of the suspects
// to scale, and the part that still shows is filled.
//
//	     ran        ┃  left out
//	░░░░░░░░░░░░░░░░┃████████████████     it passed: the culprit is among those left out
//	        ████████┃░░░░░░░░             it failed: it is among those that ran
//	                ● the culprit
func Frond(finding hunt.Finding, records []hunt.Record) Drawing {
	halvings, most := Halvings(records)
	tip := frondTop + float64(len(halvings))*frondRow
	side := 150 + 15*float64(len(finding.Changed))
	return Drawing{Width: pageWidth, Height: max(tip+90, frondTop+side), paint: func(p *page) {
		p.text(margin, 36, 15, true, fromLeft, ink, "Hunt of "+plain.Line(finding.ID))
		p.text(margin, 56, 10, false, fromLeft, fog,
			fmt.Sprintf("%d trials in %.1f s; left the part that was run, right the part left out, filled the part with the culprit", finding.Trials, finding.Seconds))
		p.text(stemLeft, frondTop-22, 11, true, centred, orchid, shortID(finding.ID))
		p.line(stemLeft, frondTop-14, stemLeft, tip, 1.6, leaf)
		for i, r := range halvings {
			leaves(p, r, i, most)
		}
		tips(p, finding, tip+12)
		verdict(p, finding)
	}}
}

// Halvings returns the trials that cut the suspects, and the size of the largest part.
func Halvings(records []hunt.Record) (halvings []hunt.Record, most int) {
	for _, r := range records {
		if r.Purpose == hunt.Halve && r.LeftOut > 0 {
			halvings = append(halvings, r)
			most = max(most, r.Ran, r.LeftOut)
		}
	}
	return halvings, most
}

func leaves(p *page, r hunt.Record, row int, most int) {
	y := frondTop + float64(row)*frondRow
	scale := leafWidth / float64(most)
	ran, leftOut := mixed(fog, 0.2), mixed(fog, 0.2)
	depth := 0.45 + 0.5*float64(row)/float64(row+3)
	switch {
	case !r.Done:
	case r.Shows:
		ran = mixed(orchid, depth)
	default:
		leftOut = mixed(orchid, depth)
	}
	left, right := max(float64(r.Ran)*scale, 10), max(float64(r.LeftOut)*scale, 10)
	p.rect(stemLeft-6-left, y, left, 16, ran)
	p.rect(stemLeft+6, y, right, 16, leftOut)
	p.text(stemLeft-9, y+11.5, 9, false, fromRight, ink, digits(r.Ran))
	p.text(stemLeft+9, y+11.5, 9, false, fromLeft, ink, digits(r.LeftOut))
	p.text(margin, y+11.5, 9, false, fromLeft, fog, digits(r.Number))
	if r.Done && r.Outcome.Bad() {
		p.triangle(stemLeft-left-16, y+8, 4, rust)
	} else if r.Done {
		p.rect(stemLeft-left-19, y+5, 6, 6, leaf)
	}
}

func tips(p *page, f hunt.Finding, y float64) {
	if len(f.Culprits) == 0 {
		return
	}
	for i, id := range f.Culprits[0] {
		at := y + float64(i)*16
		p.disc(stemLeft, at, 4, orchid)
		p.text(stemLeft+12, at+4, 11, true, fromLeft, orchid, fits(plain.Line(id), 11, leafWidth))
	}
}

// verdict writes what the hunt concluded, to the right of the frond.
func verdict(p *page, f hunt.Finding) {
	x, y := stemLeft+leafWidth+60, frondTop-22
	width := pageWidth - margin - x
	p.text(x, y, 13, true, fromLeft, orchid, string(f.Verdict))
	line := func(text string) {
		y += 17
		p.text(x, y, 10, false, fromLeft, ink, fits(text, 10, width))
	}
	if f.With.Runs > 0 {
		line(fmt.Sprintf("in company %d of %d failed", f.With.Failed, f.With.Runs))
	}
	if f.Reported == nil {
		line(fmt.Sprintf("alone %d of %d failed", f.Without.Failed, f.Without.Runs))
	} else {
		line("found elsewhere, as " + plain.Line(f.Reported.In) + " says")
	}
	if len(f.Cleaners) > 0 {
		line("unless between them runs " + plain.Line(strings.Join(f.Cleaners, ", ")))
	}
	for _, c := range f.Changed {
		y += 8
		words := c.Kind + " " + c.Full()
		if c.File != "" {
			words += fmt.Sprintf(", %s:%d", c.File, c.Line)
		}
		if c.Proved {
			words += ", proved"
		}
		line(plain.Line(words))
		before, after := c.Before, c.After
		if c.Part != nil {
			before, after = c.Part.Before, c.Part.After
		}
		line(plain.Line("  fresh  " + before))
		line(plain.Line("  after  " + after))
	}
}

func shortID(id string) string {
	_, name, _ := strings.Cut(id, "#")
	return plain.Line(name)
}

func digits(n int) string { return strconv.Itoa(n) }
