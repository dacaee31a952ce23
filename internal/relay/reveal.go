package relay

import (
	"context"
	"fmt"
	"slices"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
	"fernrelay/core/run"
	"fernrelay/internal/ledger"
)

// Gauge tells how many of the ordered pairs of tests of one group have run, and how many
// tests stand in groups too large to be followed.
func (r *Relay) Gauge(tests []catalog.Test) (g order.Gauge, apart int, err error) {
	of, failed := r.coverage()
	byGroup := map[string][]string{}
	for _, t := range tests {
		if t.SkipReason == "" {
			group := t.Suite + ":" + t.Group
			byGroup[group] = append(byGroup[group], t.Name)
		}
	}
	for group, names := range byGroup {
		if len(names) > ledger.CoverageMost {
			apart += len(names)
			continue
		}
		g.Add(of(group).Of(names))
	}
	return g, apart, *failed
}

// coverage gives what has run of each group, and what went wrong while it was read.
func (r *Relay) coverage() (of func(group string) *order.Coverage, failed *error) {
	failed = new(error)
	return func(group string) *order.Coverage {
		kept := r.ledger()
		if kept == nil || *failed != nil {
			return &order.Coverage{}
		}
		c, err := kept.Coverage(group)
		if err != nil {
			*failed = fmt.Errorf("which orders of %s have run cannot be read: %w", group, err)
			return &order.Coverage{}
		}
		return c
	}, failed
}

// Search says how victims are looked for that nobody has named.
type Search struct {
	Tests   []catalog.Test // among these
	Workers int
	Budget  time.Duration   // how long
	Enough  float64         // share of the neighbour pairs at which it has been looked for enough
	Apart   map[string]bool // by ID: tests that are known not to be victims
}

// Revealed is what one order of a search showed.
type Revealed struct {
	Order   int // from 1
	Run     *run.Run
	Gauge   order.Gauge
	Victims []catalog.Test // whose outcome was not the same in all orders
}

// Reveal runs tests in orders that have not been tried, the most revealing first, until
// some test does not come out as it did before, all that was asked for has been tried, or
// the time is over. It tells what each order showed.
func (r *Relay) Reveal(ctx context.Context, s Search, tell func(Revealed)) (victims []catalog.Test, err error) {
	limited, cancel := context.WithTimeout(ctx, s.Budget)
	defer cancel()
	good, bad := map[string]bool{}, map[string]bool{}
	for _, t := range s.Tests {
		for _, o := range r.PastOf(t.ID) {
			good[t.ID] = good[t.ID] || o == run.Passed
		}
	}
	for n := 1; limited.Err() == nil && len(victims) == 0; n++ {
		of, failed := r.coverage()
		followed := func(group string) *order.Coverage {
			if c := of(group); len(c.Tests) <= ledger.CoverageMost {
				return c
			}
			return nil
		}
		tests, gain := order.Revealing(runnable(s.Tests), followed, uint64(n-1))
		if *failed != nil || gain == 0 {
			return nil, *failed
		}
		q, err := r.Ready("", tests, s.Workers)
		if err != nil {
			return nil, err
		}
		q.InOrder = true
		ran, _, err := r.Run(limited, q, func(run.Event) {})
		if err != nil {
			return nil, err
		}
		for _, res := range ran.Results {
			good[res.ID] = good[res.ID] || res.Outcome == run.Passed
			bad[res.ID] = bad[res.ID] || res.Outcome.Bad() && res.Outcome != run.Lost
		}
		for _, t := range s.Tests {
			if good[t.ID] && bad[t.ID] && !s.Apart[t.ID] {
				victims = append(victims, t)
			}
		}
		gauge, _, err := r.Gauge(s.Tests)
		if err != nil {
			return nil, err
		}
		tell(Revealed{Order: n, Run: ran, Gauge: gauge, Victims: victims})
		if s.Enough*float64(gauge.Pairs) <= float64(gauge.Neighbours) {
			break
		}
	}
	return victims, ctx.Err()
}

func runnable(tests []catalog.Test) []catalog.Test {
	return slices.DeleteFunc(slices.Clone(tests), func(t catalog.Test) bool { return t.SkipReason != "" })
}
