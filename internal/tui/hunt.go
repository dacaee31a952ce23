package tui

import (
	"cmp"
	"fmt"
	"image/color"
	"math"
	"path"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/hunt"
	"fernrelay/core/outcome"
	"fernrelay/internal/draw"
	"fernrelay/internal/report"
)

// huntView shows the hunts: the victims, the frond of the one under the cursor
// as it grows, and its verdict.
type huntView struct {
	session *session
	at      int
	card    bool // on a narrow screen, the verdict lies over the frond
}

var huntKeys = struct{ panel, again, all, search, verify, cancel, copied, report, edit, move key.Binding }{
	panel:  keyPanel,
	again:  key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "hunt again")),
	all:    key.NewBinding(key.WithKeys("a"), key.WithHelp("a", "hunt all failed")),
	search: key.NewBinding(key.WithKeys("o"), key.WithHelp("o", "try orders")),
	verify: key.NewBinding(key.WithKeys("v"), key.WithHelp("v", "verify")),
	cancel: key.NewBinding(key.WithKeys("x"), key.WithHelp("x", "stop")),
	copied: key.NewBinding(key.WithKeys("c"), key.WithHelp("c", "copy command")),
	report: key.NewBinding(key.WithKeys("m"), key.WithHelp("m", "copy Markdown")),
	edit:   key.NewBinding(key.WithKeys("e"), key.WithHelp("e", "editor")),
	move:   key.NewBinding(key.WithHelp("↑↓", "victims")),
}

func (v *huntView) reset() { v.at = 0 }

// show goes to the hunt of a victim.
func (v *huntView) show(victim string) {
	v.at = max(0, slices.IndexFunc(v.session.hunts, func(h *liveHunt) bool { return h.victim.ID == victim }))
}

func (v *huntView) name() string { return "Hunt" }

func (v *huntView) figure() (string, bool) {
	if len(v.session.hunts) == 0 {
		return "–", false
	}
	caught := 0
	for _, h := range v.session.hunts {
		if len(h.progress.Finding.Culprits) > 0 {
			caught++
		}
	}
	return fmt.Sprintf("%d/%d caught", caught, len(v.session.hunts)), false
}

func (v *huntView) keys() []key.Binding {
	k := huntKeys
	return []key.Binding{k.all, k.panel, k.verify, k.search, k.move, k.again, k.copied, k.report, k.edit, k.cancel}
}

func (v *huntView) press(msg tea.KeyPressMsg) action {
	h := v.current()
	switch {
	case key.Matches(msg, huntKeys.cancel):
		return action{cancel: true}
	case key.Matches(msg, huntKeys.all):
		if failed := v.failed(); len(failed) > 0 {
			return action{hunt: failed}
		}
		return action{say: "nothing failed in the latest run: there is nothing to hunt"}
	case key.Matches(msg, huntKeys.search):
		return action{search: true}
	case key.Matches(msg, huntKeys.panel):
		v.card = !v.card
	case h == nil:
	case key.Matches(msg, huntKeys.again):
		return action{hunt: []catalog.Test{h.victim}}
	case key.Matches(msg, huntKeys.edit):
		return action{edit: v.culprit(h)}
	case key.Matches(msg, huntKeys.verify):
		if len(h.progress.Finding.Culprits) == 0 || h.mended() {
			return action{say: "no culprit of " + outcome.PlainLine(h.victim.Name) + " is known: there is nothing to verify"}
		}
		return action{hunt: []catalog.Test{h.victim}, verify: true}
	case key.Matches(msg, huntKeys.copied, huntKeys.report) && len(h.progress.Finding.Order) == 0:
		return action{say: "the hunt has found nothing yet that could be copied"}
	case key.Matches(msg, huntKeys.copied):
		return action{copied: report.Command(h.progress.Finding)}
	case key.Matches(msg, huntKeys.report):
		var text strings.Builder
		if err := report.Markdown(&text, h.progress.Finding, h.progress.Records); err != nil {
			return action{say: err.Error()}
		}
		return action{copied: text.String()}
	default:
		v.at = moved(v.at, msg.String(), len(v.session.hunts))
	}
	return action{}
}

// failed lists the tests that failed in the run of this session, or before it.
func (v *huntView) failed() []catalog.Test {
	victims, err := v.session.relay.Victims()
	if err != nil {
		return nil // nothing ran yet: there is nothing to hunt
	}
	return victims
}

// culprit is the place of the first culprit, or of the victim before it is caught.
func (v *huntView) culprit(h *liveHunt) place {
	if sets := h.progress.Finding.Culprits; len(sets) > 0 {
		if t, ok := v.session.picked.Catalog.Lookup(sets[0][0]); ok {
			return place{t.File, t.Line}
		}
	}
	return place{h.victim.File, h.victim.Line}
}

func (v *huntView) current() *liveHunt {
	if len(v.session.hunts) == 0 {
		return nil
	}
	v.at = min(v.at, len(v.session.hunts)-1)
	return v.session.hunts[v.at]
}

