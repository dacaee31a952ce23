package tui

import (
	"cmp"
	"fmt"
	"image/color"
	"math"
	"path"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/hunt"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/draw"
	"fernrelay/internal/report"
	"fernrelay/internal/wording"
)

const victimsWidth = 37 // columns

// victimsShown is how many victims are listed in some rows.
func victimsShown(rows int) int { return max(1, (rows-2)/2) }

func (v huntView) drawVictims(c canvas) {
	t := c.theme
	c.text(1, 0, style{colour: t.fog}, "victims")
	for i := v.top; i < min(len(v.hunts), v.top+victimsShown(c.height)); i++ {
		h := v.hunts[i]
		y := 2 + 2*(i-v.top)
		shape, words, colour := v.verdict(h)
		words = cut(words, c.width-4)
		c.text(1, y, style{colour: colour}, shape)
		c.text(3, y, style{t.ink, i == v.at}, cutMiddle(plain.Line(h.victim.Name), c.width-4))
		c.text(3, y+1, style{colour: t.fog}, cutGroup(plain.Line(h.victim.GroupLabel()), c.width-6-width(words)))
		c.right(c.width-1, y+1, style{colour: colour}, words)
		if i == v.at {
			c.selectRow(0, y, c.width, 2)
		}
	}
}

// doing says what a hunt without a verdict does now.
func (v huntView) doing(h *liveHunt) string {
	switch {
	case h.err != nil || h.ended:
		return "interrupted"
	case len(h.progress.Records) == 0:
		return cmp.Or(plain.Line(h.progress.Preparing), "preparing")
	}
	return fmt.Sprintf("trial %d", len(h.progress.Records))
}

// drawFrond draws the stem with one row per cut. On the left is the part that the trial ran, on the right the part
// that it left out; the part with the culprit is filled, and the victim's outcome is beside the part that ran.
func (v huntView) drawFrond(c canvas, h *liveHunt) {
	t := c.theme
	stem := c.width / 2
	name := plain.Line(h.victim.Name)
	x := max(0, stem-width(name)/2-1)
	x = c.text(x, 0, style{t.orchid, true}, "◎")
	c.text(x+1, 0, style{t.ink, true}, cutMiddle(name, c.width-x-1))
	v.drawFirst(c, stem, h)

	halvings, most := draw.Halvings(h.progress.Records)
	step := 2
	if c.height < 5+2*len(halvings)+6 {
		step = 1
	}
	room := max(1, (c.height-8)/step)
	skipped := max(0, len(halvings)-room)
	y := 3
	for i, r := range halvings[skipped:] {
		v.drawLeaves(c, y, stem, r, most, float64(i+skipped)/float64(len(halvings)))
		for below := range step {
			c.text(stem, y+below, style{t.leaf, true}, "┃")
		}
		y += step
	}
	v.drawTip(c, y, stem, h)
}

// firstPart is trials before the first cut that are drawn as one: of how many each has an outcome, and how many run.
type firstPart struct {
	words   string
	shown   []run.Outcome // in the order in which they were first seen; "" for those that run
	numbers map[run.Outcome]int
}

func (p *firstPart) add(o run.Outcome) {
	if p.numbers == nil {
		p.numbers = map[run.Outcome]int{}
	}
	if p.numbers[o]++; p.numbers[o] == 1 {
		p.shown = append(p.shown, o)
	}
}

// results returns the shapes of the outcomes, each with its number if there are several trials.
func (p *firstPart) results() (words []string) {
	for _, o := range p.shown {
		shape := o.Shape()
		if o == "" {
			shape = "▸"
		}
		if n := p.numbers[o]; n > 1 || len(p.shown) > 1 {
			shape += fmt.Sprint(n)
		}
		words = append(words, shape)
	}
	return words
}

// firstParts returns the trials before the first cut.
func firstParts(records []hunt.Record) []*firstPart {
	var parts []*firstPart
	alone, each, tried := &firstPart{words: "alone"}, &firstPart{}, 0
	for _, r := range records {
		switch r.Purpose {
		case hunt.Each: // in one part, as there may be hundreds, of which the latest shows
			if tried++; tried == 1 {
				parts = append(parts, each)
			}
			*each = firstPart{words: "right after " + wording.Plural(tried, "test")}
			each.add(r.Outcome)
		case hunt.Alone: // a victim whose company takes long runs alone many times
			if len(alone.shown) == 0 {
				parts = append(parts, alone)
			}
			alone.add(r.Outcome)
		case hunt.Company, hunt.Rest:
			company := &firstPart{words: "after " + wording.Plural(r.Ran, "other")}
			company.add(r.Outcome)
			parts = append(parts, company)
		}
	}
	return parts
}

