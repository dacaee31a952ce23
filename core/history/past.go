package history

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/cause"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
)

// PastRuns is the default number of latest runs to look at.
const PastRuns = 100

// Past is what a stretch of runs says together. It does not change once it is made.
type Past struct {
	Runs    []*run.Record // the oldest first
	History *History
	Figures []Figures // by the history's tests
	Work    float64   // seconds that all of the tests take now
	slowest []int
}

// NewPast works out what runs say together, the oldest of them first.
func NewPast(runs []*run.Record, h *History) *Past {
	p := &Past{Runs: runs, History: h, Figures: h.Figures()}
	for i := range p.Figures {
		p.Work += p.Figures[i].Seconds
	}
	p.findSlowest()
	return p
}

// WithChanges returns the past with the tests' changes of time, which take longer to compute.
func (p *Past) WithChanges() *Past {
	changed := *p
	changed.Figures = p.History.FindChanges(p.Figures)
	return &changed
}

// The orders of the tests of a past.
const (
	ByTrouble = "trouble"
	ByTime    = "time"
	ByChange  = "change"
	ByName    = "name"
)

// PastOrders are all of them.
var PastOrders = []string{ByTrouble, ByTime, ByChange, ByName}

// Order returns the places of the tests that held selects, of all if held is nil, in an order: the most troubled
// first, then those that flip; or the slowest; or those whose time changed the most; or by name.
func (p *Past) Order(by string, held func(id string) bool) []int {
	var order []int
	for i, id := range p.History.IDs {
		if held == nil || held(id) {
			order = append(order, i)
		}
	}
	ids := p.History.IDs
	less := map[string]func(a, b int) int{
		ByName: func(a, b int) int { return 0 },
		ByTime: func(a, b int) int { return cmp.Compare(p.Figures[b].Seconds, p.Figures[a].Seconds) },
		ByChange: func(a, b int) int {
			return cmp.Compare(math.Abs(p.Figures[b].Change()), math.Abs(p.Figures[a].Change()))
		},
		ByTrouble: func(a, b int) int {
			x, y := &p.Figures[a], &p.Figures[b]
			return cmp.Or(cmp.Compare(y.Trouble, x.Trouble), cmp.Compare(y.Flips, x.Flips))
		},
	}[by]
	slices.SortFunc(order, func(a, b int) int { return cmp.Or(less(a, b), strings.Compare(ids[a], ids[b])) })
	return order
}

// slowestShown is the number of tests that are listed as the slowest.
const slowestShown = 9

// SlowestTests returns the places of the slowest tests.
func (p *Past) SlowestTests() []int { return p.slowest }

// findSlowest finds the slowest tests of a past.
func (p *Past) findSlowest() {
	for i := range p.Figures {
		at := len(p.slowest)
		for at > 0 && p.Figures[p.slowest[at-1]].Seconds < p.Figures[i].Seconds {
			at--
		}
		if at < slowestShown {
			p.slowest = slices.Insert(p.slowest, at, i)
			p.slowest = p.slowest[:min(len(p.slowest), slowestShown)]
		}
	}
}

// KnownCause is a cause of a run with the run since which it is known; Since is nil if the ledger does not have
// it.
type KnownCause struct {
	cause.Cause
	Since *run.Record
}

// Card is what the ledger knows of one test.
type Card struct {
	ID string
	Figures
	Cells   []Cell
	Runs    []*run.Record
	First   *run.Record // in which it was bad, the first ever; nil if it never was
	Well    *run.Record // in which it was well, the last; nil if it never was
	Earlier Interval    // its pass rate up to ten runs ago
	Share   float64     // of all work
	Caught  *hunt.Saved // the hunt that caught its culprits; nil if none did
}

// recentRuns is how many runs back a card compares the pass rate with.
const recentRuns = 10

// NewCard returns what the runs of a past say about one of its tests. First, and Well if no run of the past
// has it, are for the ledger to add, as is Caught.
func NewCard(p *Past, test int) *Card {
	c := &Card{ID: p.History.IDs[test], Figures: p.Figures[test], Cells: p.History.Past(test), Runs: p.Runs}
	c.Share = c.Seconds / max(p.Work, 1e-9)
	before := Figure(c.Cells[:max(0, len(c.Cells)-recentRuns)])
	c.Earlier = Share(before.Ran-before.Bad, before.Ran)
	if c.LastWell >= 0 {
		c.Well = p.Runs[c.LastWell]
	}
	return c
}

// Spread returns the spread of a test's times in seconds, or 0 if the past does not have the test.
func (p *Past) Spread(id string) float64 {
	test, ok := p.History.Index(id)
	if !ok {
		return 0
	}
	return Spread(p.History.Past(test))
}

// Find finds a test of the past by any unambiguous ending of its ID.
func (p *Past) Find(ending string) (test int, err error) {
	tests := make([]catalog.Test, len(p.History.IDs))
	for i, id := range p.History.IDs {
		tests[i].ID = id
		tests[i].Suite, tests[i].Group, tests[i].Name = catalog.Parts(id)
	}
	found, err := catalog.New(tests).Find(ending)
	if err != nil {
		return 0, fmt.Errorf("in the latest %d runs: %w: --runs looks further back", len(p.Runs), err)
	}
	test, _ = p.History.Index(found.ID)
	return test, nil
}
