package pick

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
)

// Check reports what is surely not meant: a term that can hold no test because
// no test carries such a tag or is of such a suite or kind, and two clauses of
// build constraints that no build meets together. The error is an *Error for the
// given text of the pick; so is that of a term that cannot be evaluated.
func (x *Index) Check(text string, e Expr) error {
	var found error
	Terms(e, func(term *Term) {
		if found != nil {
			return
		}
		set, err := x.Held(text, term)
		if err != nil {
			found = err
			return
		}
		candidates := x.values(term.Field)
		if candidates == nil || set.Len() > 0 || x.source.Defined[term.Field+":"+term.Value] {
			return
		}
		message := fmt.Sprintf("no test carries the tag %q", term.Value)
		if term.Field != fieldTag {
			message = fmt.Sprintf("no test is of %s %q", term.Field, term.Value)
		}
		if _, ok := x.source.Saved[term.Value]; ok && term.Field == fieldTag {
			found = &Error{Pick: text, Column: term.At, Message: fmt.Sprintf("%s, but there is a saved pick of that name: write saved:%s", message, term.Value)}
			return
		}
		none := "there are none in this project"
		if len(candidates) > 0 {
			none = "there are " + strings.Join(candidates[:min(len(candidates), 8)], " ")
		}
		if rest, negated := strings.CutPrefix(term.Value, "!"); negated && x.tags[rest] != nil {
			none = "write: not " + Tag(rest)
			candidates = nil
		}
		found = &Error{Pick: text, Column: term.At, Message: message + ": " + suggest(term.Value, candidates, none)}
	})
	if found != nil {
		return found
	}
	return contradiction(text, e)
}

// contradiction finds two clauses that ask for a build constraint and for its opposite, such as the tags linux and
// !linux.
func contradiction(text string, e Expr) error {
	asked := map[string]bool{}
	for _, clause := range Clauses(e) {
		term, ok := clause.(*Term)
		if !ok || term.Field != fieldTag {
			continue
		}
		opposite := "!" + term.Value
		if rest, negated := strings.CutPrefix(term.Value, "!"); negated {
			opposite = rest
		}
		if asked[opposite] {
			return &Error{Pick: text, Column: term.At, Message: fmt.Sprintf("the build constraints %s and %s contradict each other: no build meets both; write %s or %s",
				opposite, term.Value, Tag(opposite), Tag(term.Value))}
		}
		asked[term.Value] = true
	}
	return nil
}

// MaySelect reports whether a pick may select a test of which only the suite is known.
func (x *Index) MaySelect(e Expr, suite string) bool {
	may, _ := possible(x.expanded(e, 0), suite)
	return may
}

// possible reports whether a pick may select a test of a suite, and whether it may leave it out.
func possible(e Expr, suite string) (in, out bool) {
	switch e := e.(type) {
	case *And:
		in1, out1 := possible(e.X, suite)
		in2, out2 := possible(e.Y, suite)
		return in1 && in2, out1 || out2
	case *Or:
		in1, out1 := possible(e.X, suite)
		in2, out2 := possible(e.Y, suite)
		return in1 || in2, out1 && out2
	case *Not:
		in, out = possible(e.X, suite)
		return out, in
	case *Term:
		own, _, _ := strings.Cut(e.Value, ":")
		switch {
		case e.Field == "suite":
			return e.Value == suite, e.Value != suite
		case e.Field == "id" && own != suite:
			return false, true
		}
		return true, true
	}
	return true, false
}

// values lists the values of a field that takes one of a closed set, nil for
// any other field; tags come the most carried first.
func (x *Index) values(field string) []string {
	switch field {
	case fieldTag:
		return append([]string{}, x.Tags()...)
	case "suite", "kind":
		names := []string{}
		for _, c := range x.sums {
			if c.field == field {
				names = append(names, c.value)
			}
		}
		return names
	}
	return nil
}

func (x *Index) savedNames() []string { return slices.Sorted(maps.Keys(x.source.Saved)) }

// suggest names the candidate nearest to a mistyped word, or returns another hint if none is near.
func suggest(word string, candidates []string, otherwise string) string {
	if best := nearest(word, candidates); best != "" {
		return fmt.Sprintf("did you mean %q?", best)
	}
	return otherwise
}

// nearest returns the candidate that is spelled most like a word, "" if none is much like it.
func nearest(word string, candidates []string) (best string) {
	least := 1 + len([]rune(word))/2
	for _, c := range candidates {
		if d := distance(word, c); d < least {
			best, least = c, d
		}
	}
	return best
}

// distance is the number of characters to insert, delete or replace that turns
// a into b (Levenshtein).
func distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	row := make([]int, len(y)+1)
	for j := range row {
		row[j] = j
	}
	for i := range x {
		diagonal := row[0]
		row[0] = i + 1
		for j := range y {
			replace := diagonal
			if x[i] != y[j] {
				replace++
			}
			diagonal = row[j+1]
			row[j+1] = min(replace, row[j]+1, diagonal+1)
		}
	}
	return row[len(y)]
}

// NearPlace returns the term in: of a pick that selects no test, with a place that there is in place of the one that it names;
// empty if every place of the pick has tests or none is like it.
func (x *Index) NearPlace(e Expr) (near string) {
	Terms(e, func(t *Term) {
		set, err := x.Held("", t)
		if near != "" || t.Field != "in" || err != nil || set.Len() > 0 {
			return
		}
		if place := nearest(t.Value, x.places()); place != "" {
			near = Field("in", place)
		}
	})
	return near
}

// places lists the groups, the folders and the files of the tests.
func (x *Index) places() []string {
	seen := map[string]bool{}
	add := func(place string) {
		for ; place != "." && place != "/" && !seen[place]; place = path.Dir(place) {
			seen[place] = true
		}
	}
	for _, g := range x.Catalog.Groups {
		add(g.Name)
	}
	for _, f := range x.files {
		if f.file != "" {
			add(f.file)
			seen[path.Base(f.file)] = true
		}
	}
	return slices.Sorted(maps.Keys(seen))
}
