package pick

import (
	"fernrelay/core/catalog"
	"fernrelay/core/matrix"
)

// CrossingOf returns the values of the crossing to whose runs a pick is restricted, by crossing: among its clauses; nil if it is
// not.
func CrossingOf(e Expr) matrix.Assignment {
	for _, clause := range Clauses(e) {
		if t, ok := clause.(*Term); ok && t.Field == fieldCrossing {
			of, _ := matrix.ParseAssignment(t.Value) // the parser has checked it
			return of
		}
	}
	return nil
}

// restrict has terms about the past ask only for the runs of the crossing that a clause beside them names.
func restrict(e Expr, in string) {
	for _, clause := range Clauses(e) {
		if t, ok := clause.(*Term); ok && t.Field == fieldCrossing {
			in = t.Value
		}
	}
	for _, clause := range Clauses(e) {
		switch clause := clause.(type) {
		case *Or:
			restrict(clause.X, in)
			restrict(clause.Y, in)
		case *Not:
			restrict(clause.X, in)
		case *Term:
			if clause.Field == fieldCrossing || picks.fields[clause.Field] != nil && picks.fields[clause.Field].past {
				clause.in = in
			}
		}
	}
}

func checkCrossing(t *Term) error {
	_, err := matrix.ParseAssignment(t.Value)
	return err
}

// ranThere selects the tests that ran in the crossing, whose index this is.
func ranThere(v *evaluation, _ *Term) (catalog.Set, error) {
	return v.index.where(func(i int) bool { return v.index.last(i) != "" }), nil
}

func crossingFact(x *Index, t *Term, i int) string {
	if x.last(i) != "" {
		return "it has run in " + t.Value
	}
	return "it never ran in " + t.Value
}
