package history

import (
	"cmp"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
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
// workers would end without each. finish returns the seconds that a run of some tests takes.
func (p *Past) Slowest(tests []catalog.Test, n, workers int, finish func([]catalog.Test) (float64, error)) (*Slowness, error) {
	s := &Slowness{Workers: workers}
	var all, groups, files slowList
	for i := range tests {
		t := &tests[i]
		test, ok := p.History.Index(t.ID)
		if !ok || t.SkipReason != "" || p.Figures[test].Ran == 0 {
			continue
		}
		f := &p.Figures[test]
		s.Work += f.Seconds
		all.add(t.ID, i, f, p.Runs)
		groups.add(t.Suite+":"+t.Group, i, f, nil)
		if t.File != "" {
			files.add(t.File, i, f, nil)
		}
	}
	var err error
	if s.Finish, err = finish(tests); err != nil {
		return nil, err
	}
	for _, l := range []struct {
		from *slowList
		into *[]Slow
	}{{&all, &s.Tests}, {&groups, &s.Groups}, {&files, &s.Files}} {
		for _, item := range l.from.slowest(n) {
			without := slices.Clone(tests)
			for _, i := range item.members {
				without[i].Expected = 0
			}
			seconds, err := finish(without)
			if err != nil {
				return nil, err
			}
			*l.into = append(*l.into, item.report(s, seconds))
		}
	}
	return s, nil
}

// report returns the item as part of s; without is the seconds that a run takes without it.
func (i *slowItem) report(s *Slowness, without float64) Slow {
	slow := i.slow
	slow.Gain = max(0, s.Finish-without)
	slow.Share = slow.Seconds / max(s.Work, 1e-9)
	if slow.Before == slow.Seconds {
		slow.Before = 0 // nothing of it changed
	}
	return slow
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

func (l *slowList) add(name string, member int, f *Figures, runs []*run.Record) {
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
	item.slow.Seconds += f.Seconds
	item.slow.Before += cmp.Or(f.Before, f.Seconds)
	if f.Changed >= 0 && runs != nil {
		item.slow.Since = runs[f.Changed].Number
	}
}

func (l *slowList) slowest(most int) []*slowItem {
	slices.SortStableFunc(l.items, func(a, b *slowItem) int { return cmp.Compare(b.slow.Seconds, a.slow.Seconds) })
	return l.items[:min(most, len(l.items))]
}
