package mend

import (
	"errors"
	"fmt"
	"go/types"
	"strconv"
	"strings"

	"fernrelay/core/hunt"
)

// SetUps returns the changes of a test that passes only after others, so that it sets up itself what they leave. The error
// says what it cannot set up and why.
func (t *Test) SetUps(changes []hunt.Change) ([]Candidate, error) {
	var edits []edit
	for _, c := range changes {
		if !c.Proved {
			continue
		}
		e, err := t.setUp(c)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", c.Kind, c.Name, err)
		}
		edits = append(edits, e)
	}
	if len(edits) == 0 {
		return nil, errors.New("no piece of state is proved to make the difference")
	}
	content, err := t.apply(edits)
	return []Candidate{{t.place.File, t.source, content}}, err
}

// setUp returns an edit that gives a piece of state the value that the others leave, and restores it at the end.
func (t *Test) setUp(c hunt.Change) (edit, error) {
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
	value, err := literal(v.Type(), c.After)
	if err != nil {
		return edit{}, err
	}
	saved := t.keep(t.freshOld(v.Name()), copying{save: expr, into: expr})
	return t.lines("", imports, append(saved, expr+" = "+value)...), nil
}

// literal returns a value that a finding shows as Go source. The values of basic types are shown as a whole.
func literal(of types.Type, shown string) (string, error) {
	basic, ok := of.Underlying().(*types.Basic)
	switch {
	case !ok || strings.Contains(shown, "…"):
		return "", errors.New("its value cannot be written as a constant: set it up by hand")
	case basic.Info()&types.IsString != 0:
		if _, err := strconv.Unquote(shown); err == nil {
			return shown, nil
		}
		return strconv.Quote(shown), nil
	}
	return shown, nil // the compiler refuses what is none
}
