package run

import (
	"cmp"
	"slices"

	"fernrelay/core/catalog"
)

// SuiteResults is the results of a suite in a run.
type SuiteResults struct {
	Name   string
	Groups []*GroupResults // those with the most bad tests first
}

// GroupResults is the results of a group in a run.
type GroupResults struct {
	Name    string    // within its suite
	Results []*Result // the bad ones first, else in the run's order
	Counts  map[Outcome]int
	Ran     int // tests that ended
	Passed  int // of those, the ones that were not bad
	Seconds float64
}

// Suites groups the results of the run by suites and groups.
func (r *Run) Suites() []*SuiteResults {
	var all []*SuiteResults
	suites, groups := map[string]*SuiteResults{}, map[string]*GroupResults{}
	for _, res := range r.Results {
		name, within, _ := catalog.Parts(res.ID)
		place := name + ":" + within
		g := groups[place]
		if g == nil {
			s := suites[name]
			if s == nil {
				s = &SuiteResults{Name: name}
				suites[name] = s
				all = append(all, s)
			}
			g = &GroupResults{Name: within, Counts: map[Outcome]int{}}
			groups[place] = g
			s.Groups = append(s.Groups, g)
		}
		g.add(res)
	}
	for _, s := range all {
		slices.SortStableFunc(s.Groups, func(a, b *GroupResults) int { return cmp.Compare(CountBad(b.Counts), CountBad(a.Counts)) })
	}
	for _, g := range groups {
		slices.SortStableFunc(g.Results, func(a, b *Result) int {
			switch {
			case a.Outcome.Bad() == b.Outcome.Bad():
				return 0
			case a.Outcome.Bad():
				return -1
			}
			return 1
		})
	}
	return all
}

func (g *GroupResults) add(res *Result) {
	g.Results = append(g.Results, res)
	g.Counts[res.Outcome]++
	g.Seconds += res.Seconds
	bad, something := res.Outcome.Evidence()
	if something {
		g.Ran++
		if !bad {
			g.Passed++
		}
	}
}
