package pick

import (
	"regexp"
	"slices"
	"strings"
	"unicode"

	"fernrelay/core/catalog"
)

// Steps returns, by index, which steps of the held tests a pick asks for. A test that it selects as a whole is not
// among them. Terms ask for steps by step:part, by name:TestX/case and by id:"unit:drip#TestX/case".
func (x *Index) Steps(e Expr, held catalog.Set) map[int][]string {
	e = x.expanded(e, 0)
	asks := false
	Terms(e, func(t *Term) {
		asks = asks || t.Field == fieldStep || strings.Contains(t.Value, "/") && (t.Field == "name" || t.Field == "id")
	})
	if !asks {
		return nil
	}
	steps := map[int][]string{}
	for i := range held.All {
		if chosen := x.stepsOf(e, i); chosen != nil {
			steps[i] = chosen
		}
	}
	return steps
}

// stepsOf returns the steps of Tests[i] for which a pick holds, nil if it holds for the test as a whole.
func (x *Index) stepsOf(e Expr, i int) []string {
	var asking []*stepTerm
	Terms(e, func(t *Term) {
		if s := x.stepTerm(t, i); s != nil {
			asking = append(asking, s)
		}
	})
	of := func(t *Term) *stepTerm {
		at := slices.IndexFunc(asking, func(s *stepTerm) bool { return s.term == t })
		if at < 0 {
			return nil
		}
		return asking[at]
	}
	whole := func(t *Term) bool { return of(t) == nil && x.has(t, i) }
	if len(asking) == 0 || e.Eval(whole) {
		return nil
	}
	candidates := x.knownSteps(i)
	for _, s := range asking {
		if s.exact != "" && !slices.Contains(candidates, s.exact) {
			candidates = append(slices.Clip(candidates), s.exact)
		}
	}
	var chosen []string
	for _, step := range candidates {
		holds := func(t *Term) bool {
			if s := of(t); s != nil {
				return s.matches(step)
			}
			return x.has(t, i)
		}
		if e.Eval(holds) {
			chosen = append(chosen, step)
		}
	}
	return slices.DeleteFunc(slices.Clone(chosen), func(step string) bool { // it runs with the step that it is part of
		return slices.ContainsFunc(chosen, func(above string) bool { return strings.HasPrefix(step, above+"/") })
	})
}

// has reports whether a term that was evaluated before holds for Tests[i].
func (x *Index) has(t *Term, i int) bool {
	x.mu.Lock()
	set := x.known[t.String()]
	x.mu.Unlock()
	return set != nil && set.Has(i)
}

// expanded returns a pick with the saved picks in it written out. depth counts those around e, which may go in a circle.
func (x *Index) expanded(e Expr, depth int) Expr {
	switch e := e.(type) {
	case *And:
		return &And{x.expanded(e.X, depth), x.expanded(e.Y, depth)}
	case *Or:
		return &Or{x.expanded(e.X, depth), x.expanded(e.Y, depth)}
	case *Not:
		return &Not{X: x.expanded(e.X, depth), At: e.At}
	case *Term:
		if e.Field != "saved" || depth >= len(x.source.Saved) {
			return e
		}
		if inner, err := Parse(x.source.Saved[e.Value]); err == nil {
			return x.expanded(inner, depth+1)
		}
	}
	return e
}

// stepTerm is a term that holds for some steps of a test only.
type stepTerm struct {
	term    *Term
	exact   string // the one step that it names, if it does
	matches func(step string) bool
}

// stepTerm returns how a term asks for steps of Tests[i], nil if it does not.
func (x *Index) stepTerm(t *Term, i int) *stepTerm {
	switch t.Field {
	case fieldStep:
		return &stepTerm{term: t, matches: stepMatcher(t)}
	case "id":
		if at, step, ok := x.splitID(t.Value); ok && step != "" && at == i {
			return &stepTerm{t, step, func(other string) bool { return other == step }}
		}
	case "name":
		name := x.name(i)
		matches := partMatcher(t.Value)
		if t.Regexp || !strings.Contains(t.Value, "/") || matches(name) {
			return nil
		}
		s := &stepTerm{term: t, matches: func(step string) bool { return matches(name + "/" + step) }}
		of, step, _ := strings.Cut(t.Value, "/")
		if len(x.knownSteps(i)) == 0 && hasSuffix(name, of) {
			s.exact, s.matches = step, func(other string) bool { return other == step }
		}
		return s
	}
	return nil
}

// hasSuffix is as strings.HasSuffix, in any case unless the ending has a capital.
func hasSuffix(name, ending string) bool {
	if !strings.ContainsFunc(ending, unicode.IsUpper) {
		name = strings.ToLower(name)
	}
	return strings.HasSuffix(name, ending)
}

// partMatcher returns a function that reports whether a text contains a part, in any case unless the part has a capital.
func partMatcher(part string) func(string) bool {
	if strings.ContainsFunc(part, unicode.IsUpper) {
		return func(text string) bool { return strings.Contains(text, part) }
	}
	return func(text string) bool { return strings.Contains(strings.ToLower(text), part) }
}

func stepMatcher(t *Term) func(step string) bool {
	if t.Regexp {
		return regexp.MustCompile(t.Value).MatchString // the parser has checked it
	}
	return partMatcher(t.Value)
}

// splitID splits an ID with a step behind it. The step is "" if the ID is a test's own.
func (x *Index) splitID(id string) (test int, step string, ok bool) {
	if i, ok := x.Catalog.Index(id); ok {
		return i, "", true
	}
	for at := strings.LastIndexByte(id, '/'); at > 0; at = strings.LastIndexByte(id[:at], '/') {
		if i, ok := x.Catalog.Index(id[:at]); ok {
			return i, id[at+1:], true
		}
	}
	return 0, "", false
}

// knownSteps returns the steps of Tests[i] in earlier runs.
func (x *Index) knownSteps(i int) []string {
	if x.source.Steps == nil {
		return nil
	}
	return x.source.Steps()[x.Catalog.Tests[i].ID]
}

// KnownSteps returns the names of the steps that a test had in earlier runs, by its ID. The first call may be slow.
func (x *Index) KnownSteps(id string) []string {
	if i, ok := x.Catalog.Index(id); ok {
		return x.knownSteps(i)
	}
	return nil
}

// stepped returns the tests that had a step for which a term holds.
func stepped(v *evaluation, t *Term) (catalog.Set, error) {
	matches := stepMatcher(t)
	return v.index.where(func(i int) bool { return slices.ContainsFunc(v.index.knownSteps(i), matches) }), nil
}

func stepFact(x *Index, t *Term, i int) string {
	steps := x.knownSteps(i)
	if at := slices.IndexFunc(steps, stepMatcher(t)); at >= 0 {
		return "it has the step " + steps[at]
	}
	if len(steps) == 0 {
		return "no steps of it are known from earlier runs"
	}
	return "none of its steps has that name"
}
