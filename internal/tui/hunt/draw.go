package hunt

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
	"fernrelay/internal/progress"
	"fernrelay/internal/report"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
)

const victimsWidth = 37 // columns

// victimsShown is how many victims are listed in some rows.
func victimsShown(rows int) int { return max(1, (rows-2)/2) }

func (v View) drawVictims(c screen.Canvas) {
	t := c.Theme
	c.Text(1, 0, screen.Style{Colour: t.Fog}, "victims")
	for i := v.top; i < min(len(v.Hunts), v.top+victimsShown(c.Height)); i++ {
		h := v.Hunts[i]
		y := 2 + 2*(i-v.top)
		shape, words, colour := v.verdict(h)
		words = screen.Cut(words, c.Width-4)
		c.Text(1, y, screen.Style{Colour: colour}, shape)
		c.Text(3, y, screen.Style{Colour: t.Ink, Bold: i == v.at}, screen.CutMiddle(plain.Line(h.Victim.Name), c.Width-4))
		c.Text(3, y+1, screen.Style{Colour: t.Fog}, screen.CutGroup(plain.Line(h.Victim.GroupLabel()), c.Width-6-screen.Width(words)))
		c.Right(c.Width-1, y+1, screen.Style{Colour: colour}, words)
		if i == v.at {
			c.SelectRow(0, y, c.Width, 2)
		}
	}
}

// doing says what a hunt without a verdict does now.
func (v View) doing(h *progress.Hunt) string {
	switch {
	case h.Err != nil || h.Ended:
		return "interrupted"
	case len(h.Progress.Records) == 0:
		return cmp.Or(plain.Line(h.Progress.Preparing), "preparing")
	}
	return fmt.Sprintf("trial %d", len(h.Progress.Records))
}

