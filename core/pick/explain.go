package pick

import (
	"fmt"
	"strings"

	"fernrelay/core/catalog"
)

// Step is one line of a pick's funnel: what a clause left.
type Step struct {
	Clause string
	Sum    catalog.Sum
}

// Funnel returns how many tests are left after each clause, beginning with all that the pick chooses from. The error is as that
// of Held.
func (x *Index) Funnel(text string, e Expr) ([]Step, error) {
	left := x.Within(e)
	steps := []Step{{Clause: "all", Sum: x.sum(left)}}
	for _, clause := range Clauses(e) {
		held, err := x.Held(text, clause)
		if err != nil {
			return nil, err
		}
		left.And(held)
		steps = append(steps, Step{clause.String(), x.sum(left)})
	}
	return steps, nil
}

func (x *Index) sum(set catalog.Set) catalog.Sum {
	var sum catalog.Sum
	for i := range set.All {
		sum.Add(&x.Catalog.Tests[i])
	}
	return sum
}

// Reason is why a pick holds one test or does not.
type Reason struct {
	Held    bool
	Clause  string // the part of the pick that decides; empty for the empty pick
	Column  int    // its place in the pick, from 1
	Because string // what is so of the test
}

// String returns the reason in words.
func (r Reason) String() string {
	if r.Clause == "" && !r.Held {
		return "out: " + r.Because
	}
	if r.Clause == "" {
		return "in: the empty pick selects every test"
	}
	way := "in by"
	if !r.Held {
		way = "out by"
	}
	return fmt.Sprintf("%s %q at column %d: %s", way, r.Clause, r.Column, r.Because)
}

// Why returns the part of a pick that keeps Tests[i] in or out. The error is as that of Held.
func (x *Index) Why(text string, e Expr, i int) (Reason, error) {
	var failed error
	holds := func(t *Term) bool {
		set, err := x.Held(text, t)
		if err != nil {
			failed = err
			return false
		}
		return set.Has(i)
	}
	r := Reason{Held: e.Eval(holds), Column: 1}
	if r.Held && failed == nil && !x.Within(e).Has(i) {
		return Reason{Column: 1, Because: behindFact(x.Catalog.Tests[i].Unmet)}, nil
	}
	part := Deciding(e, holds)
	if clauses := Clauses(e); r.Held && len(clauses) > 1 {
		part = e // each of the clauses is needed
	}
	if _, all := part.(All); all {
		return r, failed
	}
	r.Clause, r.Column = part.String(), part.Column()
	Terms(part, func(t *Term) {
		in, err := x.of(t)
		if err != nil {
			failed = err
			return
		}
		fact := picks.fields[t.Field].fact(in, t, i)
		switch {
		case r.Because == "":
			r.Because = fact
		case !strings.Contains(r.Because, fact):
			r.Because += "; " + fact
		}
	})
	return r, failed
}
