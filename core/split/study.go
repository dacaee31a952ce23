package split

import (
	"cmp"
	"fmt"
	"sort"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
)

// Study is a set of tests, prepared to be split in different ways.
type Study struct {
	Tests    []catalog.Test
	Together catalog.Level // the level of all tests; empty if they differ
	Fleet    Fleet
	Work     *Work
}

// NewStudy prepares tests to be split, at one level or, if together is empty, at the level of each test. shared names the resources that all machines share. The error says what is
// wrong with the tests or the fleet.
func NewStudy(tests []catalog.Test, together catalog.Level, f Fleet, shared ...string) (*Study, error) {
	if err := f.Check(); err != nil {
		return nil, err
	}
	units, err := schedule.Units(tests, together, shared...)
	if err != nil {
		return nil, err
	}
	if f.Resources != nil {
		units, f.Resources = schedule.Parts(tests, together, units, f.Resources)
	}
	return &Study{Tests: tests, Together: cmp.Or(together, catalog.CommonLevel(tests)), Fleet: f, Work: NewWork(units)}, nil
}

// Without returns the study as if some of its tests, by index, took no time.
func (s *Study) Without(tests []int) *Study {
	if len(tests) == 0 {
		return s
	}
	left := make(map[string]*catalog.Test, len(tests))
	for _, i := range tests {
		left[s.Tests[i].ID] = &s.Tests[i]
	}
	units := make([]schedule.Unit, len(s.Work.units))
	for i, u := range s.Work.units {
		units[i] = *u
		for _, id := range u.Tests {
			if t := left[id]; t != nil {
				units[i].Seconds -= t.Expected
				units[i].Busy -= t.Expected * t.Share
			}
		}
		units[i].Seconds, units[i].Busy = max(0, units[i].Seconds), max(0, units[i].Busy) // except for rounding
	}
	without := *s
	without.Work = NewWork(units)
	return &without
}

// Plan plans for the study's fleet.
func (s *Study) Plan(effort int) Plan { return s.Work.Plan(s.Fleet, effort) }

// Share returns the tests of one shard of a plan, in the order of the study, and a description by which shards
// that are planned alike can be recognised.
func (s *Study) Share(p Plan, number int) (*run.Planned, []catalog.Test) {
	planned := &run.Planned{Shard: number, Of: len(p.Shards), Plan: p.Fingerprint()}
	planned.Catalog, planned.Timings = Fingerprints(s.Tests)
	planned.Conditions = conditions(s.Tests)
	return planned, catalog.Only(s.Tests, p.Shards[number-1].Tests())
}

// mostConditions bounds the conditions that a plan names.
const mostConditions = 100

// conditions returns the conditions of tests, and whether each is met here.
func conditions(tests []catalog.Test) map[string]bool {
	var met map[string]bool
	for i := range tests {
		condition := tests[i].Rules().OnlyIf
		if condition == "" || len(met) == mostConditions {
			continue
		}
		if met == nil {
			met = map[string]bool{}
		}
		met[condition] = met[condition] || tests[i].SkipReason == ""
	}
	return met
}

// Unused says how many shards of a plan have nothing to run and why, "" if all have something. where names the shards:
// "shard" or "worker".
func (s *Study) Unused(p Plan, where string) string {
	empty := 0
	for i := range p.Shards {
		if len(p.Shards[i].Units) == 0 {
			empty++
		}
	}
	whole := map[string]bool{}
	for _, u := range s.Work.units {
		whole[cmp.Or(u.Of, u.Name)] = true
	}
	units, tests := len(whole), len(s.Tests)
	if empty == 0 || tests == 0 {
		return ""
	}
	have := "have"
	if empty == 1 {
		have = "has"
	}
	head := fmt.Sprintf("%d of %d %ss %s nothing to run: ", empty, len(p.Shards), where, have)
	kind := string(cmp.Or(s.Together, "unit"))
	switch {
	case units == tests && tests == 1:
		return head + "there is only one test"
	case units == tests:
		return head + fmt.Sprintf("there are only %d tests", tests)
	case s.Together == catalog.TestLevel:
		return head + fmt.Sprintf("rules tie the %d tests together (needs, after, or what all machines share)", tests)
	case units == 1 && s.Together == catalog.GroupLevel && s.Tests[0].Kind == catalog.KindScript:
		return head + fmt.Sprintf("all %d tests are one group: together = \"test\" divides it, and group = \"/^(.*)[.]/\" makes groups of the names", tests)
	case units == 1:
		return head + fmt.Sprintf("all %d tests are one %s: together = \"test\" divides it", tests, kind)
	}
	return head + fmt.Sprintf("the %d tests are %d %ss: together = \"test\" divides them", tests, units, kind)
}

// Lateness is how late a worker begins in the outlook of advice, in seconds.
const Lateness = 60

// Advice is everything to know about a plan beside the plan.
type Advice struct {
	Plan       Plan
	Processors int     // that the shards share; 0 if each has enough
	Points     []Point // for 1 shard, 2 shards, …
	Knee       int
	Division   *Division // nil if the longest unit cannot be divided
	Outlook    Outlook
}

// Advise reports what other numbers of shards, at most most, come to, what stands in the way of a plan, and how it
// bears delays.
func (s *Study) Advise(plan Plan, most int) Advice {
	a := Advice{Plan: plan, Processors: s.Fleet.Processors, Points: s.Work.Curve(s.Fleet, max(most, s.Fleet.Shards), Quick)}
	point := &a.Points[s.Fleet.Shards-1]
	point.Finish, point.Floor, point.Optimal, point.Full = plan.Finish, plan.Floor, plan.Optimal, plan.Full
	Smooth(a.Points)
	a.Knee = Knee(a.Points)
	if division, ok := s.Work.division(plan, s.Fleet, s.Tests, Quick); ok {
		a.Division = &division
	}
	a.Outlook = Simulate(plan, s.Fleet, Lateness, 1)
	return a
}

// Within returns the least number of shards that finish within a number of seconds; 0 if no number does.
func (s *Study) Within(seconds float64) int {
	ends := func(n int) bool {
		f := s.Fleet
		f.Shards = n
		return s.Work.Plan(f, Thorough/4).Finish <= seconds
	}
	most := max(1, len(s.Work.units))
	if !ends(most) {
		return 0
	}
	return 1 + sort.Search(most-1, func(n int) bool { return ends(n + 1) })
}
