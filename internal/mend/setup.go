package mend

import (
	"errors"
	"fmt"
	"go/types"
	"slices"
	"strconv"
	"strings"

	"fernrelay/core/hunt"
)

// SetUps returns the changes of a test that passes only after others, so that it sets up itself what they leave: all that is
// proved to make the difference or, if nothing is, each piece that changed. It calls others, which returns those tests, only if
// it must read how they set something. The error says what it cannot set up and why.
func (t *Test) SetUps(changes []hunt.Change, others func() ([]*Test, error)) ([]Candidate, error) {
	proved := slices.DeleteFunc(slices.Clone(changes), func(c hunt.Change) bool { return !c.Proved })
	sets := [][]hunt.Change{proved}
	if len(proved) == 0 {
		sets = nil
		for _, c := range changes {
			sets = append(sets, []hunt.Change{c})
		}
	}
	var candidates []Candidate
	var reasons []error
	for _, set := range sets {
		content, err := t.setUps(set, others)
		if err != nil {
			reasons = append(reasons, err)
			continue
		}
		candidates = append(candidates, Candidate{t.place.File, t.source, content})
	}
	switch {
	case candidates != nil:
		return candidates, nil
	case reasons == nil:
		return nil, errors.New("no piece of state changed")
	}
	return nil, errors.Join(reasons...)
}

// setUps returns the test's file with some pieces of state set up in the test.
func (t *Test) setUps(changes []hunt.Change, others func() ([]*Test, error)) ([]byte, error) {
	var edits []edit
	for _, c := range changes {
		e, err := t.setUp(c, others)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", c.Kind, c.Name, err)
		}
		edits = append(edits, e)
	}
	return t.apply(edits)
}

// setUp returns an edit that gives a piece of state the value that the others leave, and restores it at the end.
func (t *Test) setUp(c hunt.Change, others func() ([]*Test, error)) (edit, error) {
	if c.Kind == hunt.Environment && !t.parallel() {
		return t.lines("", nil, fmt.Sprintf("%s.Setenv(%q, %q)", t.handle, c.Name, c.After)), nil
	}
	if c.Kind != hunt.Variable {
		return edit{}, fmt.Errorf("a %s is not set up by a patch", c.Kind)
	}
	v, expr, imports, err := t.find(c)
	if err != nil {
		return edit{}, err
	}
	if expr == "" {
		return edit{}, errors.New("it is not exported")
	}
	old := t.freshOld(v.Name())
	if value, ok := literal(v.Type(), c.After); ok {
		saved := t.keep(old, copying{save: expr, into: expr})
		return t.lines("", imports, append(saved, expr+" = "+value)...), nil
	}
	b, err := t.borrow(c, others)
	if err != nil {
		return edit{}, err
	}
	ways, err := copies(v.Type(), expr)
	if err != nil {
		return edit{}, err
	}
	way := ways[len(ways)-1]
	if b.whole {
		way = copying{save: expr, into: expr}
	}
	imports = append(append(imports, b.imports...), way.imports...)
	return t.lines("", imports, append(t.keep(old, way), b.lines...)...), nil
}

// literal returns a value that a finding shows as Go source. The values of basic types are shown as a whole, unless they are
// long.
func literal(of types.Type, shown string) (source string, ok bool) {
	basic, ok := of.Underlying().(*types.Basic)
	switch {
	case !ok || strings.Contains(shown, "…"):
		return "", false
	case basic.Info()&types.IsString != 0:
		if _, err := strconv.Unquote(shown); err == nil {
			return shown, true
		}
		return strconv.Quote(shown), true
	}
	return shown, true // the compiler refuses what is none
}
