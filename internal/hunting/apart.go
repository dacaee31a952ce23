package hunting

import (
	"fmt"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/order"
)

// KeepApart adds rules to tests so that known culprits do no harm among them: a victim runs before
// the last of its culprits, one that needs others after them, and never at the same time as
// what spoils it then. Where these contradict each other or other rules, the notes say which
// pair is not kept apart.
func (a Hunting) KeepApart(tests []catalog.Test) (apart []catalog.Test, notes []string, err error) {
	known, err := a.Culprits()
	if err != nil {
		return nil, nil, err
	}
	apart = slices.Clone(tests)
	at := make(map[string]int, len(apart))
	for i, t := range apart {
		at[t.ID] = i
	}
	for _, t := range tests {
		h, ok := known[t.ID]
		if !ok {
			continue
		}
		for _, set := range h.Finding.Culprits {
			marked := keepApart(apart, at, h.Finding, set)
			if _, err := order.Settle(marked); err != nil {
				notes = append(notes, fmt.Sprintf("%s cannot be kept apart from %s: %v", t.ID, set[len(set)-1], err))
				continue
			}
			apart = marked
		}
	}
	return apart, notes, nil
}

// keepApart returns the tests with rules for one set of culprits, as far as they are among them; at has the place
// of each.
func keepApart(tests []catalog.Test, at map[string]int, f *hunt.Finding, set []string) []catalog.Test {
	marked := slices.Clone(tests)
	victim := at[f.ID]
	const from = "a hunt"
	for i, id := range set {
		culprit, ok := at[id]
		switch {
		case !ok && f.Verdict == hunt.Brittle:
		case !ok:
			return tests // without this one the others do no harm
		case f.Overlap:
			marked[culprit].StayApart(f.ID, from)
			if i == 0 {
				marked[victim].StayApart(f.ID, from)
			}
		case f.Verdict == hunt.Brittle:
			marked[victim].WaitFor(id, from)
		case i == len(set)-1:
			marked[culprit].WaitFor(f.ID, from)
		}
	}
	return marked
}