// drawFirst draws the trials before the first cut.
func (v huntView) drawFirst(c canvas, stem int, h *liveHunt) {
	t := c.theme
	parts := firstParts(h.progress.Records)
	total := 0
	for _, p := range parts {
		total += width(p.words) + 3
		for _, words := range p.results() {
			total += width(words) + 1
		}
	}
	x := max(0, stem-total/2+1)
	for _, p := range parts {
		x = c.text(x, 1, style{colour: t.fog}, p.words)
		for i, words := range p.results() {
			look := style{t.outcome(p.shown[i]), true}
			if p.shown[i] == "" {
				look.colour = t.water
			}
			x = c.text(x+1, 1, look, words)
		}
		x += 3
	}
}

func (v huntView) drawLeaves(c canvas, y, stem int, r hunt.Record, most int, depth float64) {
	t := c.theme
	room := stem - 8
	size := func(n int) int { return max(width(fmt.Sprint(n))+2, room*n/max(most, 1)) }
	left, right := size(r.Ran), size(r.LeftOut)
	ran, out := 0.1+0.5*r.Share, 0.1+0.5*(1-r.Share) // how much each is suspected, until it is known
	switch {
	case !r.Told:
	case r.Shows:
		ran, out = 0.45+0.4*depth, 0
	default:
		ran, out = 0, 0.45+0.4*depth
	}
	part := func(x, w int, amount float64) style {
		if amount == 0 {
			c.fill(x, y, w, 1, t.fog, 0.16)
			return style{colour: t.fog}
		}
		c.fill(x, y, w, 1, t.orchid, amount)
		return style{t.ink, true}
	}
	look := part(stem-1-left, left, ran)
	c.right(stem-2, y, look, fmt.Sprint(r.Ran))
	uneven := math.Abs(r.Share-float64(r.Ran)/float64(r.Ran+r.LeftOut)) > 0.02 // else the size says it
	if share := fmt.Sprintf("%.0f %% suspected", 100*r.Share); uneven && stem-left-6 > 6+width(share) {
		c.text(6, y, style{colour: t.fog}, share)
	}
	look = part(stem+2, right, out)
	c.text(stem+3, y, look, fmt.Sprint(r.LeftOut))
	c.right(3, y, style{colour: t.faint()}, fmt.Sprint(r.Number))
	mark, tint := "▸", color.Color(t.water)
	if r.Told {
		mark, tint = r.Outcome.Shape(), t.outcome(r.Outcome)
	}
	c.text(stem-left-4, y, style{tint, true}, mark)
}

// drawTip draws the result at the end of the stem, and what it cost.
func (v huntView) drawTip(c canvas, y, stem int, h *liveHunt) {
	t, f := c.theme, h.progress.Finding
	if h.progress.Err != nil {
		c.text(2, y+1, style{colour: t.amber}, cut(plain.Line(h.progress.Err.Error()), c.width-2))
	}
	if f.Verdict == "" {
		c.text(stem, y, style{t.water, true}, "▸")
		return
	}
	if len(f.Culprits) > 0 {
		for _, id := range f.Culprits[0] {
			group, name := groupAndName(id)
			c.text(stem, y, style{t.orchid, true}, "●")
			x := c.text(stem+2, y, style{t.orchid, true}, cut(name, c.width-stem-2))
			c.text(x+1, y, style{colour: t.fog}, cut(group, c.width-x-1))
			y++
		}
	}
	words := fmt.Sprintf("%s, %s", wording.Plural(f.Trials, "trial"), history.ClockTenths(f.Seconds))
	c.text(max(0, stem-width(words)/2), y+1, style{colour: t.fog}, words)
	y += 3
	for note := range strings.Lines(h.progress.Note) {
		for _, line := range wrap(plain.Line(strings.TrimSpace(note)), c.width-4) {
			c.text(2, y, style{colour: t.amber}, line)
			y++
		}
	}
}

