package hunting

import (
	"cmp"
	"context"
	"maps"
	"path"
	"slices"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/ledger"
	"fernrelay/internal/project"
)

// searching is a search in progress.
type searching struct {
	app Hunting
	Search
	seen   seen
	orders int // that have run
	parts  []*part
	names  map[string][]string        // by group, of the tests that can run
	asked  map[string]*order.Coverage // by group: the pairs that have run, and those that this search has asked for; nil if it is too large
	gauges map[string]order.Gauge     // by group
	shares map[string]order.Shares    // by group, of those that were needed
	took   map[string]float64         // by ID: seconds, as expected or as in the latest order
}

// part is what this search runs in an order of its own: a group, or all groups of a suite whose processes hold several.
type part struct {
	tests   []catalog.Test
	spent   float64   // seconds of the orders that it had
	changed time.Time // the latest time at which a file of it changed; zero if that is not known
	age     float64   // days from then to the latest change of any part
	orders  uint64
	done    bool // no order adds to the pairs that were asked for
}

func (a Hunting) newSearching(ctx context.Context, s Search) (*searching, error) {
	q := &searching{app: a, Search: s, seen: a.seen(s.Tests), names: map[string][]string{}, asked: map[string]*order.Coverage{},
		gauges: map[string]order.Gauge{}, shares: map[string]order.Shares{}, took: map[string]float64{}}
	byName := map[string]*part{}
	for _, t := range s.Tests {
		if t.SkipReason != "" {
			continue
		}
		group := t.GroupName()
		q.names[group] = append(q.names[group], t.Name)
		name := group
		if a.Adapters[t.Suite].Scope() != catalog.GroupLevel {
			name = t.Suite
		}
		if byName[name] == nil {
			byName[name] = &part{}
			q.parts = append(q.parts, byName[name])
		}
		byName[name].tests = append(byName[name].tests, t)
		q.took[t.ID] = t.Expected
	}
	for group, names := range q.names {
		if len(names) > ledger.CoverageMost {
			continue
		}
		c, err := a.coverage(group)
		if err != nil {
			return nil, err
		}
		q.asked[group], q.gauges[group] = c, c.Of(names)
	}
	q.date(ctx)
	return q, nil
}

// date finds out when the parts changed. A file that holds tests is of their parts, and any other of all that have tests in
// its folder.
func (q *searching) date(ctx context.Context) {
	byFile, byFolder := map[string][]*part{}, map[string][]*part{}
	for _, p := range q.parts {
		for _, t := range p.tests {
			if folder := path.Dir(t.File); !slices.Contains(byFile[t.File], p) {
				byFile[t.File] = append(byFile[t.File], p)
				byFolder[folder] = append(byFolder[folder], p)
			}
		}
	}
	for file, at := range project.Dates(ctx, q.app.Project.Dir, slices.Collect(maps.Keys(byFile))) {
		parts := byFile[file]
		if parts == nil {
			parts = byFolder[path.Dir(file)]
		}
		for _, p := range parts {
			if at.After(p.changed) {
				p.changed = at
			}
		}
	}
	q.age()
}

// age sets the ages of the parts. Those of which git says nothing are as old as the oldest other one.
func (q *searching) age() {
	var latest, oldest time.Time
	for _, p := range q.parts {
		if p.changed.After(latest) {
			latest = p.changed
		}
		if oldest.IsZero() || p.changed.Before(oldest) && !p.changed.IsZero() {
			oldest = p.changed
		}
	}
	for _, p := range q.parts {
		if p.changed.IsZero() {
			p.changed = oldest
		}
		p.age = latest.Sub(p.changed).Hours() / 24
	}
}

// reveal runs tests in orders that have not been tried until the outcome of some test, not among those known, differs.
func (q *searching) reveal(ctx context.Context, until time.Time, known map[string]bool, report func(Revealed)) (victims []catalog.Test, err error) {
	limited, cancel := context.WithDeadline(ctx, until)
	defer cancel()
	for limited.Err() == nil && len(victims) == 0 {
		tests := q.next()
		if tests == nil {
			return nil, nil
		}
		r, err := q.run(limited, tests)
		if err != nil {
			return nil, err
		}
		q.orders++
		q.seen.add(r)
		for _, t := range q.Tests {
			if q.seen.good[t.ID] && q.seen.bad[t.ID] && !known[t.ID] {
				victims = append(victims, t)
			}
		}
		gauge := q.gauge()
		report(Revealed{Order: q.orders, Run: r, Gauge: gauge, Victims: victims})
		if q.Enough*float64(gauge.Pairs) <= float64(gauge.Neighbours) {
			break
		}
	}
	return victims, ctx.Err()
}

