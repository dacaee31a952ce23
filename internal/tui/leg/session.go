package leg

import (
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/pick"
	"fernrelay/core/plain"
	"fernrelay/internal/app"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/workspace"
)

// Session is what all views see. It never changes: the application replaces it, so that what is drawn always
// belongs together.
type Session struct {
	App    *app.App
	Theme  *screen.Theme
	Picked Figures
	Begun  *Begun // nil if the pick was changed since
}

// Begun is the tests that a run was begun with, by a pick that asks for outcomes or times: the run itself changes what
// it would select.
type Begun struct {
	text string
	ids  []string
}

// Begin returns the tests of the pick, if a run of them changes what the pick selects.
func (f *Figures) Begin() *Begun {
	if !pick.AsksPast(f.Expr) {
		return nil
	}
	b := &Begun{text: f.Text}
	for i := range f.Selected {
		b.ids = append(b.ids, f.Selected[i].ID)
	}
	return b
}

// Figures are what follows from a pick, with the memory that it was evaluated
// over, so that what is drawn always belongs together.
type Figures struct {
	workspace.Tests
	Text     string
	Expr     pick.Expr
	Held     catalog.Set
	Selected []catalog.Test
	Weave    *catalog.Weave
	Signs    map[string]string // by tag: + if the pick narrows to it, - if it excludes it
	Funnel   []pick.Step
	Behind   string // what the pick leaves out behind build constraints, in words
	Fixed    bool   // the tests are those with which a run of the pick was begun
}

// Evaluate works out the figures of a pick. If a run was begun with its tests, those stay picked. The error is a
// *pick.Error.
func Evaluate(m workspace.Tests, text string, begun *Begun) (Figures, error) {
	m.Index.Warm() // free if it has been done before
	f := Figures{Tests: m, Text: text, Signs: map[string]string{}}
	var err error
	if f.Expr, f.Held, err = m.Index.Pick(text); err != nil {
		return f, err
	}
	if begun != nil && begun.text == text {
		f.Held, f.Fixed = catalog.NewSet(len(m.Catalog.Tests)), true
		for _, id := range begun.ids {
			if i, ok := m.Catalog.Index(id); ok {
				f.Held.Add(i)
			}
		}
	}
	f.Selected = m.Only(f.Expr, f.Held)
	f.Weave = catalog.NewWeave(m.Catalog, m.Tree, m.Index.Tags(), m.Index.Within(f.Expr).Has, f.Held.Has)
	if f.Funnel, err = m.Index.Funnel(text, f.Expr); err != nil {
		return f, err
	}
	f.Behind = m.Behind(text)
	for _, clause := range pick.Clauses(f.Expr) {
		f.sign(clause)
	}
	return f, nil
}

// Total returns the number of tests that the pick chooses from.
func (f *Figures) Total() int { return f.Weave.Total.All.Tests }

// sign notes what a clause does with a tag.
func (f *Figures) sign(clause pick.Expr) {
	sign := "+"
	if not, ok := clause.(*pick.Not); ok {
		clause, sign = not.X, "-"
	}
	if term, ok := clause.(*pick.Term); ok && term.Field == "tag" {
		f.Signs[term.Value] = sign
	}
}

// RunPick asks for a run of the picked tests.
func (s *Session) RunPick() tea.Msg {
	if len(s.Picked.Selected) == 0 {
		return SayMsg("the pick selects no test: there is nothing to run")
	}
	return StartRunMsg{Tests: s.Picked.Selected, Picked: true}
}

// GroupAndName takes an ID apart for the screen.
func GroupAndName(id string) (group, name string) {
	suite, group, name := catalog.Parts(plain.Line(id))
	if group == "." {
		group = suite
	}
	return group, name
}
