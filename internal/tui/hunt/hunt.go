package hunt

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
	"fernrelay/internal/progress"
	"fernrelay/internal/report"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
)

// View shows the hunts: the victims, the frond of the one under the cursor
// as it grows, and its verdict.
type View struct {
	leg.Base
	session *leg.Session
	keyMap  keyMap
	Hunts   []*progress.Hunt // the latest first
	Search  *progress.Search // for victims; nil if there is none
	Gauge   order.Gauge      // of the orders that have run
	at      int
	top     int  // the first victim that is listed
	card    bool // on a narrow screen, the verdict covers the frond

	Patching    bool               // the patch covers the frond
	stopMending context.CancelFunc // ends the trials of a patch; nil if there are none
	Repairs     map[string]*Repair // by victim
}

// keyMap has the keys of the view.
type keyMap struct{ panel, patch, write, apply, again, all, search, verify, cancel, copied, report, edit, move key.Binding }

func newKeyMap() keyMap {
	return keyMap{
		panel:  leg.KeyPanel,
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

// New returns the leg.
func New(s *leg.Session) *View {
	return &View{session: s, keyMap: newKeyMap(), Repairs: map[string]*Repair{}}
}

func (v *View) See(s *leg.Session) tea.Cmd {
	v.session = s
	return nil
}

func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case SavedMsg:
		if msg.Err != nil {
			return func() tea.Msg { return leg.SayMsg(msg.Err.Error()) }
		}
		v.add(msg)
	case MendedMsg:
		v.stopMending = nil
		v.Repairs[msg.Victim] = &Repair{Patch: msg.Patch, Err: msg.Err}
		if errors.Is(msg.Err, context.Canceled) {
			delete(v.Repairs, msg.Victim) // p looks again
		}
	}
	return nil
}

func (v *View) Fit(_, height int) tea.Cmd {
	v.at = max(0, min(v.at, len(v.Hunts)-1))
	v.top = screen.Follow(v.top, v.at, victimsShown(height-4), len(v.Hunts))
	return nil
}

// GoTo moves the cursor to the hunt of a test, and reports whether there is one.
func (v *View) GoTo(victim string) bool {
	at := slices.IndexFunc(v.Hunts, func(h *progress.Hunt) bool { return h.Victim.ID == victim })
	v.at = max(0, at)
	return at >= 0
}

func (v *View) Name() string { return "Hunt" }

func (v *View) Figure() (string, bool) {
	if len(v.Hunts) == 0 {
		return "–", false
	}
	caught := 0
	for _, h := range v.Hunts {
		if len(h.Progress.Finding.Culprits) > 0 {
			caught++
		}
	}
	return fmt.Sprintf("%d/%d caught", caught, len(v.Hunts)), false
}

func (v *View) Keys() []key.Binding {
	k := v.keyMap
	if h := v.current(); h != nil && v.patchOf(h) != nil {
		return []key.Binding{k.patch, k.write, k.apply, k.move, k.verify, k.edit}
	}
	return []key.Binding{k.all, k.panel, k.patch, k.verify, k.search, k.move, k.again, k.copied, k.report, k.edit, k.cancel, leg.KeyDraw}
}

func (v *View) Press(msg tea.KeyPressMsg) tea.Msg {
	h := v.current()
	switch {
	case key.Matches(msg, v.keyMap.cancel):
		return leg.CancelMsg{}
	case key.Matches(msg, v.keyMap.all):
		return leg.Background(v.findVictims())
	case key.Matches(msg, v.keyMap.search):
		return leg.StartSearchMsg{}
	case key.Matches(msg, v.keyMap.panel):
		v.card = !v.card
	case h == nil && key.Matches(msg, leg.KeyDraw, v.keyMap.patch, v.keyMap.again, v.keyMap.edit, v.keyMap.verify, v.keyMap.copied, v.keyMap.report):
		return leg.SayMsg("nothing is hunted yet: a hunts what failed in the latest run")
	case h == nil:
	case key.Matches(msg, v.keyMap.patch):
		return v.pressPatch(h)
	case key.Matches(msg, v.keyMap.write) && v.patchOf(h) != nil:
		return writePatch(v.patchOf(h))
	case key.Matches(msg, v.keyMap.apply) && v.patchOf(h) != nil:
		return applyPatch(v.patchOf(h))
	case key.Matches(msg, leg.KeyDraw):
		return leg.DrawTo("Draw the frond", draw.Data{Finding: h.Progress.Finding, Trials: slices.Clone(h.Progress.Records)}, draw.OfHunt)
	case key.Matches(msg, v.keyMap.again):
		delete(v.Repairs, h.Victim.ID)
		return leg.StartHuntMsg{Victims: []catalog.Test{h.Victim}}
	case key.Matches(msg, v.keyMap.edit):
		return leg.EditFileMsg(v.culprit(h))
	case key.Matches(msg, v.keyMap.verify):
		if len(h.Progress.Finding.Culprits) == 0 || h.IsMended() {
			return leg.SayMsg("no culprit of " + plain.Line(h.Victim.Name) + " is known: there is nothing to verify")
		}
		return leg.StartHuntMsg{Victims: []catalog.Test{h.Victim}, Verify: true}
	case key.Matches(msg, v.keyMap.copied, v.keyMap.report) && len(h.Progress.Finding.Order) == 0:
		return leg.SayMsg("the hunt has found nothing yet that could be copied")
	case key.Matches(msg, v.keyMap.copied):
		return leg.CopyMsg(report.Command(v.session.App.Project.Dir, h.Progress.Finding))
	case key.Matches(msg, v.keyMap.report):
		var text strings.Builder
		if err := report.Markdown(&text, v.session.App.Project.Dir, h.Progress.Finding, h.Progress.Records); err != nil {
			return leg.SayMsg(err.Error())
		}
		return leg.CopyMsg(text.String())
	default:
		v.at = screen.Moved(v.at, msg.String(), len(v.Hunts))
	}
	return nil
}

