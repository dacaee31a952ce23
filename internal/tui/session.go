package tui

import (
	"fernrelay/core/catalog"
	"fernrelay/core/pick"
	"fernrelay/core/plain"
	"fernrelay/internal/app"
	"fernrelay/internal/workspace"

	tea "charm.land/bubbletea/v2"
)

// session is what all views see. It never changes: the application replaces it, so that what is drawn always
// belongs together.
type session struct {
	app    *app.App
	theme  *theme
	picked figures
	begun  *begun // nil if the pick was changed since
}

// begun is the tests that a run was begun with, by a pick that asks for outcomes or times: the run itself changes what
// it would select.
type begun struct {
	text string
	ids  []string
}

// begin returns the tests of the pick, if a run of them changes what the pick selects.
func (f *figures) begin() *begun {
	if !pick.AsksPast(f.expr) {
		return nil
	}
	b := &begun{text: f.text}
	for i := range f.tests {
		b.ids = append(b.ids, f.tests[i].ID)
	}
	return b
}

// figures are what follows from a pick, with the memory that it was evaluated
// over, so that what is drawn always belongs together.
type figures struct {
	workspace.Tests
	text   string
	expr   pick.Expr
	held   catalog.Set
	tests  []catalog.Test
	weave  *catalog.Weave
	signs  map[string]string // by tag: + if the pick narrows to it, - if it excludes it
	funnel []pick.Step
	behind string // what the pick leaves out behind build constraints, in words
	fixed  bool   // the tests are those with which a run of the pick was begun
}

// evaluate works out the figures of a pick. If a run was begun with its tests, those stay picked. The error is a
// *pick.Error.
func evaluate(m workspace.Tests, text string, begun *begun) (figures, error) {
	m.Index.Warm() // free if it has been done before
	f := figures{Tests: m, text: text, signs: map[string]string{}}
	var err error
	if f.expr, f.held, err = m.Index.Pick(text); err != nil {
		return f, err
	}
	if begun != nil && begun.text == text {
		f.held, f.fixed = catalog.NewSet(len(m.Catalog.Tests)), true
		for _, id := range begun.ids {
			if i, ok := m.Catalog.Index(id); ok {
				f.held.Add(i)
			}
		}
	}
	f.tests = m.Only(f.expr, f.held)
	f.weave = catalog.NewWeave(m.Catalog, m.Tree, m.Index.Tags(), m.Index.Within(f.expr).Has, f.held.Has)
	if f.funnel, err = m.Index.Funnel(text, f.expr); err != nil {
		return f, err
	}
	f.behind = m.Behind(text)
	for _, clause := range pick.Clauses(f.expr) {
		f.sign(clause)
	}
	return f, nil
}

// total returns the number of tests that the pick chooses from.
func (f *figures) total() int { return f.weave.Total.All.Tests }

// sign notes what a clause does with a tag.
func (f *figures) sign(clause pick.Expr) {
	sign := "+"
	if not, ok := clause.(*pick.Not); ok {
		clause, sign = not.X, "-"
	}
	if term, ok := clause.(*pick.Term); ok && term.Field == "tag" {
		f.signs[term.Value] = sign
	}
}

// runPick asks for a run of the picked tests.
func (s *session) runPick() tea.Msg {
	if len(s.picked.tests) == 0 {
		return sayMsg("the pick selects no test: there is nothing to run")
	}
	return startRunMsg{tests: s.picked.tests, picked: true}
}

// groupAndName takes an ID apart for the screen.
func groupAndName(id string) (group, name string) {
	suite, group, name := catalog.Parts(plain.Line(id))
	if group == "." {
		group = suite
	}
	return group, name
}