// drawFrond draws the stem with one row per cut. On the left is the part that the trial ran, on the right the part
// that it left out; the part with the culprit is filled, and the victim's outcome is beside the part that ran.
//
// If the cuts do not all fit, the first ones are left out: the last ones show where the hunt is. A row of air below each cut is
// dropped before that.
func (v View) drawFrond(c screen.Canvas, h *progress.Hunt) {
	t := c.Theme
	stem := c.Width / 2
	name := plain.Line(h.Victim.Name)
	x := max(0, stem-screen.Width(name)/2-1)
	x = c.Text(x, 0, screen.Style{Colour: t.Orchid, Bold: true}, "◎")
	c.Text(x+1, 0, screen.Style{Colour: t.Ink, Bold: true}, screen.CutMiddle(name, c.Width-x-1))
	v.drawFirst(c, stem, h)

	halvings, most := draw.Halvings(h.Progress.Records)
	step := 2
	if c.Height < 5+2*len(halvings)+6 {
		step = 1
	}
	room := max(1, (c.Height-8)/step)
	skipped := max(0, len(halvings)-room)
	y := 3
	for i, r := range halvings[skipped:] {
		v.drawLeaves(c, y, stem, r, most, float64(i+skipped)/float64(len(halvings)))
		for below := range step {
			c.Text(stem, y+below, screen.Style{Colour: t.Leaf, Bold: true}, "┃")
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
func (v View) drawFirst(c screen.Canvas, stem int, h *progress.Hunt) {
	t := c.Theme
	parts := firstParts(h.Progress.Records)
	total := 0
	for _, p := range parts {
		total += screen.Width(p.words) + 3
		for _, words := range p.results() {
			total += screen.Width(words) + 1
		}
	}
	x := max(0, stem-total/2+1)
	for _, p := range parts {
		x = c.Text(x, 1, screen.Style{Colour: t.Fog}, p.words)
		for i, words := range p.results() {
			look := screen.Style{Colour: t.Outcome(p.shown[i]), Bold: true}
			if p.shown[i] == "" {
				look.Colour = t.Water
			}
			x = c.Text(x+1, 1, look, words)
		}
		x += 3
	}
}

func (v View) drawLeaves(c screen.Canvas, y, stem int, r hunt.Record, most int, depth float64) {
	t := c.Theme
	room := stem - 8
	size := func(n int) int { return max(screen.Width(fmt.Sprint(n))+2, room*n/max(most, 1)) }
	left, right := size(r.Ran), size(r.LeftOut)
	ran, out := 0.1+0.5*r.Share, 0.1+0.5*(1-r.Share) // how much each is suspected, until it is known
	switch {
	case !r.Done:
	case r.Shows:
		ran, out = 0.45+0.4*depth, 0
	default:
		ran, out = 0, 0.45+0.4*depth
	}
	part := func(x, w int, amount float64) screen.Style {
		if amount == 0 {
			c.Fill(x, y, w, 1, t.Fog, 0.16)
			return screen.Style{Colour: t.Fog}
		}
		c.Fill(x, y, w, 1, t.Orchid, amount)
		return screen.Style{Colour: t.Ink, Bold: true}
	}
	look := part(stem-1-left, left, ran)
	c.Right(stem-2, y, look, fmt.Sprint(r.Ran))
	uneven := math.Abs(r.Share-float64(r.Ran)/float64(r.Ran+r.LeftOut)) > 0.02 // else the size says it
	if share := fmt.Sprintf("%.0f %% suspected", 100*r.Share); uneven && stem-left-6 > 6+screen.Width(share) {
		c.Text(6, y, screen.Style{Colour: t.Fog}, share)
	}
	look = part(stem+2, right, out)
	c.Text(stem+3, y, look, fmt.Sprint(r.LeftOut))
	c.Right(3, y, screen.Style{Colour: t.Faint()}, fmt.Sprint(r.Number))
	mark, tint := "▸", color.Color(t.Water)
	if r.Done {
		mark, tint = r.Outcome.Shape(), t.Outcome(r.Outcome)
	}
	c.Text(stem-left-4, y, screen.Style{Colour: tint, Bold: true}, mark)
}

// drawTip draws the result at the end of the stem, and what it cost.
func (v View) drawTip(c screen.Canvas, y, stem int, h *progress.Hunt) {
	t, f := c.Theme, h.Progress.Finding
	if h.Progress.Err != nil {
		c.Text(2, y+1, screen.Style{Colour: t.Amber}, screen.Cut(plain.Line(h.Progress.Err.Error()), c.Width-2))
	}
	if f.Verdict == "" {
		c.Text(stem, y, screen.Style{Colour: t.Water, Bold: true}, "▸")
		return
	}
	if len(f.Culprits) > 0 {
		y = drawCulprits(c, y, stem, f.Culprits[0])
	}
	words := fmt.Sprintf("%s, %s", wording.Plural(f.Trials, "trial"), history.ClockTenths(f.Seconds))
	c.Text(max(0, stem-screen.Width(words)/2), y+1, screen.Style{Colour: t.Fog}, words)
	y += 3
	for note := range strings.Lines(h.Progress.Note) {
		for _, line := range screen.Wrap(plain.Line(strings.TrimSpace(note)), c.Width-4) {
			c.Text(2, y, screen.Style{Colour: t.Amber}, line)
			y++
		}
	}
}

// drawCulprits draws a row for each culprit, and returns the row below them.
func drawCulprits(c screen.Canvas, y, stem int, culprits []string) int {
	look := screen.Style{Colour: c.Theme.Orchid, Bold: true}
	for _, id := range culprits {
		group, name := leg.GroupAndName(id)
		c.Text(stem, y, look, "●")
		x := c.Text(stem+2, y, look, screen.Cut(name, c.Width-stem-2))
		c.Text(x+1, y, screen.Style{Colour: c.Theme.Fog}, screen.Cut(group, c.Width-x-1))
		y++
	}
	return y
}

// drawCard draws the verdict: how sure it is, the state left behind, the
// shortest order that shows it.
func (v View) drawCard(c screen.Canvas, h *progress.Hunt) {
	t, f := c.Theme, h.Progress.Finding
	if f.Verdict == "" {
		v.drawDoing(c, h)
		return
	}
	c.Text(0, 0, screen.Style{Colour: verdictColour(t, h), Bold: true}, report.Verdict(f))
	y := drawWrapped(c, 2, screen.Style{Colour: t.Ink, Bold: true}, report.Sentence(f))
	if remedy := report.Remedy(f); !h.IsMended() {
		y = drawWrapped(c, y, screen.Style{Colour: t.Ink}, remedy)
	}
	y++
	if f.Reported == nil {
		y = v.drawEvidence(c, y, report.Company(f), f.With)
		y = v.drawEvidence(c, y, "alone", f.Without)
	} else {
		y = drawWrapped(c, y, screen.Style{Colour: t.Fog}, strings.Join(report.Evidence(f), "; "))
	}
	if f.Chance > 0 && len(f.Culprits) > 0 {
		y = drawWrapped(c, y, screen.Style{Colour: t.Fog}, report.Doubt(f))
	}
	y++
	y = v.drawChanged(c, y, f, c.Height-y < 6+4*min(len(f.Changed), 2)+len(f.Order))
	drawOrder(c, y, f.Order)
}

func verdictColour(t *screen.Theme, h *progress.Hunt) color.Color {
	switch {
	case h.IsMended():
		return t.Leaf
	case len(h.Progress.Finding.Culprits) == 0:
		return t.Amber
	}
	return t.Orchid
}

// drawDoing says what a hunt without a verdict does.
func (v View) drawDoing(c screen.Canvas, h *progress.Hunt) {
	c.Text(0, 0, screen.Style{Colour: c.Theme.Water, Bold: true}, v.doing(h))
	words := "the verdict will be here"
	switch {
	case h.Ended:
		words = "enter continues it"
	case h.Progress.Resumed > 0:
		words = "it went on after " + wording.Plural(h.Progress.Resumed, "trial")
	}
	c.Text(0, 2, screen.Style{Colour: c.Theme.Fog}, words)
}

// drawWrapped draws a text, "" for none, on as many rows as it needs, and returns the row below it.
func drawWrapped(c screen.Canvas, y int, look screen.Style, text string) int {
	if text == "" {
		return y
	}
	for _, line := range screen.Wrap(text, c.Width) {
		c.Text(0, y, look, line)
		y++
	}
	return y
}

// drawOrder draws the shortest order that shows the failure, if there is room for it.
func drawOrder(c screen.Canvas, y int, order []string) {
	t := c.Theme
	if len(order) < 2 || y+2+len(order) > c.Height {
		return
	}
	c.Text(0, y, screen.Style{Colour: t.Fog}, "shortest order that shows it")
	for i, id := range order {
		_, short, _ := strings.Cut(plain.Line(id), ":")
		c.Text(0, y+2+i, screen.Style{Colour: t.Ink}, screen.Cut(short, c.Width))
	}
	if at := y + 3 + len(order); at < c.Height {
		c.Text(c.Text(0, at, screen.Style{Colour: t.Leaf}, "c"), at, screen.Style{Colour: t.Fog}, " copies a command that runs it")
	}
}

// drawChanged draws the state left behind, one line each if there is little room.
func (v View) drawChanged(c screen.Canvas, y int, f hunt.Finding, tight bool) int {
	t, changes := c.Theme, f.Changed
	if len(changes) == 0 || y >= c.Height {
		return y
	}
	fresh, left := screen.Style{Colour: t.Leaf}, screen.Style{Colour: t.Rust}
	if f.Verdict == hunt.Brittle { // the rest is what it needs
		fresh, left = left, fresh
	}
	c.Text(0, y, screen.Style{Colour: t.Fog}, "state left behind")
	rows, least := 4, 4
	if y++; tight {
		rows, least = 1, 0
	} else {
		y++
	}
	for n, change := range changes {
		if y+rows > c.Height-least && n > 0 {
			c.Text(0, y, screen.Style{Colour: t.Fog}, "… and "+wording.Plural(len(changes)-n, "other"))
			return y + 2
		}
		drawChange(c, y, change, fresh, left, tight)
		y += rows
	}
	if tight {
		y++
	}
	return y
}

// drawChange draws a piece of state as it is fresh and as it is left: on one row if it is tight, else on three.
func drawChange(c screen.Canvas, y int, change hunt.Change, fresh, left screen.Style, tight bool) {
	t := c.Theme
	before, after := report.Differing(change)
	before, after = cmp.Or(before, "(empty)"), cmp.Or(after, "(empty)")
	x := c.Text(0, y, screen.Style{Colour: t.Ink, Bold: true}, screen.Cut(plain.Line(change.Full()), c.Width-24)) + 2
	if tight {
		x = c.Text(x, y, fresh, screen.Cut(before, (c.Width-x)/3))
		x = c.Text(x+1, y, screen.Style{Colour: t.Fog}, "→")
		x = c.Text(x+1, y, left, screen.Cut(after, (c.Width-x)/2)) + 2
	} else {
		if change.Kind != hunt.Variable {
			x = c.Text(x, y, screen.Style{Colour: t.Fog}, change.Kind) + 2
		}
		c.Text(2, y+1, screen.Style{Colour: t.Fog}, "fresh")
		c.Text(9, y+1, fresh, screen.Cut(before, c.Width-9))
		c.Text(2, y+2, screen.Style{Colour: t.Fog}, "after")
		c.Text(9, y+2, left, screen.Cut(after, c.Width-9))
	}
	if change.Proved {
		x = c.Text(x, y, screen.Style{Colour: t.Leaf}, screen.Cut("proved", c.Width-x)) + 2
	}
	if change.File != "" {
		c.Right(c.Width, y, screen.Style{Colour: t.Fog}, screen.Cut(fmt.Sprintf("%s:%d", path.Base(plain.Line(change.File)), change.Line), c.Width-x))
	}
}

func (v View) drawEvidence(c screen.Canvas, y int, label string, times hunt.Times) int {
	t := c.Theme
	if times.Runs == 0 || y >= c.Height {
		return y
	}
	c.Text(0, y, screen.Style{Colour: t.Fog}, label)
	words := fmt.Sprintf("%d of %d failed", times.Failed, times.Runs)
	shown, failed := inProportion(times, max(2, (c.Width-14-screen.Width(words)-1)/2))
	x := 14
	for i := range shown {
		o := run.Passed
		if i < failed {
			o = run.Failed
		}
		x = c.Text(x, y, screen.Style{Colour: t.Outcome(o)}, o.Shape()+" ")
	}
	c.Right(c.Width, y, screen.Style{Colour: t.Ink}, words)
	return y + 1
}

// inProportion fits the outcomes of trials into room places. It drops neither kind of outcome.
func inProportion(times hunt.Times, room int) (shown, failed int) {
	if times.Runs <= room {
		return times.Runs, times.Failed
	}
	failed = (times.Failed*room + times.Runs/2) / times.Runs
	if times.Failed > 0 {
		failed = max(failed, 1)
	}
	if times.Failed < times.Runs {
		failed = min(failed, room-1)
	}
	return room, failed
}
