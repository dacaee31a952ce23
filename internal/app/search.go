package app

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
func (a *App) Coverage(tests []catalog.Test) (g order.Gauge, unfollowed int, err error) {
	byGroup := map[string][]string{}
	for _, t := range tests {
		if t.SkipReason == "" {
			group := t.Suite + ":" + t.Group
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

func (a *App) coverage(group string) (*order.Coverage, error) {
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
	Hunt   HuntOptions
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
func (a *App) Search(ctx context.Context, s Search, p SearchProgress) (findings []hunt.Finding, err error) {
	findings = []hunt.Finding{}
	known := map[string]bool{} // tests that turned out not to be victims
	for until := time.Now().Add(s.Budget); time.Now().Before(until); {
		victims, err := a.reveal(ctx, s, until, known, p.Order)
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
	return findings, nil
}

// reveal runs tests in orders that have not been tried, the most revealing first, until the outcome of some
// test, not among those known, differs.
func (a *App) reveal(ctx context.Context, s Search, until time.Time, known map[string]bool, report func(Revealed)) (victims []catalog.Test, err error) {
	limited, cancel := context.WithDeadline(ctx, until)
	defer cancel()
	seen := a.seen(s.Tests)
	for n := 1; limited.Err() == nil && len(victims) == 0; n++ {
		tests, err := a.revealing(s.Tests, n)
		if err != nil || tests == nil {
			return nil, err
		}
		q, err := a.NewRequest("", tests, s.Hunt.Workers)
		if err != nil {
			return nil, err
		}
		q.InOrder = true
		r, _, err := a.Run(limited, q, func(run.Event) {})
		if err != nil {
			return nil, err
		}
		seen.add(r)
		victims = slices.DeleteFunc(slices.Clone(s.Tests), func(t catalog.Test) bool { return !seen.good[t.ID] || !seen.bad[t.ID] || known[t.ID] })
		gauge, _, err := a.Coverage(s.Tests)
		if err != nil {
			return nil, err
		}
		report(Revealed{Order: n, Run: r, Gauge: gauge, Victims: victims})
		if s.Enough*float64(gauge.Pairs) <= float64(gauge.Neighbours) {
			break
		}
	}
	return victims, ctx.Err()
}

// revealing returns tests in the order that reveals the most; nil if every order has been tried.
func (a *App) revealing(tests []catalog.Test, n int) ([]catalog.Test, error) {
	var failed error
	followed := func(group string) *order.Coverage {
		c, err := a.coverage(group)
		if err != nil {
			failed = err
			return &order.Coverage{}
		}
		if len(c.Tests) > ledger.CoverageMost {
			return nil
		}
		return c
	}
	runnable := slices.DeleteFunc(slices.Clone(tests), func(t catalog.Test) bool { return t.SkipReason != "" })
	ordered, gain := order.Revealing(runnable, followed, uint64(n-1))
	if failed != nil || gain == 0 {
		return nil, failed
	}
	return ordered, nil
}

// seen is, by ID, whether tests passed in some order, and whether they were bad in one of this search.
type seen struct{ good, bad map[string]bool }

func (a *App) seen(tests []catalog.Test) seen {
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
