package hunting

import (
	"context"
	"fmt"
	"slices"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/order"
	"fernrelay/core/run"
	"fernrelay/internal/ledger"
)

// Coverage returns how many of the ordered pairs of tests within a group have run, and how many tests are in
// groups that are too large to follow.
func (a Hunting) Coverage(tests []catalog.Test) (g order.Gauge, unfollowed int, err error) {
	byGroup := map[string][]string{}
	for _, t := range tests {
		if t.SkipReason == "" {
			group := t.GroupName()
			byGroup[group] = append(byGroup[group], t.Name)
		}
	}
	for group, names := range byGroup {
		if len(names) > ledger.CoverageMost {
			unfollowed += len(names)
			continue
		}
		covered, err := a.coverage(group)
		if err != nil {
			return g, unfollowed, err
		}
		g.Add(covered.Of(names))
	}
	return g, unfollowed, nil
}

func (a Hunting) coverage(group string) (*order.Coverage, error) {
	c, err := a.Ledger().Coverage(group)
	if err != nil {
		return nil, fmt.Errorf("cannot read which orders of %s have run: %w", group, err)
	}
	return c, nil
}

// Search says how to search for victims that nobody has named.
type Search struct {
	Tests  []catalog.Test // among these
	Budget time.Duration
	Enough float64 // share of the neighbour pairs at which the search ends
	Hunt   Options
}

// SearchProgress receives the steps of a search, one at a time.
type SearchProgress struct {
	Order   func(Revealed)
	Victims func([]catalog.Test) // before they are hunted
	Hunt    func(hunt.Progress)
}

// Revealed is what one order of a search showed.
type Revealed struct {
	Order   int // from 1
	Run     *run.Run
	Gauge   order.Gauge
	Victims []catalog.Test // whose outcome differs from that in other orders
}

// Search runs tests in orders that have not been tried, and hunts those whose outcome differs, until a hunt
// catches culprits, the orders or the budget are exhausted, or ctx ends. It returns the findings of its hunts.
func (a Hunting) Search(ctx context.Context, s Search, p SearchProgress) (findings []hunt.Finding, err error) {
	if err := a.CheckDivisible(s.Tests, "run in other orders"); err != nil {
		return nil, err
	}
	findings = []hunt.Finding{}
	known := map[string]bool{} // tests that turned out not to be victims
	q, err := a.newSearching(ctx, s)
	for until := time.Now().Add(s.Budget); err == nil && time.Now().Before(until); {
		victims, err := q.reveal(ctx, until, known, p.Order)
		if err != nil || len(victims) == 0 {
			return findings, err
		}
		p.Victims(victims)
		found, err := a.Hunt(ctx, victims, s.Hunt, p.Hunt)
		findings = append(findings, found...)
		if err != nil || slices.ContainsFunc(found, func(f hunt.Finding) bool { return len(f.Culprits) > 0 }) {
			return findings, err
		}
		for _, v := range victims {
			known[v.ID] = true
		}
	}
	return findings, err
}

// seen is, by ID, whether tests passed in some order, and whether they were bad in one of this search.
type seen struct{ good, bad map[string]bool }

func (a Hunting) seen(tests []catalog.Test) seen {
	s := seen{map[string]bool{}, map[string]bool{}}
	for _, t := range tests {
		s.good[t.ID] = slices.Contains(a.PastOf(t.ID), run.Passed)
	}
	return s
}

func (s seen) add(ran *run.Run) {
	for _, r := range ran.Results {
		s.good[r.ID] = s.good[r.ID] || r.Outcome == run.Passed
		s.bad[r.ID] = s.bad[r.ID] || r.Outcome.Bad()
	}
}
