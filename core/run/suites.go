package run

import (
	"cmp"
	"slices"

	"fernrelay/core/catalog"
)

// Totals sums up the results of tests.
type Totals struct {
	Counts  map[Outcome]int
	Ran     int // tests that ended
	Passed  int // of those, the ones that were not bad
	Seconds float64
}

// Section is the results of a suite, a group or a file in a run.
type Section struct {
	Name string // within the section around it
	Totals
	Sections []*Section // what it is made of, those with the most bad tests first; nil of one whose tests are listed
	Results  []*Result  // its tests, the bad ones first, else in the run's order; nil of one with sections
}

// Suites divides the results of the run into suites, these into groups, and these into the files that file returns by the
// ID of a test. A group has no files if they are not known.
func (r *Run) Suites(file func(id string) string) []*Section {
	all := &Section{}
	for _, res := range r.Results {
		suite, group, _ := catalog.Parts(res.ID)
		levels := []string{suite, group}
		if name := file(res.ID); name != "" {
			levels = append(levels, name)
		}
		at := all
		for _, name := range levels {
			at = at.section(name)
			at.add(res)
		}
		at.Results = append(at.Results, res)
	}
	all.arrange()
	return all.Sections
}

// section returns a section within this one by its name, and makes it if there is none.
func (p *Section) section(name string) *Section {
	if n := len(p.Sections); n > 0 && p.Sections[n-1].Name == name {
		return p.Sections[n-1]
	}
	if at := slices.IndexFunc(p.Sections, func(other *Section) bool { return other.Name == name }); at >= 0 {
		return p.Sections[at]
	}
	made := &Section{Name: name, Totals: Totals{Counts: map[Outcome]int{}}}
	p.Sections = append(p.Sections, made)
	return made
}

func (t *Totals) add(res *Result) {
	t.Counts[res.counted()]++
	if res.Entry {
		return
	}
	t.Seconds += res.Seconds
	bad, something := res.Outcome.Evidence()
	if something {
		t.Ran++
		if !bad {
			t.Passed++
		}
	}
}

// arrange puts what is bad first. Tests whose file is not known are in a section without a name if others of the group have
// files.
func (p *Section) arrange() {
	if len(p.Sections) > 0 && len(p.Results) > 0 {
		rest := p.section("")
		for _, res := range p.Results {
			rest.add(res)
		}
		rest.Results, p.Results = p.Results, nil
	}
	slices.SortStableFunc(p.Sections, func(a, b *Section) int { return cmp.Compare(CountBad(b.Counts), CountBad(a.Counts)) })
	slices.SortStableFunc(p.Results, func(a, b *Result) int {
		switch {
		case a.Outcome.Bad() == b.Outcome.Bad():
			return 0
		case a.Outcome.Bad():
			return -1
		}
		return 1
	})
	for _, section := range p.Sections {
		section.arrange()
	}
}
