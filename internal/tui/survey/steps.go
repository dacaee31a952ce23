package survey

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/pick"
	"fernrelay/core/plain"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
)

// unfoldedSteps are the steps of one test, shown below it in the list.
type unfoldedSteps struct {
	Test  string // its ID; empty for none
	names []string
	at    int // the one under the cursor, from 1; 0 for the test itself
	top   int // the first one shown
}

// StepsReadMsg has the steps that a test had in earlier runs.
type StepsReadMsg struct {
	test  string
	names []string
}

// unfold shows the steps of the test under the cursor, or hides them again.
func (v *View) unfold() tea.Msg {
	t := v.Current()
	if t == nil {
		return nil
	}
	if v.Steps.Test == t.ID {
		v.Steps = unfoldedSteps{}
		return nil
	}
	index, id := v.session.Picked.Index, t.ID
	return leg.Background(func() tea.Msg { return StepsReadMsg{id, index.KnownSteps(id)} }) // it may read the ledger
}

// takeSteps shows steps that were read, if the cursor is still on their test.
func (v *View) takeSteps(msg StepsReadMsg) tea.Cmd {
	t := v.Current()
	switch {
	case t == nil || t.ID != msg.test:
	case len(msg.names) == 0:
		return func() tea.Msg {
			return leg.SayMsg("no steps of " + plain.Line(t.Name) + " are known from earlier runs")
		}
	default:
		v.Steps = unfoldedSteps{Test: msg.test, names: msg.names}
	}
	return nil
}

// Step returns the step under the cursor, "" if it is on a test.
func (v *View) Step() string {
	t := v.Current()
	if t == nil || v.Focus != OnList || t.ID != v.Steps.Test || v.Steps.at == 0 {
		return ""
	}
	return v.Steps.names[v.Steps.at-1]
}

// moveInList moves the cursor through the tests and the steps that are unfolded.
func (v *View) moveInList(pressed string) {
	t, s := v.Current(), &v.Steps
	inside := t != nil && t.ID == s.Test
	switch {
	case inside && (pressed == "down" || pressed == "j") && s.at < len(s.names):
		s.at++
		return
	case inside && (pressed == "up" || pressed == "k") && s.at > 0:
		s.at--
		return
	}
	s.at = 0
	before := v.Test
	v.Test = screen.Moved(v.Test, pressed, v.list().sum.Tests)
	if t := v.Current(); t != nil && t.ID == s.Test && v.Test < before {
		s.at = len(s.names)
	}
}

// fitSteps keeps the step under the cursor in sight, in a list of a number of rows.
func (v *View) fitSteps(rows int) {
	if v.Step() == "" {
		return
	}
	v.testTop = max(v.testTop, min(v.Test, v.Test+v.Steps.at-rows+1))
	room := rows - 1 - (v.Test - v.testTop)
	v.Steps.top = screen.Follow(v.Steps.top, v.Steps.at-1, max(1, room), len(v.Steps.names))
}

// pickStep is the pick of the step under the cursor.
func pickStep(t *catalog.Test, step string) string { return pick.Field("id", t.ID+"/"+step) }

// drawSteps draws the unfolded steps from row y on, and returns the row after them.
func (v View) drawSteps(c screen.Canvas, y int) int {
	t := c.Theme
	last := min(len(v.Steps.names), v.Steps.top+c.Height-y)
	var picked []string
	if test, ok := v.session.Picked.Catalog.Lookup(v.Steps.Test); ok {
		picked = v.pickedSteps(test)
	}
	for i := v.Steps.top; i < last; i++ {
		name := v.Steps.names[i]
		look := screen.Style{Colour: t.Fog}
		if slices.Contains(picked, name) {
			look.Colour = t.Leaf
		}
		look.Bold = v.Focus == OnList && v.Steps.at == i+1
		x := barWidth + pastShown + 3
		x = c.Text(x, y, screen.Style{Colour: t.Faint()}, "└ ")
		c.Text(x, y, look, screen.Cut(plain.Line(name), c.Width-x-2))
		if look.Bold {
			c.SelectRow(0, y, c.Width, 1)
		}
		y++
	}
	return y
}

// pickedSteps returns the only steps of a test that the pick asks for.
func (v View) pickedSteps(t *catalog.Test) []string {
	at, ok := slices.BinarySearchFunc(v.session.Picked.Selected, t, func(a catalog.Test, b *catalog.Test) int {
		i, _ := v.session.Picked.Catalog.Index(a.ID)
		j, _ := v.session.Picked.Catalog.Index(b.ID)
		return i - j
	})
	if !ok {
		return nil
	}
	return v.session.Picked.Selected[at].Asks().Steps
}

// clickInList moves the cursor to a row of the list, which has n tests.
func (v *View) clickInList(row, n int) {
	v.Focus, v.Steps.at = OnList, 0
	unfolded := -1 // how far below the first row the test with the steps is
	for i, index := range v.listed.members.From(v.testTop, row+1) {
		if v.session.Picked.Catalog.Tests[index].ID == v.Steps.Test {
			unfolded = i
		}
	}
	shown := len(v.Steps.names) - v.Steps.top
	switch {
	case unfolded < 0 || row <= unfolded:
		v.Test = v.testTop + row
	case row <= unfolded+shown:
		v.Test, v.Steps.at = v.testTop+unfolded, v.Steps.top+row-unfolded
	default:
		v.Test = v.testTop + row - shown
	}
	v.Test = max(0, min(v.Test, n-1))
}
