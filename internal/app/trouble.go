package app

import (
	"cmp"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
)

// Troubled sorts tests by trouble, as the ledger's screens do: those that were bad in their latest run first,
// then by how often and how recently they were bad. Tests without trouble keep their order. first has the rank,
// from 1, of each test with trouble.
func (a *App) Troubled(tests []catalog.Test) (sorted []catalog.Test, first map[string]int, err error) {
	past, err := a.Ledger().Past(history.PastRuns, nil)
	if err != nil {
		return nil, nil, err
	}
	troubles := make(map[string]trouble, len(past.History.IDs))
	for i, id := range past.History.IDs {
		troubles[id] = trouble{bad: a.badLast(id), Figures: &past.Figures[i]}
	}
	var troubled, others []catalog.Test
	for _, t := range tests {
		if x, ok := troubles[t.ID]; ok && (x.bad || x.Trouble > 0) {
			troubled = append(troubled, t)
		} else {
			others = append(others, t)
		}
	}
	slices.SortStableFunc(troubled, func(a, b catalog.Test) int { return troubles[a.ID].compare(troubles[b.ID]) })
	first = make(map[string]int, len(troubled))
	for i := range troubled {
		first[troubled[i].ID] = i + 1
	}
	return append(troubled, others...), first, nil
}

// trouble is how troubled a test is.
type trouble struct {
	bad bool // in its latest run
	*history.Figures
}

// compare is negative if t comes before other.
func (t trouble) compare(other trouble) int {
	if t.bad != other.bad {
		if t.bad {
			return -1
		}
		return 1
	}
	return cmp.Or(cmp.Compare(other.Trouble, t.Trouble), cmp.Compare(other.Flips, t.Flips))
}

// badLast reports whether a test was bad in its latest run.
func (a *App) badLast(id string) bool {
	latest := a.PastOf(id)
	return len(latest) > 0 && latest[len(latest)-1].Bad()
}
