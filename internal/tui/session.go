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
}

// evaluate works out the figures of a pick. The error is a *pick.Error.
func evaluate(m workspace.Tests, text string) (figures, error) {
	m.Index.Warm() // free if it has been done before
	f := figures{Tests: m, text: text, signs: map[string]string{}}
	var err error
	if f.expr, f.held, err = m.Index.Pick(text); err != nil {
		return f, err
	}
	f.tests = m.Catalog.Only(f.held)
	f.weave = catalog.NewWeave(m.Catalog, m.Tree, m.Catalog.Tags(), f.held.Has)
	if f.funnel, err = m.Index.Funnel(text, f.expr); err != nil {
		return f, err
	}
	for _, clause := range pick.Clauses(f.expr) {
		f.sign(clause)
	}
	return f, nil
}

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
	return startRunMsg{tests: s.picked.tests}
}

// groupAndName takes an ID apart for the screen.
func groupAndName(id string) (group, name string) {
	_, group, name = catalog.Parts(plain.Line(id))
	return group, name
}
