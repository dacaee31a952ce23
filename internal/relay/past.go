package relay

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/cause"
	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/ledger"
)

// PastRuns is how many of the latest runs are looked at where nothing is said.
const PastRuns = 100

// Past is what a stretch of runs says together. It does not change once it is made.
type Past struct {
	Runs    []*ledger.RunRecord // the oldest first
	History *history.History
	Figures []history.Figures // by the history's tests
	Work    float64           // seconds that all of the tests take now
	slowest []int
}

// Past works out what so many of the latest runs say, those up to a run and with it where one
// is given.
func (r *Relay) Past(most int, upTo *ledger.RunRecord) (*Past, error) {
	kept := r.ledger()
	if kept == nil {
		return NewPast(nil, history.NewHistory(nil, 0)), nil
	}
	runs, h, err := kept.History(most, upTo)
	if err != nil {
		return nil, err
	}
	return NewPast(runs, h), nil
}

// WholePast is Past with the tests' changes of time.
func (r *Relay) WholePast(most int, upTo *ledger.RunRecord) (*Past, error) {
	p, err := r.Past(most, upTo)
	if err != nil {
		return nil, err
	}
	return p.WithChanges(), nil
}

// NewPast works out what runs say together, the oldest of them first.
func NewPast(runs []*ledger.RunRecord, h *history.History) *Past {
	p := &Past{Runs: runs, History: h, Figures: h.Figures()}
	for i := range p.Figures {
		p.Work += p.Figures[i].Seconds
	}
	p.findSlowest()
	return p
}

// WithChanges gives the past with the tests' changes of time, which takes longer to work out.
func (p *Past) WithChanges() *Past {
	changed := *p
	changed.Figures = p.History.FindChanges(p.Figures)
	return &changed
}

// The orders in which the tests of a past stand.
const (
	ByTrouble = "trouble"
	ByTime    = "time"
	ByChange  = "change"
	ByName    = "name"
)

// PastOrders are all of them.
var PastOrders = []string{ByTrouble, ByTime, ByChange, ByName}

// Order gives the places of the tests that are held, of all where held is nil, in an order: the most troubled first, then
// those that flip; or the slowest; or those whose time changed the most; or by name.
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

// slowestShown is how many tests are told as the slowest.
const slowestShown = 9

// Slowest gives the slowest tests, by their places.
func (p *Past) Slowest() []int { return p.slowest }

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

// KnownCause is a cause of a run with the run from which on it is known; nil where it is not kept.
type KnownCause struct {
	cause.Cause
	Since *ledger.RunRecord
}

// Causes groups the failures of a run by their causes, and tells since when each is known.
func (r *Relay) Causes(run *run.Run) ([]KnownCause, error) {
	causes := cause.Group(run.Troubled(), cause.OwnIn(r.Project.Dir))
	known := make([]KnownCause, len(causes))
	for i, c := range causes {
		known[i].Cause = c
		if r.ledger() == nil {
			continue
		}
		since, err := r.ledger().Since(c.Signs)
		if err != nil && !errors.Is(err, ledger.ErrNoRun) {
			return nil, err
		}
		known[i].Since = since
	}
	return known, nil
}

// Card is what the ledger knows of one test.
type Card struct {
	ID string
	history.Figures
	Cells   []history.Cell
	Runs    []*ledger.RunRecord
	First   *ledger.RunRecord // in which it was bad, the first ever; nil where it never was
	Well    *ledger.RunRecord // in which it was well, the last; nil where it never was
	Earlier history.Interval  // its pass rate up to ten runs ago
	Share   float64           // of all work
	Caught  *ledger.Hunt      // that caught its culprits; nil where none did
}

// tenRuns is how far back the pass rate is looked at to tell how it moves.
const tenRuns = 10

// Card tells what the ledger knows of a test of a past.
func (r *Relay) Card(p *Past, test int) (*Card, error) {
	known, err := r.Known()
	if err != nil {
		return nil, err
	}
	return r.card(p, test, known)
}

// Cards tells what the ledger knows of tests, by ID, as far as it knows them.
func (r *Relay) Cards(p *Past, ids []string) (map[string]*Card, error) {
	known, err := r.Known()
	if err != nil {
		return nil, err
	}
	cards := make(map[string]*Card, len(ids))
	for _, id := range ids {
		if test, ok := p.History.Index(id); ok {
			if cards[id], err = r.card(p, test, known); err != nil {
				return nil, err
			}
		}
	}
	return cards, nil
}

func (r *Relay) card(p *Past, test int, known map[string]ledger.Hunt) (*Card, error) {
	c := &Card{ID: p.History.IDs[test], Figures: p.Figures[test], Cells: p.History.Past(test), Runs: p.Runs}
	c.Share = c.Seconds / max(p.Work, 1e-9)
	before := history.Figure(c.Cells[:max(0, len(c.Cells)-tenRuns)])
	c.Earlier = history.Share(before.Ran-before.Bad, before.Ran)
	kept := r.ledger()
	if kept == nil {
		return c, nil
	}
	var err error
	if c.Bad > 0 {
		if c.First, err = kept.FirstBad(c.ID); err != nil {
			return nil, err
		}
	}
	switch {
	case c.LastWell >= 0:
		c.Well = p.Runs[c.LastWell]
	case c.Ran > 0:
		if c.Well, err = kept.LastWell(c.ID, p.Runs[0]); err != nil && !errors.Is(err, ledger.ErrNoRun) {
			return nil, err
		}
	}
	if h, caught := known[c.ID]; caught {
		c.Caught = &h
	}
	return c, nil
}