func (v *huntView) click(x, y int) {
	if x < 38 && y >= 3 && len(v.session.hunts) > 0 {
		v.at = min((y-3)/2, len(v.session.hunts)-1)
	}
}

func (v *huntView) draw(c canvas) {
	t, h := c.theme, v.current()
	if h == nil {
		c.text(2, 1, style{t.ink, true}, "Nothing is hunted yet.")
		y := 3
		for _, words := range []string{
			"a hunts every test that failed in the latest run; h on a failure in Watch hunts that one.",
			"o runs what is picked in orders that have not been tried, until a test comes out otherwise than before.",
			"A hunt runs the test alone, then after what ran before it, then after the part of that which is suspected most, and so on, until the one is left that makes it fail.",
			v.coverage(),
		} {
			for _, line := range wrap(words, c.width-4) {
				c.text(2, y, style{colour: t.fog}, line)
				y++
			}
			y++
		}
		return
	}
	if c.width < wideScreen {
		v.drawNarrow(c, h)
		return
	}
	card := min(48, c.width*3/10)
	v.drawVictims(c.sub(1, 1, 37, c.height-4))
	for i, line := range wrap(v.coverage(), 34) {
		c.text(2, c.height-2+i, style{colour: t.fog}, line)
	}
	v.drawFrond(c.sub(40, 1, c.width-card-44, c.height-1), h)
	for y := 1; y < c.height-1; y++ {
		c.text(c.width-card-3, y, style{colour: t.faint()}, "│")
	}
	v.drawCard(c.sub(c.width-card, 1, card-1, c.height-1), h)
}

// drawNarrow shows the frond with the verdict below it, and the verdict whole
// when it has the panel.
func (v *huntView) drawNarrow(c canvas, h *liveHunt) {
	if v.card {
		v.drawCard(c.sub(2, 1, c.width-4, c.height-1), h)
		return
	}
	x := 2
	if len(v.session.hunts) > 1 {
		x = c.text(2, 0, style{colour: c.theme.fog}, fmt.Sprintf("%d of %d  ", v.at+1, len(v.session.hunts)))
	}
	_, words, colour := v.verdict(h)
	c.text(x, 0, style{colour, true}, words)
	v.drawFrond(c.sub(2, 1, c.width-4, c.height-1), h)
}

// coverage tells which orders have been tried, and that more are.
func (v *huntView) coverage() string {
	words := report.Coverage(v.session.gauge)
	if s := v.session.search; s != nil {
		return fmt.Sprintf("▸ order %d runs; %s", s.orders+1, words)
	}
	return words
}

// verdict is what came of a hunt, or what it is at, in a word or two, with its shape.
func (v *huntView) verdict(h *liveHunt) (shape, words string, colour color.Color) {
	t := v.session.theme
	shape, words, colour = "◎", string(h.progress.Finding.Verdict), t.orchid
	switch {
	case h.mended():
		return "▪", report.Verdict(h.progress.Finding), t.leaf
	case words == "":
		return shape, v.doing(h), t.water
	}
	switch h.progress.Finding.Verdict {
	case hunt.Faulty:
		return "▲", words, t.rust
	case hunt.Unstable:
		return shape, words, t.amber
	case hunt.Stable:
		return "▪", words, t.leaf
	}
	return shape, words, colour
}

func (v *huntView) drawVictims(c canvas) {
	t := c.theme
	c.text(1, 0, style{colour: t.fog}, "victims")
	shown := max(1, (c.height-2)/2)
	top := follow(0, v.at, shown, len(v.session.hunts))
	for i := top; i < min(len(v.session.hunts), top+shown); i++ {
		h := v.session.hunts[i]
		y := 2 + 2*(i-top)
		shape, words, colour := v.verdict(h)
		c.text(1, y, style{colour: colour}, shape)
		c.text(3, y, style{t.ink, i == v.at}, cut(outcome.PlainLine(h.victim.Name), c.width-4))
		c.text(3, y+1, style{colour: t.fog}, cut(outcome.PlainLine(h.victim.Group), c.width-6-width(words)))
		c.right(c.width-1, y+1, style{colour: colour}, words)
		if i == v.at {
			c.selectRow(0, y, c.width, 2)
		}
	}
}

// doing says what a hunt without a verdict is at.
func (v *huntView) doing(h *liveHunt) string {
	switch {
	case h.err != nil || h.ended:
		return "interrupted"
	case len(h.progress.Records) == 0:
		return cmp.Or(outcome.PlainLine(h.progress.Making), "making ready")
	}
	return fmt.Sprintf("trial %d", len(h.progress.Records))
}

