package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/pick"
	"fernrelay/core/plain"
)

// unfoldedSteps are the steps of one test, shown below it in the list.
type unfoldedSteps struct {
	test  string // its ID; empty for none
	names []string
	at    int // the one under the cursor, from 1; 0 for the test itself
	top   int // the first one shown
}

// stepsReadMsg has the steps that a test had in earlier runs.
type stepsReadMsg struct {
	test  string
	names []string
}

// unfold shows the steps of the test under the cursor, or hides them again.
func (v *survey) unfold() tea.Msg {
	t := v.current()
	if t == nil {
		return nil
	}
	if v.steps.test == t.ID {
		v.steps = unfoldedSteps{}
		return nil
	}
	index, id := v.session.picked.Index, t.ID
	return background(func() tea.Msg { return stepsReadMsg{id, index.KnownSteps(id)} }) // it may read the ledger
}

// takeSteps shows steps that were read, if the cursor is still on their test.
func (v *survey) takeSteps(msg stepsReadMsg) tea.Cmd {
	t := v.current()
	switch {
	case t == nil || t.ID != msg.test:
	case len(msg.names) == 0:
		return func() tea.Msg { return sayMsg("no steps of " + plain.Line(t.Name) + " are known from earlier runs") }
	default:
		v.steps = unfoldedSteps{test: msg.test, names: msg.names}
	}
	return nil
}

// step returns the step under the cursor, "" if it is on a test.
func (v *survey) step() string {
	t := v.current()
	if t == nil || v.focus != onList || t.ID != v.steps.test || v.steps.at == 0 {
		return ""
	}
	return v.steps.names[v.steps.at-1]
}

// moveInList moves the cursor through the tests and the steps that are unfolded.
func (v *survey) moveInList(pressed string) {
	t, s := v.current(), &v.steps
	inside := t != nil && t.ID == s.test
	switch {
	case inside && (pressed == "down" || pressed == "j") && s.at < len(s.names):
		s.at++
		return
	case inside && (pressed == "up" || pressed == "k") && s.at > 0:
		s.at--
		return
	}
	s.at = 0
	before := v.test
	v.test = moved(v.test, pressed, v.list().sum.Tests)
	if t := v.current(); t != nil && t.ID == s.test && v.test < before {
		s.at = len(s.names)
	}
}

// fitSteps keeps the step under the cursor in sight, in a list of a number of rows.
func (v *survey) fitSteps(rows int) {
	if v.step() == "" {
		return
	}
	v.testTop = max(v.testTop, min(v.test, v.test+v.steps.at-rows+1))
	room := rows - 1 - (v.test - v.testTop)
	v.steps.top = follow(v.steps.top, v.steps.at-1, max(1, room), len(v.steps.names))
}

// pickStep is the pick of the step under the cursor.
func pickStep(t *catalog.Test, step string) string { return pick.Field("id", t.ID+"/"+step) }

// drawSteps draws the unfolded steps from row y on, and returns the row after them.
func (v survey) drawSteps(c canvas, y int) int {
	t := c.theme
	last := min(len(v.steps.names), v.steps.top+c.height-y)
	var picked []string
	if test, ok := v.session.picked.Catalog.Lookup(v.steps.test); ok {
		picked = v.pickedSteps(test)
	}
	for i := v.steps.top; i < last; i++ {
		name := v.steps.names[i]
		look := style{colour: t.fog}
		if slices.Contains(picked, name) {
			look.colour = t.leaf
		}
		look.bold = v.focus == onList && v.steps.at == i+1
		x := barWidth + pastShown + 3
		x = c.text(x, y, style{colour: t.faint()}, "└ ")
		c.text(x, y, look, cut(plain.Line(name), c.width-x-2))
		if look.bold {
			c.selectRow(0, y, c.width, 1)
		}
		y++
	}
	return y
}

// pickedSteps returns the only steps of a test that the pick asks for.
func (v survey) pickedSteps(t *catalog.Test) []string {
	at, ok := slices.BinarySearchFunc(v.session.picked.tests, t, func(a catalog.Test, b *catalog.Test) int {
		i, _ := v.session.picked.Catalog.Index(a.ID)
		j, _ := v.session.picked.Catalog.Index(b.ID)
		return i - j
	})
	if !ok {
		return nil
	}
	return v.session.picked.tests[at].Asks().Steps
}

// clickInList moves the cursor to a row of the list, which has n tests.
func (v *survey) clickInList(row, n int) {
	v.focus, v.steps.at = onList, 0
	unfolded := -1 // how far below the first row the test with the steps is
	for i, index := range v.listed.members.From(v.testTop, row+1) {
		if v.session.picked.Catalog.Tests[index].ID == v.steps.test {
			unfolded = i
		}
	}
	shown := len(v.steps.names) - v.steps.top
	switch {
	case unfolded < 0 || row <= unfolded:
		v.test = v.testTop + row
	case row <= unfolded+shown:
		v.test, v.steps.at = v.testTop+unfolded, v.steps.top+row-unfolded
	default:
		v.test = v.testTop + row - shown
	}
	v.test = max(0, min(v.test, n-1))
}
