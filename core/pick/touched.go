package pick

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"fernrelay/core/catalog"
)

// saved evaluates the pick that is saved under a name.
func saved(v *evaluation, t *Term) (catalog.Set, error) {
	text, ok := v.index.source.Saved[t.Value]
	if !ok {
		return nil, v.index.notSaved(t.Value)
	}
	if at := slices.Index(v.saved, t.Value); at >= 0 {
		return nil, fmt.Errorf("the saved picks go in a circle: %s → %s", strings.Join(v.saved[at:], " → "), t.Value)
	}
	inner := &evaluation{index: v.index, text: v.text, saved: append(slices.Clip(v.saved), t.Value), at: v.at}
	if inner.at == 0 {
		inner.at = t.At
	}
	e, err := Parse(text)
	if err != nil {
		return nil, fmt.Errorf("in the saved pick %s: %w", t.Value, err)
	}
	set := inner.held(e)
	if inner.err != nil {
		var wrong *Error
		errors.As(inner.err, &wrong)
		return nil, errors.New(wrong.Message)
	}
	return set, nil
}

// notSaved is the error for a name that no pick has. It suggests the nearest name.
func (x *Index) notSaved(name string) error {
	names := x.savedNames()
	none := "no picks are saved yet"
	if len(names) > 0 {
		none = "there are " + strings.Join(names, " ")
	}
	return fmt.Errorf("no pick is saved as %q: %s", name, suggest(name, names, none))
}

func savedFact(x *Index, t *Term, _ int) string {
	return fmt.Sprintf("saved:%s is %s", t.Value, x.source.Saved[t.Value])
}

func touched(v *evaluation, t *Term) (catalog.Set, error) {
	if v.index.source.Touched == nil {
		return nil, errors.New("touched: has no project to ask git about")
	}
	how, err := v.index.source.Touched(v.index, t.Value)
	if err != nil {
		return nil, err
	}
	v.index.mu.Lock()
	v.index.changes[t.Value] = how
	v.index.mu.Unlock()
	tests := v.index.Catalog.Tests
	return v.index.where(func(i int) bool { return how(&tests[i]) != "" }), nil
}

func touchedFact(x *Index, t *Term, i int) string {
	x.mu.Lock()
	how := x.changes[t.Value]
	x.mu.Unlock()
	if how != nil {
		if words := how(&x.Catalog.Tests[i]); words != "" {
			return words
		}
	}
	return "git reports no change to it since " + t.Value
}