// drawFrond draws the stem with a row a halving. Left stands the part that the
// trial ran, right the part that it left out; filled is the part that holds the
// culprit, with the victim's outcome beside the part that ran.
func (v *huntView) drawFrond(c canvas, h *liveHunt) {
	t := c.theme
	stem := c.width / 2
	name := outcome.PlainLine(h.victim.Name)
	x := max(0, stem-width(name)/2-1)
	x = c.text(x, 0, style{t.orchid, true}, "◎")
	c.text(x+1, 0, style{t.ink, true}, cut(name, c.width-x-1))
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

// drawFirst tells the trials that came before the halving.
func (v *huntView) drawFirst(c canvas, stem int, h *liveHunt) {
	t := c.theme
	type part struct {
		words string
		shown outcome.Outcome
	}
	var parts []part
	for _, r := range h.progress.Records {
		switch r.Purpose {
		case hunt.Alone:
			parts = append(parts, part{"alone", r.Outcome})
		case hunt.Company, hunt.Rest:
			parts = append(parts, part{"after " + report.Plural(r.Ran, "other"), r.Outcome})
		}
	}
	total := 0
	for _, p := range parts {
		total += width(p.words) + 5
	}
	x := max(0, stem-total/2+1)
	for _, p := range parts {
		x = c.text(x, 1, style{colour: t.fog}, p.words+" ")
		look := style{t.outcome(p.shown), true}
		if p.shown == "" {
			look.colour = t.water
			x = c.text(x, 1, look, "▸") + 3
			continue
		}
		x = c.text(x, 1, look, p.shown.Shape()) + 3
	}
}

func (v *huntView) drawLeaves(c canvas, y, stem int, r hunt.Record, most int, depth float64) {
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

// drawTip draws what the stem comes to, and what it cost.
func (v *huntView) drawTip(c canvas, y, stem int, h *liveHunt) {
	t, f := c.theme, h.progress.Finding
	if h.progress.Err != nil {
		c.text(2, y+1, style{colour: t.amber}, cut(outcome.PlainLine(h.progress.Err.Error()), c.width-2))
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
	words := fmt.Sprintf("%s, %s", report.Plural(f.Trials, "trial"), history.ClockTenths(f.Seconds))
	c.text(max(0, stem-width(words)/2), y+1, style{colour: t.fog}, words)
}

// drawCard draws the verdict: how sure it is, the state left behind, the
// shortest order that shows it.
func (v *huntView) drawCard(c canvas, h *liveHunt) {
	t, f := c.theme, h.progress.Finding
	if f.Verdict == "" {
		c.text(0, 0, style{t.water, true}, v.doing(h))
		words := "the verdict will stand here"
		switch {
		case h.ended:
			words = "enter goes on where it was"
		case h.progress.Again > 0:
			words = "it went on after " + report.Plural(h.progress.Again, "trial")
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
	if f.Chance > 0 && len(f.Culprits) > 0 {
		c.right(c.width, 0, style{colour: t.fog}, "by chance: "+report.Chance(f.Chance))
	}
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
	y = v.drawEvidence(c, y, "alone", f.Without) + 1
	y = v.drawChanged(c, y, f, c.height-y < 6+4*min(len(f.Changed), 2)+len(f.Order))
	if len(f.Order) < 2 || y+2+len(f.Order) > c.height {
		return
	}
	c.text(0, y, style{colour: t.fog}, "shortest order that shows it")
	for i, id := range f.Order {
		_, short, _ := strings.Cut(outcome.PlainLine(id), ":")
		c.text(0, y+2+i, style{colour: t.ink}, cut(short, c.width))
	}
	if at := y + 3 + len(f.Order); at < c.height {
		c.text(c.text(0, at, style{colour: t.leaf}, "c"), at, style{colour: t.fog}, " copies a command that runs it")
	}
}

// drawChanged draws the state left behind, a line each where it is tight.
func (v *huntView) drawChanged(c canvas, y int, f hunt.Finding, tight bool) int {
	t, changes := c.theme, f.Changed
	if len(changes) == 0 || y >= c.height {
		return y
	}
	fresh, left := style{colour: t.leaf}, style{colour: t.rust}
	if f.Verdict == hunt.Brittle { // what is left is what it needs
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
			c.text(0, y, style{colour: t.fog}, "… and "+report.Plural(len(changes)-n, "other"))
			return y + 2
		}
		before, after := report.Differing(change)
		before, after = cmp.Or(before, "(empty)"), cmp.Or(after, "(empty)")
		x := c.text(0, y, style{t.ink, true}, cut(outcome.PlainLine(change.Name), c.width-24)) + 2
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
			c.right(c.width, y, style{colour: t.fog}, cut(fmt.Sprintf("%s:%d", path.Base(outcome.PlainLine(change.File)), change.Line), c.width-x))
		}
		y += rows
	}
	if tight {
		y++
	}
	return y
}

func (v *huntView) drawEvidence(c canvas, y int, label string, times hunt.Times) int {
	t := c.theme
	if times.Runs == 0 || y >= c.height {
		return y
	}
	c.text(0, y, style{colour: t.fog}, label)
	x := 14
	for i := range times.Runs {
		o := outcome.Passed
		if i < times.Failed {
			o = outcome.Failed
		}
		x = c.text(x, y, style{colour: t.outcome(o)}, o.Shape()+" ")
	}
	c.right(c.width, y, style{colour: t.ink}, fmt.Sprintf("%d of %d failed", times.Failed, times.Runs))
	return y + 1
}
