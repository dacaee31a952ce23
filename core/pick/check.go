package pick

import (
	"fmt"
	"strings"

	"fernrelay/core/catalog"
)

// Check reports the first term that can hold no test of the catalog because no
// test carries such a tag, is of such a suite, or of such a kind. The error is
// an *Error for the given text of the pick.
func Check(text string, e Expr, c *catalog.Catalog) error {
	var found error
	Terms(e, func(term *Term) {
		if found != nil {
			return
		}
		candidates := values(term.Field, c)
		if candidates == nil || anyMatches(term, c) {
			return
		}
		message := fmt.Sprintf("no test carries the tag %q", term.Value)
		if term.Field != "tag" {
			message = fmt.Sprintf("no test is of %s %q", term.Field, term.Value)
		}
		none := "there are none in this project"
		if len(candidates) > 0 {
			none = "there are " + strings.Join(candidates[:min(len(candidates), 8)], " ")
		}
		found = &Error{Pick: text, Column: term.Column, Message: message + ": " + suggest(term.Value, candidates, none)}
	})
	return found
}

func anyMatches(term *Term, c *catalog.Catalog) bool {
	for i := range c.Tests {
		if term.Match(&c.Tests[i]) {
			return true
		}
	}
	return false
}

// values lists the values of a field that takes one of a closed set, nil for
// any other field.
func values(field string, c *catalog.Catalog) []string {
	switch field {
	case "tag":
		return append([]string{}, c.Tags()...)
	case "suite":
		return distinct(c, func(t *catalog.Test) string { return t.Suite })
	case "kind":
		return distinct(c, func(t *catalog.Test) string { return string(t.Kind) })
	}
	return nil
}

func distinct(c *catalog.Catalog, of func(*catalog.Test) string) []string {
	seen := map[string]bool{}
	out := []string{}
	for i := range c.Tests {
		if v := of(&c.Tests[i]); !seen[v] {
			seen[v] = true
			out = append(out, v)
		}
	}
	return out
}

// suggest names the candidate nearest to a mistyped word, or says otherwise
// where none is near.
func suggest(word string, candidates []string, otherwise string) string {
	best, least := "", 1+len([]rune(word))/2
	for _, c := range candidates {
		if d := distance(word, c); d < least {
			best, least = c, d
		}
	}
	if best == "" {
		return otherwise
	}
	return fmt.Sprintf("did you mean %q?", best)
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

// Step is one line of a pick's funnel: what a clause left.
type Step struct {
	Clause string
	Sum    catalog.Sum
}

// Funnel tells how many tests are left after each clause, from all of them on.
func Funnel(e Expr, c *catalog.Catalog) []Step {
	clauses := Clauses(e)
	steps := make([]Step, len(clauses)+1)
	steps[0].Clause = "all"
	for i, clause := range clauses {
		steps[i+1].Clause = clause.String()
	}
	for i := range c.Tests {
		t := &c.Tests[i]
		for s := range steps {
			if s > 0 && !clauses[s-1].Match(t) {
				break
			}
			steps[s].Sum.Tests++
			steps[s].Sum.Seconds += t.Expected
		}
	}
	return steps
}