// FindPast finds a test of a past by any unambiguous ending of its ID.
func (p *Past) FindPast(ending string) (test int, err error) {
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

// Slow is something that takes time: a test, a group or a file.
type Slow struct {
	Name    string  `json:"name"`
	Tests   int     `json:"tests"`
	Seconds float64 `json:"seconds"`
	Share   float64 `json:"share"`              // of all work
	Gain    float64 `json:"gain_s"`             // by how much the finish would be earlier without it
	Before  float64 `json:"before_s,omitempty"` // that it took before it changed; 0 where it did not
	Since   int     `json:"since,omitempty"`    // the run from which on it takes another time; of a test only
}

// Slowness is where the time goes.
type Slowness struct {
	Workers int     `json:"workers"`
	Work    float64 `json:"work_s"`
	Finish  float64 `json:"finish_s"` // on so many workers
	Tests   []Slow  `json:"tests"`    // the slowest first
	Groups  []Slow  `json:"groups"`
	Files   []Slow  `json:"files"`
}

// Slowest tells where the time of tests goes: so many tests, groups and files, and how much
// earlier a run on the project's workers would end without each.
func (r *Relay) Slowest(p *Past, tests []catalog.Test, most int) (*Slowness, error) {
	s := &Slowness{Workers: r.Workers()}
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
	finish := func(without []int) (float64, error) {
		some := slices.Clone(tests)
		for _, i := range without {
			some[i].Expected = 0
		}
		study, err := r.Split(some, r.Together(), split.Fleet{Shards: s.Workers}, true)
		if err != nil {
			return 0, err
		}
		return study.Plan(split.Quick).Finish, nil
	}
	var err error
	if s.Finish, err = finish(nil); err != nil {
		return nil, err
	}
	for _, l := range []struct {
		from *slowList
		into *[]Slow
	}{{&all, &s.Tests}, {&groups, &s.Groups}, {&files, &s.Files}} {
		for _, item := range l.from.slowest(most) {
			without, err := finish(item.members)
			if err != nil {
				return nil, err
			}
			item.slow.Gain = max(0, s.Finish-without)
			item.slow.Share = item.slow.Seconds / max(s.Work, 1e-9)
			if item.slow.Before == item.slow.Seconds {
				item.slow.Before = 0 // nothing of it changed
			}
			*l.into = append(*l.into, item.slow)
		}
	}
	return s, nil
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

func (l *slowList) add(name string, member int, f *history.Figures, runs []*ledger.RunRecord) {
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

// RunNamed finds a run of the ledger by what a person calls it: its number, last, or last-N for
// the one so many before the latest.
func (r *Relay) RunNamed(name string) (*ledger.RunRecord, *run.Run, error) {
	kept := r.ledger()
	if kept == nil {
		return nil, nil, ledger.ErrNoRun
	}
	number, back := 0, 0
	_, err := fmt.Sscanf(name+"\n", "%d\n", &number)
	if _, lasting := fmt.Sscanf(name+"\n", "last-%d\n", &back); err != nil && name != "last" && lasting != nil {
		return nil, nil, fmt.Errorf("%q is no run: give its number, last, or last-1 for the one before", name)
	}
	if err == nil {
		k, run, err := kept.Run(number)
		if errors.Is(err, ledger.ErrNoRun) {
			err = fmt.Errorf("run %d: %w: ledger runs lists what there is", number, err)
		}
		return k, run, err
	}
	k, run, err := kept.Last()
	for ; err == nil && back > 0; back-- {
		k, run, err = kept.Before(k)
	}
	return k, run, err
}

// Before gives the run before another; ledger.ErrNoRun where there is none.
func (r *Relay) Before(k *ledger.RunRecord) (*ledger.RunRecord, *run.Run, error) {
	if r.ledger() == nil {
		return nil, nil, ledger.ErrNoRun
	}
	return r.ledger().Before(k)
}

// Compare tells how a run differs from one before it, by the spreads of the times that the
// ledger knows of.
func (r *Relay) Compare(before, after *run.Run, upTo *ledger.RunRecord) (history.Comparison, error) {
	past, err := r.Past(PastRuns, upTo)
	if err != nil {
		return history.Comparison{}, err
	}
	return history.Compare(before, after, func(id string) float64 {
		test, ok := past.History.Index(id)
		if !ok {
			return 0
		}
		return history.Spread(past.History.Past(test))
	}), nil
}

// Size tells how large the ledger is; ledger.ErrNoRun where there is none yet.
func (r *Relay) Size() (ledger.Size, error) {
	if r.ledger() == nil {
		return ledger.Size{}, ledger.ErrNoRun
	}
	return r.ledger().Size()
}

// List gives all runs, the oldest first.
func (r *Relay) List() ([]*ledger.RunRecord, error) {
	if r.ledger() == nil {
		return nil, nil
	}
	return r.ledger().List()
}

// Results gives what came of the tests of a run.
func (r *Relay) Results(k *ledger.RunRecord) (*run.Run, error) {
	if r.ledger() == nil {
		return nil, ledger.ErrNoRun
	}
	return r.ledger().Results(k)
}

// EachRun tells every run with its results, the oldest first, one after the other.
func (r *Relay) EachRun(tell func(*ledger.RunRecord, *run.Run) error) error {
	runs, err := r.List()
	if err != nil {
		return err
	}
	for _, k := range runs {
		run, err := r.ledger().Results(k)
		if err != nil {
			return err
		}
		if err := tell(k, run); err != nil {
			return err
		}
	}
	return nil
}

// Forget removes all runs but the latest so many and those of the last so many days, 0 for all,
// and gives the room that they took back. It counts the runs that went.
func (r *Relay) Forget(runs, days int) (int, error) {
	kept := r.ledger()
	if kept == nil {
		return 0, ledger.ErrNoRun
	}
	gone, err := kept.Forget(runs, days, time.Now())
	if err != nil || gone == 0 {
		return gone, err
	}
	return gone, kept.Compact()
}