// VictimsMsg is the tests that failed in the latest run, to be hunted.
type VictimsMsg struct {
	Victims []catalog.Test
	Err     error
}

// findVictims reads which tests failed in the latest run.
func (v *View) findVictims() tea.Cmd {
	r := v.session.App
	return func() tea.Msg {
		victims, err := r.Victims()
		return VictimsMsg{victims, err}
	}
}

// culprit is the place of the first culprit, or of the victim before it is caught.
func (v *View) culprit(h *progress.Hunt) leg.Place {
	if sets := h.Progress.Finding.Culprits; len(sets) > 0 {
		if t, ok := v.session.Picked.Catalog.Lookup(sets[0][0]); ok {
			return leg.Place{File: t.File, Line: t.Line}
		}
	}
	return leg.Place{File: h.Victim.File, Line: h.Victim.Line}
}

func (v *View) current() *progress.Hunt {
	if len(v.Hunts) == 0 {
		return nil
	}
	return v.Hunts[min(v.at, len(v.Hunts)-1)]
}

func (v *View) Click(x, y int) {
	if x < victimsWidth+1 && y >= 3 && len(v.Hunts) > 0 {
		v.at = min(v.top+(y-3)/2, len(v.Hunts)-1)
	}
}

func (v View) Draw(c screen.Canvas) {
	t, h := c.Theme, v.current()
	if h == nil {
		c.Text(2, 1, screen.Style{Colour: t.Ink, Bold: true}, "Nothing is hunted yet.")
		y := 3
		for _, words := range []string{
			"a hunts every test that failed in the latest run; h on a failure in Watch hunts that one.",
			"o runs the picked tests in orders that have not been tried, until the outcome of a test differs, and hunts that test.",
			"A hunt runs the test alone, then after the tests that ran before it, then after the most suspected part of those, and so on, until the test is left that makes it fail.",
			v.coverage(),
		} {
			for _, line := range screen.Wrap(words, c.Width-4) {
				c.Text(2, y, screen.Style{Colour: t.Fog}, line)
				y++
			}
			y++
		}
		return
	}
	if c.Width < screen.WideScreen {
		v.drawNarrow(c, h)
		return
	}
	card := min(48, c.Width*3/10)
	v.drawVictims(c.Sub(1, 1, victimsWidth, c.Height-4))
	for i, line := range screen.Wrap(v.coverage(), 34) {
		c.Text(2, c.Height-2+i, screen.Style{Colour: t.Fog}, line)
	}
	v.drawMiddle(c.Sub(40, 1, c.Width-card-44, c.Height-1), h)
	for y := 1; y < c.Height-1; y++ {
		c.Text(c.Width-card-3, y, screen.Style{Colour: t.Faint()}, "│")
	}
	v.drawCard(c.Sub(c.Width-card, 1, card-1, c.Height-1), h)
}

// drawNarrow shows the verdict with its sentence above the frond, and the whole card when it has the panel.
func (v View) drawNarrow(c screen.Canvas, h *progress.Hunt) {
	if v.card {
		v.drawCard(c.Sub(2, 1, c.Width-4, c.Height-1), h)
		return
	}
	x := 2
	if len(v.Hunts) > 1 {
		x = c.Text(2, 0, screen.Style{Colour: c.Theme.Fog}, fmt.Sprintf("%d of %d  ", v.at+1, len(v.Hunts)))
	}
	_, words, colour := v.verdict(h)
	c.Text(x, 0, screen.Style{Colour: colour, Bold: true}, words)
	y := 1
	if f := h.Progress.Finding; f.Verdict != "" {
		for _, line := range screen.Wrap(report.Sentence(f), c.Width-4) {
			c.Text(2, y, screen.Style{Colour: c.Theme.Ink, Bold: true}, line)
			y++
		}
	}
	v.drawMiddle(c.Sub(2, y, c.Width-4, c.Height-y), h)
}

// drawMiddle draws the frond, or the patch if it is asked for.
func (v View) drawMiddle(c screen.Canvas, h *progress.Hunt) {
	if known := v.Repairs[h.Victim.ID]; v.Patching && known != nil {
		v.drawPatch(c, known)
		return
	}
	v.drawFrond(c, h)
}

// coverage says which orders have been tried, and whether more are being tried.
func (v View) coverage() string {
	words := report.Coverage(v.Gauge)
	if s := v.Search; s != nil {
		return fmt.Sprintf("▸ order %d runs; %s", s.Orders+1, words)
	}
	return words
}

// verdict returns the outcome of a hunt, or what it does now, in a word or two, with its shape.
func (v View) verdict(h *progress.Hunt) (shape, words string, colour color.Color) {
	t := v.session.Theme
	shape, words, colour = "◎", string(h.Progress.Finding.Verdict), t.Orchid
	switch {
	case h.IsMended():
		return "▪", report.Verdict(h.Progress.Finding), t.Leaf
	case words == "":
		return shape, v.doing(h), t.Water
	}
	switch h.Progress.Finding.Verdict {
	case hunt.Faulty:
		return "▲", words, t.Rust
	case hunt.Flaky:
		return shape, words, t.Amber
	case hunt.Stable:
		return "▪", words, t.Leaf
	}
	return shape, words, colour
}