// run runs tests in their order and measures what they have covered.
func (q *searching) run(ctx context.Context, tests []catalog.Test) (*run.Run, error) {
	request, err := q.app.NewRequest("", q.app.WithNeeds(tests), q.Hunt.Workers)
	if err != nil {
		return nil, err
	}
	request.InOrder = true
	r, _, err := q.app.Run(ctx, request, func(run.Event) {})
	if err != nil {
		return nil, err
	}
	for _, result := range r.Results {
		if result.Worker > 0 {
			q.took[result.ID] = result.Seconds
		}
	}
	return r, q.measure(tests)
}

// measure reads which pairs of the tests' groups have run.
func (q *searching) measure(tests []catalog.Test) error {
	measured := map[string]bool{}
	for i := range tests {
		group := tests[i].GroupName()
		if measured[group] || q.asked[group] == nil {
			continue
		}
		measured[group] = true
		c, err := q.app.coverage(group)
		if err != nil {
			return err
		}
		q.gauges[group] = c.Of(q.names[group])
	}
	return nil
}

// gauge adds up what has run of all groups.
func (q *searching) gauge() (all order.Gauge) {
	for _, g := range q.gauges {
		all.Add(g)
	}
	return all
}

// ordersPerBudget is the number of orders into which a search divides its time, unless a single part takes longer.
const ordersPerBudget = 60

// next returns tests in the order to run next: orders of the parts whose turn it is, at most as many as keep the workers busy
// for a part of the budget; nil if every order has been tried. A part gets the less time the longer ago it changed: half of that of
// the latest if it changed a day before, a tenth after nine days.
func (q *searching) next() (tests []catalog.Test) {
	waiting := slices.DeleteFunc(slices.Clone(q.parts), func(p *part) bool { return p.done })
	turn := make(map[*part]float64, len(waiting))
	for _, p := range waiting {
		turn[p] = (p.spent + q.seconds(p.tests)) * (1 + p.age)
	}
	slices.SortStableFunc(waiting, func(x, y *part) int { return cmp.Compare(turn[x], turn[y]) })
	seconds, workers := 0.0, max(1, q.Hunt.Workers)
	for taken, p := range waiting {
		enough := seconds > float64(workers)*q.Budget.Seconds()/ordersPerBudget
		if later := turn[p] > 2*turn[waiting[0]]; taken >= workers && tests != nil && (enough || later) {
			break
		}
		some := q.orderOf(p)
		tests = append(tests, some...)
		seconds, p.spent = seconds+q.seconds(some), p.spent+q.seconds(some)
	}
	return tests
}

// seconds is what tests take together.
func (q *searching) seconds(tests []catalog.Test) (sum float64) {
	for i := range tests {
		sum += q.took[tests[i].ID]
	}
	return sum
}

// orderOf returns the next order of a part; nil if every one has been tried.
func (q *searching) orderOf(p *part) []catalog.Test {
	tests, gain := order.Revealing(p.tests, func(group string) *order.Coverage { return q.asked[group] }, q.sharesOf, p.orders)
	if gain == 0 {
		p.done = true
		return nil
	}
	p.orders++
	names := map[string][]string{}
	for i := range tests {
		names[tests[i].GroupName()] = append(names[tests[i].GroupName()], tests[i].Name)
	}
	for group, names := range names {
		if c := q.asked[group]; c != nil {
			c.Add(names)
		}
	}
	return tests
}

// sharesOf returns how the tests of a group share state, nil if its adapter does not know.
func (q *searching) sharesOf(group []catalog.Test) order.Shares {
	name := group[0].GroupName()
	if shares, known := q.shares[name]; known {
		return shares
	}
	if a, ok := q.app.Adapters[group[0].Suite].(adapter.Sharer); ok {
		q.shares[name] = a.Shares(group)
	} else {
		q.shares[name] = nil
	}
	return q.shares[name]
}
