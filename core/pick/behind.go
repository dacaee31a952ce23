package pick

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fernrelay/core/catalog"
)

// Selected returns the tests that a pick selects: those that it holds, without those behind a build constraint that is not met
// here, unless it names one of the constraint's words, or the test by its ID or line, outside of not. The error is as that of Held.
func (x *Index) Selected(text string, e Expr) (catalog.Set, error) {
	held, err := x.Held(text, e)
	if err == nil && x.unmet != nil {
		held.AndNot(x.unnamed(e))
	}
	return held, err
}

// Within returns the tests that a pick chooses from: all but those behind a build constraint that it does not name.
func (x *Index) Within(e Expr) catalog.Set {
	all := catalog.NewSet(len(x.Catalog.Tests))
	all.AddRange(0, len(x.Catalog.Tests))
	if x.unmet != nil {
		all.AndNot(x.unnamed(e))
	}
	return all
}

// Behind counts tests behind a build constraint.
type Behind struct {
	Constraint string
	Tests      int
}

// Behind counts, by build constraint, the tests that a pick holds and does not select, the most first. The error is as that of Held.
func (x *Index) Behind(text string, e Expr) ([]Behind, error) {
	if x.unmet == nil {
		return nil, nil
	}
	held, err := x.Held(text, e)
	if err != nil {
		return nil, err
	}
	held.And(x.unnamed(e))
	var behind []Behind
	at := map[string]int{}
	for i := range held.All {
		constraint := x.Catalog.Tests[i].Unmet.Constraint
		if _, known := at[constraint]; !known {
			at[constraint] = len(behind)
			behind = append(behind, Behind{Constraint: constraint})
		}
		behind[at[constraint]].Tests++
	}
	slices.SortStableFunc(behind, func(a, b Behind) int { return cmp.Compare(b.Tests, a.Tests) })
	return behind, nil
}

// constraintsNamed bounds the build constraints that BehindWords names.
const constraintsNamed = 3

// BehindWords returns counts of Behind in words, as in "38 more behind binary_log"; empty for none.
func BehindWords(behind []Behind) string {
	var words []string
	rest := 0
	for i, b := range behind {
		switch {
		case i == 0:
			words = append(words, fmt.Sprintf("%d more behind %s", b.Tests, b.Constraint))
		case i < constraintsNamed:
			words = append(words, fmt.Sprintf("%d behind %s", b.Tests, b.Constraint))
		default:
			rest += b.Tests
		}
	}
	if rest > 0 {
		words = append(words, fmt.Sprintf("%d behind other build constraints", rest))
	}
	return strings.Join(words, ", ")
}

// unnamed returns the tests behind a build constraint that is not met and that a pick does not name.
func (x *Index) unnamed(e Expr) catalog.Set {
	unnamed := slices.Clone(x.unmet)
	x.takeNamed(unnamed, e, nil)
	return unnamed
}

// takeNamed takes the tests out of a set whose build constraint a pick names. saved has the saved picks that it is inside of.
func (x *Index) takeNamed(from catalog.Set, e Expr, saved []string) {
	switch e := e.(type) {
	case *And:
		x.takeNamed(from, e.X, saved)
		x.takeNamed(from, e.Y, saved)
	case *Or:
		x.takeNamed(from, e.X, saved)
		x.takeNamed(from, e.Y, saved)
	case *Term:
		if e.Field == "saved" {
			if inner, err := Parse(x.source.Saved[e.Value]); err == nil && !slices.Contains(saved, e.Value) {
				x.takeNamed(from, inner, append(slices.Clip(saved), e.Value))
			}
			return
		}
		x.takeTerm(from, e)
	}
}

func (x *Index) takeTerm(from catalog.Set, t *Term) {
	names := func(*catalog.Unmet) bool { return true }
	switch t.Field {
	case "id", "at":
	case fieldTag:
		glob := globRegexp(t.Value, ".*")
		names = func(u *catalog.Unmet) bool { return slices.ContainsFunc(u.Tags, glob.MatchString) }
	default:
		return
	}
	set, err := x.Held("", t)
	if err != nil {
		return // evaluating the pick reports it
	}
	set.And(from)
	named := catalog.NewSet(len(x.Catalog.Tests))
	for i := range set.All {
		if u := x.Catalog.Tests[i].Unmet; !u.Settled && names(u) {
			named.Add(i)
		}
	}
	from.AndNot(named)
}

// behindFact says why a pick does not select a test.
func behindFact(u *catalog.Unmet) string {
	if u.Settled {
		return "it is behind the build constraint " + u.Constraint + ", which this system or toolchain does not meet"
	}
	return fmt.Sprintf("it is behind the build constraint %s: name %s in the pick, or set constrained = true in [project]", u.Constraint, strings.Join(u.Tags, " or "))
}