// drawCard draws the verdict: how sure it is, the state left behind, the
// shortest order that shows it.
func (v huntView) drawCard(c canvas, h *liveHunt) {
	t, f := c.theme, h.progress.Finding
	if f.Verdict == "" {
		c.text(0, 0, style{t.water, true}, v.doing(h))
		words := "the verdict will be here"
		switch {
		case h.ended:
			words = "enter continues it"
		case h.progress.Resumed > 0:
			words = "it went on after " + wording.Plural(h.progress.Resumed, "trial")
		}
		c.text(0, 2, style{colour: t.fog}, words)
		return
	}
	colour := t.orchid
	if len(f.Culprits) == 0 {
		colour = t.amber
	}
	if h.mended() {
		colour = t.leaf
	}
	c.text(0, 0, style{colour, true}, report.Verdict(f))
	y := 2
	for _, line := range wrap(report.Sentence(f), c.width) {
		c.text(0, y, style{t.ink, true}, line)
		y++
	}
	if remedy := report.Remedy(f); remedy != "" && !h.mended() {
		for _, line := range wrap(remedy, c.width) {
			c.text(0, y, style{colour: t.ink}, line)
			y++
		}
	}
	y++
	y = v.drawEvidence(c, y, report.Company(f), f.With)
	y = v.drawEvidence(c, y, "alone", f.Without)
	if f.Chance > 0 && len(f.Culprits) > 0 {
		for _, line := range wrap(report.Doubt(f), c.width) {
			c.text(0, y, style{colour: t.fog}, line)
			y++
		}
	}
	y++
	y = v.drawChanged(c, y, f, c.height-y < 6+4*min(len(f.Changed), 2)+len(f.Order))
	if len(f.Order) < 2 || y+2+len(f.Order) > c.height {
		return
	}
	c.text(0, y, style{colour: t.fog}, "shortest order that shows it")
	for i, id := range f.Order {
		_, short, _ := strings.Cut(plain.Line(id), ":")
		c.text(0, y+2+i, style{colour: t.ink}, cut(short, c.width))
	}
	if at := y + 3 + len(f.Order); at < c.height {
		c.text(c.text(0, at, style{colour: t.leaf}, "c"), at, style{colour: t.fog}, " copies a command that runs it")
	}
}

// drawChanged draws the state left behind, one line each if there is little room.
func (v huntView) drawChanged(c canvas, y int, f hunt.Finding, tight bool) int {
	t, changes := c.theme, f.Changed
	if len(changes) == 0 || y >= c.height {
		return y
	}
	fresh, left := style{colour: t.leaf}, style{colour: t.rust}
	if f.Verdict == hunt.Brittle { // the rest is what it needs
		fresh, left = left, fresh
	}
	c.text(0, y, style{colour: t.fog}, "state left behind")
	rows, least := 4, 4
	if y++; tight {
		rows, least = 1, 0
	} else {
		y++
	}
	for n, change := range changes {
		if y+rows > c.height-least && n > 0 {
			c.text(0, y, style{colour: t.fog}, "… and "+wording.Plural(len(changes)-n, "other"))
			return y + 2
		}
		before, after := report.Differing(change)
		before, after = cmp.Or(before, "(empty)"), cmp.Or(after, "(empty)")
		x := c.text(0, y, style{t.ink, true}, cut(plain.Line(change.Full()), c.width-24)) + 2
		if tight {
			x = c.text(x, y, fresh, cut(before, (c.width-x)/3))
			x = c.text(x+1, y, style{colour: t.fog}, "→")
			x = c.text(x+1, y, left, cut(after, (c.width-x)/2)) + 2
		} else {
			if change.Kind != hunt.Variable {
				x = c.text(x, y, style{colour: t.fog}, change.Kind) + 2
			}
			c.text(2, y+1, style{colour: t.fog}, "fresh")
			c.text(9, y+1, fresh, cut(before, c.width-9))
			c.text(2, y+2, style{colour: t.fog}, "after")
			c.text(9, y+2, left, cut(after, c.width-9))
		}
		if change.Proved {
			x = c.text(x, y, style{colour: t.leaf}, cut("proved", c.width-x)) + 2
		}
		if change.File != "" {
			c.right(c.width, y, style{colour: t.fog}, cut(fmt.Sprintf("%s:%d", path.Base(plain.Line(change.File)), change.Line), c.width-x))
		}
		y += rows
	}
	if tight {
		y++
	}
	return y
}

func (v huntView) drawEvidence(c canvas, y int, label string, times hunt.Times) int {
	t := c.theme
	if times.Runs == 0 || y >= c.height {
		return y
	}
	c.text(0, y, style{colour: t.fog}, label)
	words := fmt.Sprintf("%d of %d failed", times.Failed, times.Runs)
	shown, failed := times.Runs, times.Failed
	if room := max(2, (c.width-14-width(words)-1)/2); shown > room { // in proportion, and neither outcome is dropped
		shown, failed = room, (failed*room+times.Runs/2)/times.Runs
		if times.Failed > 0 {
			failed = max(failed, 1)
		}
		if times.Failed < times.Runs {
			failed = min(failed, room-1)
		}
	}
	x := 14
	for i := range shown {
		o := run.Passed
		if i < failed {
			o = run.Failed
		}
		x = c.text(x, y, style{colour: t.outcome(o)}, o.Shape()+" ")
	}
	c.right(c.width, y, style{colour: t.ink}, words)
	return y + 1
}
