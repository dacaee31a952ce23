package tui

import (
	"context"
	"errors"
	"fmt"
	"image/color"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/order"
	"fernrelay/core/plain"
	"fernrelay/internal/draw"
	"fernrelay/internal/report"
)

// huntView shows the hunts: the victims, the frond of the one under the cursor
// as it grows, and its verdict.
type huntView struct {
	session *session
	keyMap  huntKeyMap
	hunts   []*liveHunt // the latest first
	search  *search     // for victims; nil if there is none
	gauge   order.Gauge // of the orders that have run
	at      int
	top     int  // the first victim that is listed
	card    bool // on a narrow screen, the verdict covers the frond

	patching bool               // the patch covers the frond
	repairs  map[string]*repair // by victim
}

// huntKeyMap has the keys of the view.
type huntKeyMap struct{ panel, patch, write, apply, again, all, search, verify, cancel, copied, report, edit, move key.Binding }

func newHuntKeyMap() huntKeyMap {
	return huntKeyMap{
		panel:  keyPanel,
		patch:  key.NewBinding(key.WithKeys("p"), key.WithHelp("p", "patch")),
		write:  key.NewBinding(key.WithKeys("w"), key.WithHelp("w", "write it")),
		apply:  key.NewBinding(key.WithKeys("A"), key.WithHelp("A", "apply it")),
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
}

func (v *huntView) reset() { v.at = 0 }

func newHuntView(s *session) *huntView {
	return &huntView{session: s, keyMap: newHuntKeyMap(), repairs: map[string]*repair{}}
}

func (v *huntView) see(s *session) tea.Cmd {
	v.session = s
	return nil
}

func (v *huntView) update(msg tea.Msg) tea.Cmd {
	if msg, ok := msg.(mendedMsg); ok {
		v.repairs[msg.victim] = &repair{patch: msg.patch, err: msg.err}
		if errors.Is(msg.err, context.Canceled) {
			delete(v.repairs, msg.victim) // p looks again
		}
	}
	return nil
}

func (v *huntView) fit(_, height int) tea.Cmd {
	v.at = max(0, min(v.at, len(v.hunts)-1))
	v.top = follow(v.top, v.at, victimsShown(height-4), len(v.hunts))
	return nil
}

// goTo moves the cursor to the hunt of a test, and reports whether there is one.
func (v *huntView) goTo(victim string) bool {
	at := slices.IndexFunc(v.hunts, func(h *liveHunt) bool { return h.victim.ID == victim })
	v.at = max(0, at)
	return at >= 0
}

func (v *huntView) name() string { return "Hunt" }

func (v *huntView) figure() (string, bool) {
	if len(v.hunts) == 0 {
		return "–", false
	}
	caught := 0
	for _, h := range v.hunts {
		if len(h.progress.Finding.Culprits) > 0 {
			caught++
		}
	}
	return fmt.Sprintf("%d/%d caught", caught, len(v.hunts)), false
}

func (v *huntView) keys() []key.Binding {
	k := v.keyMap
	if h := v.current(); h != nil && v.patchOf(h) != nil {
		return []key.Binding{k.patch, k.write, k.apply, k.move, k.verify, k.edit}
	}
	return []key.Binding{k.all, k.panel, k.patch, k.verify, k.search, k.move, k.again, k.copied, k.report, k.edit, k.cancel, keyDraw}
}

func (v *huntView) press(msg tea.KeyPressMsg) tea.Msg {
	h := v.current()
	switch {
	case key.Matches(msg, v.keyMap.cancel):
		return cancelMsg{}
	case key.Matches(msg, v.keyMap.all):
		return background(v.findVictims())
	case key.Matches(msg, v.keyMap.search):
		return startSearchMsg{}
	case key.Matches(msg, v.keyMap.panel):
		v.card = !v.card
	case h == nil && key.Matches(msg, keyDraw, v.keyMap.patch, v.keyMap.again, v.keyMap.edit, v.keyMap.verify, v.keyMap.copied, v.keyMap.report):
		return sayMsg("nothing is hunted yet: a hunts what failed in the latest run")
	case h == nil:
	case key.Matches(msg, v.keyMap.patch):
		return v.pressPatch(h)
	case key.Matches(msg, v.keyMap.write) && v.patchOf(h) != nil:
		return writePatch(v.patchOf(h))
	case key.Matches(msg, v.keyMap.apply) && v.patchOf(h) != nil:
		return applyPatch(v.patchOf(h))
	case key.Matches(msg, keyDraw):
		finding, records := h.progress.Finding, slices.Clone(h.progress.Records)
		return drawTo("Draw the frond", chart{"frond", "the trials, cut by cut", func() (draw.Drawing, error) { return draw.Frond(finding, records), nil }})
	case key.Matches(msg, v.keyMap.again):
		delete(v.repairs, h.victim.ID)
		return startHuntMsg{victims: []catalog.Test{h.victim}}
	case key.Matches(msg, v.keyMap.edit):
		return editFileMsg(v.culprit(h))
	case key.Matches(msg, v.keyMap.verify):
		if len(h.progress.Finding.Culprits) == 0 || h.mended() {
			return sayMsg("no culprit of " + plain.Line(h.victim.Name) + " is known: there is nothing to verify")
		}
		return startHuntMsg{victims: []catalog.Test{h.victim}, verify: true}
	case key.Matches(msg, v.keyMap.copied, v.keyMap.report) && len(h.progress.Finding.Order) == 0:
		return sayMsg("the hunt has found nothing yet that could be copied")
	case key.Matches(msg, v.keyMap.copied):
		return copyMsg(report.Command(v.session.app.Project.Dir, h.progress.Finding))
	case key.Matches(msg, v.keyMap.report):
		var text strings.Builder
		if err := report.Markdown(&text, v.session.app.Project.Dir, h.progress.Finding, h.progress.Records); err != nil {
			return sayMsg(err.Error())
		}
		return copyMsg(text.String())
	default:
		v.at = moved(v.at, msg.String(), len(v.hunts))
	}
	return nil
}

// victimsMsg is the tests that failed in the latest run, to be hunted.
type victimsMsg struct {
	victims []catalog.Test
	err     error
}

// findVictims reads which tests failed in the latest run.
func (v *huntView) findVictims() tea.Cmd {
	r := v.session.app
	return func() tea.Msg {
		victims, err := r.Victims()
		return victimsMsg{victims, err}
	}
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
	if len(v.hunts) == 0 {
		return nil
	}
	return v.hunts[min(v.at, len(v.hunts)-1)]
}

func (v *huntView) click(x, y int) {
	if x < victimsWidth+1 && y >= 3 && len(v.hunts) > 0 {
		v.at = min(v.top+(y-3)/2, len(v.hunts)-1)
	}
}

func (v huntView) draw(c canvas) {
	t, h := c.theme, v.current()
	if h == nil {
		c.text(2, 1, style{t.ink, true}, "Nothing is hunted yet.")
		y := 3
		for _, words := range []string{
			"a hunts every test that failed in the latest run; h on a failure in Watch hunts that one.",
			"o runs the picked tests in orders that have not been tried, until the outcome of a test differs, and hunts that test.",
			"A hunt runs the test alone, then after the tests that ran before it, then after the most suspected part of those, and so on, until the test is left that makes it fail.",
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
	v.drawVictims(c.sub(1, 1, victimsWidth, c.height-4))
	for i, line := range wrap(v.coverage(), 34) {
		c.text(2, c.height-2+i, style{colour: t.fog}, line)
	}
	v.drawMiddle(c.sub(40, 1, c.width-card-44, c.height-1), h)
	for y := 1; y < c.height-1; y++ {
		c.text(c.width-card-3, y, style{colour: t.faint()}, "│")
	}
	v.drawCard(c.sub(c.width-card, 1, card-1, c.height-1), h)
}

// drawNarrow shows the verdict with its sentence above the frond, and the whole card when it has the panel.
func (v huntView) drawNarrow(c canvas, h *liveHunt) {
	if v.card {
		v.drawCard(c.sub(2, 1, c.width-4, c.height-1), h)
		return
	}
	x := 2
	if len(v.hunts) > 1 {
		x = c.text(2, 0, style{colour: c.theme.fog}, fmt.Sprintf("%d of %d  ", v.at+1, len(v.hunts)))
	}
	_, words, colour := v.verdict(h)
	c.text(x, 0, style{colour, true}, words)
	y := 1
	if f := h.progress.Finding; f.Verdict != "" {
		for _, line := range wrap(report.Sentence(f), c.width-4) {
			c.text(2, y, style{c.theme.ink, true}, line)
			y++
		}
	}
	v.drawMiddle(c.sub(2, y, c.width-4, c.height-y), h)
}

// drawMiddle draws the frond, or the patch if it is asked for.
func (v huntView) drawMiddle(c canvas, h *liveHunt) {
	if known := v.repairs[h.victim.ID]; v.patching && known != nil {
		v.drawPatch(c, known)
		return
	}
	v.drawFrond(c, h)
}

// coverage says which orders have been tried, and whether more are being tried.
func (v huntView) coverage() string {
	words := report.Coverage(v.gauge)
	if s := v.search; s != nil {
		return fmt.Sprintf("▸ order %d runs; %s", s.orders+1, words)
	}
	return words
}

// verdict returns the outcome of a hunt, or what it does now, in a word or two, with its shape.
func (v huntView) verdict(h *liveHunt) (shape, words string, colour color.Color) {
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
	case hunt.Flaky:
		return shape, words, t.amber
	case hunt.Stable:
		return "▪", words, t.leaf
	}
	return shape, words, colour
}
