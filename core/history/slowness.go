package history

import (
	"cmp"
	"slices"

	"fernrelay/core/catalog"
)

// Slow is a test, a group or a file that takes time.
type Slow struct {
	Name    string  `json:"name"`
	Tests   int     `json:"tests"`
	Seconds float64 `json:"seconds"`
	Share   float64 `json:"share"`              // of all work
	Gain    float64 `json:"gain_s"`             // by how much the finish would be earlier without it
	Before  float64 `json:"before_s,omitempty"` // before it changed; 0 if it did not
	Since   int     `json:"since,omitempty"`    // the run from which on it takes another time; of a test only
}

// Slowness reports where the time goes.
type Slowness struct {
	Workers int     `json:"workers"`
	Work    float64 `json:"work_s"`
	Finish  float64 `json:"finish_s"` // on Workers workers
	Tests   []Slow  `json:"tests"`    // the slowest first
	Groups  []Slow  `json:"groups"`
	Files   []Slow  `json:"files"`
}

// Slowest returns the slowest tests, groups and files, at most n of each, and how much earlier a run on
// workers would end without each. finish returns the seconds that a run takes without some of the tests, by index.
func (p *Past) Slowest(tests []catalog.Test, n, workers int, finish func(without []int) float64) *Slowness {
	s := &Slowness{Workers: workers, Finish: finish(nil)}
	var all, groups, files slowList
	for i := range tests {
		t := &tests[i]
		test, ok := p.History.Index(t.ID)
		if !ok || t.SkipReason != "" || p.Figures[test].Ran == 0 {
			continue
		}
		seconds := p.Figures[test].Seconds
		s.Work += seconds
		all.add(t.ID, i, seconds)
		groups.add(t.GroupName(), i, seconds)
		if t.File != "" {
			files.add(t.File, i, seconds)
		}
	}
	s.Tests = p.slowestOf(&all, n, s, tests, finish)
	for i := range s.Tests {
		if f := p.changeOf(s.Tests[i].Name); f.Changed >= 0 {
			s.Tests[i].Since = p.Runs[f.Changed].Number
		}
	}
	s.Groups = p.slowestOf(&groups, n, s, tests, finish)
	s.Files = p.slowestOf(&files, n, s, tests, finish)
	return s
}

// slowestOf returns the slowest of a list as parts of s.
func (p *Past) slowestOf(l *slowList, n int, s *Slowness, tests []catalog.Test, finish func(without []int) float64) []Slow {
	var slowest []Slow
	for _, item := range l.slowest(n) {
		slow := item.slow
		slow.Gain = max(0, s.Finish-finish(item.members))
		slow.Share = slow.Seconds / max(s.Work, 1e-9)
		for _, i := range item.members {
			f := p.changeOf(tests[i].ID)
			slow.Before += cmp.Or(f.Before, f.Seconds)
		}
		if slow.Before == slow.Seconds {
			slow.Before = 0 // nothing of it changed
		}
		slowest = append(slowest, slow)
	}
	return slowest
}

// changeOf returns the figures of a test with the change of its time. Finding it for all tests would take longer.
func (p *Past) changeOf(id string) Figures {
	test, _ := p.History.Index(id)
	f := p.Figures[test]
	f.FindChange(p.History.Past(test))
	return f
}

// slowList adds up what takes time, by name.
type slowList struct {
	items []*slowItem
	at    map[string]*slowItem
}

type slowItem struct {
	slow    Slow
	members []int // of the tests
}

func (l *slowList) add(name string, member int, seconds float64) {
	if l.at == nil {
		l.at = map[string]*slowItem{}
	}
	item := l.at[name]
	if item == nil {
		item = &slowItem{slow: Slow{Name: name}}
		l.at[name] = item
		l.items = append(l.items, item)
	}
	item.members = append(item.members, member)
	item.slow.Tests++
	item.slow.Seconds += seconds
}

func (l *slowList) slowest(most int) []*slowItem {
	slices.SortStableFunc(l.items, func(a, b *slowItem) int { return cmp.Compare(b.slow.Seconds, a.slow.Seconds) })
	return l.items[:min(most, len(l.items))]
}
