package ledger

import (
	"errors"
	"fmt"
	"iter"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"fernrelay/core/catalog"
	"fernrelay/core/cause"
	"fernrelay/core/history"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
)

// Past returns what the latest runs say together, at most n of them, up to and including upTo unless that is
// nil.
func (l *Ledger) Past(n int, upTo *run.Record) (*history.Past, error) {
	runs, h, err := l.History(n, upTo)
	if err != nil {
		return nil, err
	}
	return history.NewPast(runs, h), nil
}

// PastWithChanges is Past with the changes of the tests' times.
func (l *Ledger) PastWithChanges(n int, upTo *run.Record) (*history.Past, error) {
	p, err := l.Past(n, upTo)
	if err != nil {
		return nil, err
	}
	return p.WithChanges(), nil
}

// Known is what the latest runs say about the tests of a catalog.
type Known struct {
	Times   history.Times
	Latest  [][]run.Outcome // by index of the catalog's tests, the oldest first
	Runs    int
	Renamed []Renamed
}

// Renamed is a suite without a past whose tests the ledger knows as those of another suite, which is gone.
type Renamed struct {
	Old, New string
	Tests    int // that have the same group and name
}

// Known returns what the latest runs say about the tests of a catalog.
func (l *Ledger) Known(c *catalog.Catalog) (*Known, error) {
	setups, err := l.Setups()
	if err != nil {
		return nil, err
	}
	times := timesOf{c, make([]history.Time, len(c.Tests)), catalog.NewSet(len(c.Tests))}
	k := &Known{Times: history.Times{Tests: times, Setups: expectedSetups(setups)}, Latest: make([][]run.Outcome, len(c.Tests))}
	shared, suites := sharedOutcomes{lists: map[string][]run.Outcome{}}, newSuiteNames(c)
	type test struct {
		index    int
		latest   []run.Outcome
		expected history.Time
		timed    bool
	}
	err = recent(l, suites.asked, func(id string, moments []Moment) (t test) {
		t.index, _ = c.Index(id)
		t.latest = shared.of(moments)
		if t.expected, t.timed = expected(moments); t.timed {
			t.expected.Share = shareOf(moments)
		}
		return t
	}, func(t test) {
		k.Latest[t.index] = t.latest
		if t.timed {
			times.times[t.index] = t.expected
			times.known.Add(t.index)
		}
	})
	if err != nil {
		return nil, err
	}
	k.Renamed = suites.renamed()
	k.Runs, err = l.Runs()
	return k, err
}

// timesOf are the times of the tests of a catalog.
type timesOf struct {
	catalog *catalog.Catalog
	times   []history.Time // by index
	known   catalog.Set
}

// Of returns how long a test takes.
func (t timesOf) Of(id string) (history.Time, bool) {
	i, ok := t.catalog.Index(id)
	if !ok || !t.known.Has(i) {
		return history.Time{}, false
	}
	return t.times[i], true
}

// suiteNames finds suites that got another name.
type suiteNames struct {
	catalog *catalog.Catalog
	tests   map[string]int            // by suite of the catalog
	known   map[string]bool           // suites of the catalog that have a past
	others  map[string]map[string]int // by a suite that the catalog does not have, and one that it has: tests of the same group and name
}

func newSuiteNames(c *catalog.Catalog) *suiteNames {
	s := &suiteNames{catalog: c, tests: map[string]int{}, known: map[string]bool{}, others: map[string]map[string]int{}}
	for _, g := range c.Groups {
		s.tests[g.Suite] += g.Len
	}
	return s
}

// asked takes the ID of a test with a past, and reports whether the catalog has it.
func (s *suiteNames) asked(id string) bool {
	suite, rest, _ := strings.Cut(id, ":")
	if _, ok := s.catalog.Index(id); ok {
		s.known[suite] = true
		return true
	}
	if _, present := s.tests[suite]; present {
		return false
	}
	for other := range s.tests {
		if _, ok := s.catalog.Index(other + ":" + rest); ok {
			if s.others[suite] == nil {
				s.others[suite] = map[string]int{}
			}
			s.others[suite][other]++
		}
	}
	return false
}

// renamed returns the suites without a past of which another suite has half of the tests or more.
func (s *suiteNames) renamed() (all []Renamed) {
	for _, old := range slices.Sorted(maps.Keys(s.others)) {
		for _, suite := range slices.Sorted(maps.Keys(s.others[old])) {
			if n := s.others[old][suite]; !s.known[suite] && 2*n >= s.tests[suite] {
				all = append(all, Renamed{old, suite, n})
			}
		}
	}
	return all
}

// sharedOutcomes are lists of outcomes. Most tests of a large suite have the same one.
type sharedOutcomes struct {
	mu    sync.Mutex
	lists map[string][]run.Outcome // by the outcomes, one after the other
}

