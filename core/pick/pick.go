// Package pick is the language that selects tests.
//
//	frost                  tests that carry the tag frost (* and ? match)
//	in:irrigation/**       tests of a place: a group, a folder or a file
//	name:/^TestDrip/       by name: a part of it, or a regular expression (RE2)
//	took>2s was:failed     by what is known from earlier runs
//	saved:quick            by another pick that was saved under a name
//	frost not nightly      terms side by side mean and; or, not and () work too
//
// Parse returns a tree whose String form parses to the same tree, in the manner of go/build/constraint; an *Error
// points at the column. An Index evaluates trees over a catalog and explains them:
//
//	x := pick.NewIndex(c, pick.Source{})
//	selected, err := x.Selected(text, expr)
//
// Conditions, such as os:linux or go>=1.25, are the same language over other fields; see ParseCondition.
package pick

import (
	"slices"
	"strings"
)

// Expr is a node of a parsed pick: *And, *Or, *Not, *Term or All.
type Expr interface {
	// Eval evaluates the expression; holds reports whether a term is true.
	Eval(holds func(*Term) bool) bool
	// String returns the expression in a form that parses to the same tree.
	String() string
	// Column is the place at which the expression begins in its text, from 1, in characters.
	Column() int
}

// All is the empty pick: it holds every test.
type All struct{}

// And holds what both sides hold.
type And struct{ X, Y Expr }

// Or holds what either side holds.
type Or struct{ X, Y Expr }

// Not holds what X does not.
type Not struct {
	X  Expr
	At int // the column of the word not
}

// Term is a tag or a field with a value.
type Term struct {
	Field  string // "tag" for a bare word
	Op     string // ":" or a comparison; empty for a field that takes no value
	Value  string
	Regexp bool // Value was between slashes
	At     int  // the column of its first character

	in string // the crossing to whose runs it is restricted, as in store=redis; empty for none
}

func (All) Eval(func(*Term) bool) bool { return true }
func (All) String() string             { return "" }
func (All) Column() int                { return 1 }

func (e *And) Eval(holds func(*Term) bool) bool  { return e.X.Eval(holds) && e.Y.Eval(holds) }
func (e *Or) Eval(holds func(*Term) bool) bool   { return e.X.Eval(holds) || e.Y.Eval(holds) }
func (e *Not) Eval(holds func(*Term) bool) bool  { return !e.X.Eval(holds) }
func (e *Term) Eval(holds func(*Term) bool) bool { return holds(e) }

func (e *And) Column() int  { return e.X.Column() }
func (e *Or) Column() int   { return e.X.Column() }
func (e *Not) Column() int  { return e.At }
func (e *Term) Column() int { return e.At }

func (e *And) String() string { return side(e.X, isOr) + " " + side(e.Y, isOrAnd) }
func (e *Or) String() string  { return e.X.String() + " or " + side(e.Y, isOr) }
func (e *Not) String() string { return "not " + side(e.X, isOrAnd) }

func (e *Term) String() string {
	value := e.Value
	switch {
	case e.Op == "":
		return e.Field
	case e.Regexp:
		value = "/" + strings.ReplaceAll(value, "/", `\/`) + "/"
	case value == "" || strings.IndexFunc(value, func(r rune) bool { return !inWord(r) }) >= 0 || value[0] == '/' && e.Field == "name":
		value = quote(value)
	case e.Field == fieldTag && (keyword(value) || strings.ContainsAny(value, ":<>=")):
		value = quote(value)
	}
	if e.Field == fieldTag {
		return value
	}
	return e.Field + e.Op + value
}

func isOr(e Expr) bool {
	_, ok := e.(*Or)
	return ok
}

func isOrAnd(e Expr) bool {
	_, and := e.(*And)
	return and || isOr(e)
}

func side(e Expr, brackets func(Expr) bool) string {
	if brackets(e) {
		return "(" + e.String() + ")"
	}
	return e.String()
}

func quote(value string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(value) + `"`
}

// Tag and Field make terms as they are written, for picks that a program puts
// together.
func Tag(tag string) string         { return (&Term{Field: fieldTag, Op: ":", Value: tag}).String() }
func Field(field, is string) string { return (&Term{Field: field, Op: ":", Value: is}).String() }

// Join narrows a pick, as it is written, by another. Either may be empty.
func Join(text, more string) string {
	if text == "" || more == "" {
		return text + more
	}
	return bracketed(text, isOr) + " " + bracketed(more, isOr)
}

// Without takes what another pick holds out of a pick.
func Without(text, less string) string {
	return Join(text, "not "+bracketed(less, isOrAnd))
}

func bracketed(text string, brackets func(Expr) bool) string {
	if e, err := Parse(text); err == nil && brackets(e) {
		return "(" + text + ")"
	}
	return text
}

// Clauses returns the parts of a pick that are side by side at its top: each narrows what the ones before it left.
func Clauses(e Expr) []Expr {
	switch e := e.(type) {
	case All:
		return nil
	case *And:
		return append(Clauses(e.X), Clauses(e.Y)...)
	}
	return []Expr{e}
}

// AsksPast reports whether a run of a pick's tests may change what the pick selects: it asks for outcomes or times, or
// for a saved pick, which may.
func AsksPast(e Expr) bool {
	asks := false
	Terms(e, func(t *Term) {
		asks = asks || slices.Contains([]string{"was", "rate", "flips", "new", "took", "saved"}, t.Field)
	})
	return asks
}

// Terms calls visit for every term of a pick, from left to right.
func Terms(e Expr, visit func(*Term)) {
	switch e := e.(type) {
	case *And:
		Terms(e.X, visit)
		Terms(e.Y, visit)
	case *Or:
		Terms(e.X, visit)
		Terms(e.Y, visit)
	case *Not:
		Terms(e.X, visit)
	case *Term:
		visit(e)
	}
}

// Deciding returns the smallest part of an expression that decides its value: the first false side of an "and"
// that is false, and the first true side of an "or" that is true.
func Deciding(e Expr, holds func(*Term) bool) Expr {
	switch e := e.(type) {
	case *And:
		for _, side := range []Expr{e.X, e.Y} {
			if !side.Eval(holds) {
				return Deciding(side, holds)
			}
		}
	case *Or:
		for _, side := range []Expr{e.X, e.Y} {
			if side.Eval(holds) {
				return Deciding(side, holds)
			}
		}
	case *Not:
		if d := Deciding(e.X, holds); isOrAnd(e.X) && d != e.X {
			return &Not{X: d, At: d.Column()}
		}
	}
	return e
}