func (s *sharedOutcomes) of(moments []Moment) []run.Outcome {
	key := make([]byte, 0, 256)
	for _, m := range moments {
		key = append(append(key, m.Outcome...), ' ')
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if same, ok := s.lists[string(key)]; ok {
		return same
	}
	outcomes := make([]run.Outcome, len(moments))
	for i, m := range moments {
		outcomes[i] = m.Outcome
	}
	s.lists[string(key)] = outcomes
	return outcomes
}

// expectedSetups returns the seconds that it takes to begin a batch of each group.
func expectedSetups(latest map[string][]float64) map[string]float64 {
	setups := make(map[string]float64, len(latest))
	for group, seconds := range latest {
		slices.Reverse(seconds)
		setups[group] = history.LearnSetup(seconds)
	}
	return setups
}

// shareOf returns the share of a processor that a test uses, from its moments, the oldest first; 0 if it is not known.
func shareOf(moments []Moment) float64 {
	var few [recentKept]float64 // without an allocation, as there may be many tests
	shares := few[:0]
	for _, m := range slices.Backward(moments) {
		if m.Share > 0 {
			shares = append(shares, m.Share)
		}
	}
	if len(shares) == 0 {
		return 0
	}
	return history.Learn(shares).Seconds
}

// expected returns how long a test takes, from its moments, the oldest first; ok is false if they do not say.
func expected(moments []Moment) (t history.Time, ok bool) {
	var few [recentKept]history.Cell
	cells := few[:0]
	for _, m := range moments {
		cells = append(cells, history.NewCell(m.Outcome, m.Seconds))
	}
	return history.Expected(cells)
}

// Causes groups the failures of a run by their causes, each with the run since which it is known.
func (l *Ledger) Causes(ran *run.Run) ([]history.KnownCause, error) {
	causes := cause.Group(ran.Troubled(), l.own)
	known := make([]history.KnownCause, len(causes))
	for i, c := range causes {
		since, err := l.Since(c.Signs)
		if err != nil && !errors.Is(err, run.ErrNoRecord) {
			return nil, err
		}
		known[i] = history.KnownCause{Cause: c, Since: since}
	}
	return known, nil
}

// Culprits returns, by victim, the hunts whose culprits still do harm.
func (l *Ledger) Culprits() (map[string]hunt.Saved, error) {
	hunts, err := l.Hunts()
	known := map[string]hunt.Saved{}
	for _, h := range hunts {
		if h.Known() {
			known[h.Victim] = h
		}
	}
	return known, err
}

// Progress returns how far a hunt in the ledger has come.
func (l *Ledger) Progress(h hunt.Saved) (hunt.Progress, error) {
	p := hunt.Progress{Victim: h.Victim}
	if h.Finding != nil {
		p.Finding = *h.Finding
	}
	if !h.Mended.IsZero() {
		p.Finding.Culprits, p.Finding.Mended = [][]string{}, h.Finding.Culprits
	}
	var err error
	p.Records, err = l.Trials(h.Number)
	return p, err
}

// Card returns what the ledger knows of the test at a place of p's history.
func (l *Ledger) Card(p *history.Past, test int) (*history.Card, error) {
	culprits, err := l.Culprits()
	if err != nil {
		return nil, err
	}
	return l.card(p, test, culprits)
}

// Cards returns what the ledger knows of tests, by ID, without those that it does not know.
func (l *Ledger) Cards(p *history.Past, ids []string) (map[string]*history.Card, error) {
	culprits, err := l.Culprits()
	if err != nil {
		return nil, err
	}
	cards := make(map[string]*history.Card, len(ids))
	for _, id := range ids {
		if test, ok := p.History.Index(id); ok {
			if cards[id], err = l.card(p, test, culprits); err != nil {
				return nil, err
			}
		}
	}
	return cards, nil
}

func (l *Ledger) card(p *history.Past, test int, culprits map[string]hunt.Saved) (c *history.Card, err error) {
	c = history.NewCard(p, test)
	if c.Bad > 0 {
		if c.First, err = l.FirstBad(c.ID); err != nil {
			return nil, err
		}
	}
	if c.Well == nil && c.Ran > 0 {
		if c.Well, err = l.LastWell(c.ID, p.Runs[0]); err != nil && !errors.Is(err, run.ErrNoRecord) {
			return nil, err
		}
	}
	if h, caught := culprits[c.ID]; caught {
		c.Caught = &h
	}
	return c, nil
}

// Find finds a run by the name that a person uses: its number, last, or last-N for the Nth before the latest.
func (l *Ledger) Find(name string) (*run.Record, *run.Run, error) {
	number, back := 0, 0
	_, err := fmt.Sscanf(name+"\n", "%d\n", &number)
	if _, lasting := fmt.Sscanf(name+"\n", "last-%d\n", &back); err != nil && name != "last" && lasting != nil {
		return nil, nil, fmt.Errorf("%q is no run: write its number, last, or last-1 for the one before", name)
	}
	if err == nil {
		record, ran, err := l.Run(number)
		if errors.Is(err, run.ErrNoRecord) {
			err = fmt.Errorf("run %d: %w: ledger runs lists what there is", number, err)
		}
		return record, ran, err
	}
	record, ran, err := l.Last()
	for ; err == nil && back > 0; back-- {
		record, ran, err = l.Before(record)
	}
	return record, ran, err
}

// Compare reports how a run differs from an earlier one, measured by the spreads of times that the ledger
// knew by then.
func (l *Ledger) Compare(before, after *run.Run, upTo *run.Record) (history.Comparison, error) {
	past, err := l.Past(history.PastRuns, upTo)
	if err != nil {
		return history.Comparison{}, err
	}
	return history.Compare(before, after, past.Spread), nil
}

// EachRun calls prepare with every run and its results, for some runs side by side, and use with what it returned, one
// after the other, the oldest first, until either returns an error. The results come in the order in which they began;
// each is valid until the next.
func (l *Ledger) EachRun(prepare func(*run.Record, iter.Seq[*run.Result]) ([]byte, error), use func([]byte) error) error {
	runs, err := l.List()
	if err != nil {
		return err
	}
	return inOrder(runtime.GOMAXPROCS(0), below(len(runs)), func(at int) ([]byte, error) {
		s, err := l.stored(runs[at].Number)
		if err != nil {
			return nil, err
		}
		return prepare(runs[at], s.each)
	}, use)
}
