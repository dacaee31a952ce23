package pick

import (
	"errors"
	"math"
	"math/bits"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/run"
)

// Source is what a pick may ask for beside the catalog. A field that is nil
// knows nothing.
type Source struct {
	// Past returns the latest outcomes of Tests[i], oldest first.
	Past func(i int) []run.Outcome
	// Rates returns the pass rate of each of Tests, from 0 to 1, NaN for one that never ended. The first call may
	// be slow.
	Rates func() []float64
	// Defined holds the tags and suites that exist even if no test has them now, as tag:slow and suite:unit.
	Defined map[string]bool
	// Saved holds the saved picks, by name.
	Saved map[string]string
	// Constrained makes tests behind a build constraint that is not met tests as all others.
	Constrained bool
	// Steps returns the names of the steps that tests had in earlier runs, by ID. The first call may be slow.
	Steps func() map[string][]string
	// Crossing returns what is known of the runs of a crossing with some values: Past and Rates.
	Crossing func(of matrix.Assignment) (Source, error)
	// Touched returns a function that says how a test of an index changed since a git revision, "" if it did not.
	Touched func(x *Index, revision string) (touched func(*catalog.Test) string, err error)
}

// Index is a catalog prepared for evaluating picks over it. It keeps the tests that each term selects. An Index is
// safe for use by several goroutines; the catalog must not change any more.
type Index struct {
	Catalog *catalog.Catalog
	source  Source
	tags    map[string]catalog.Set
	unmet   catalog.Set // the tests behind a build constraint that is not met; nil for none
	kinds   map[string]catalog.Set
	files   []fileRun
	nameList
	lowerNames func() *nameList // the names in lower case
	tagNames   func() []string
	took       []float64   // by test
	sums       []Candidate // of values, for Complete
	mu         sync.Mutex
	known      map[string]catalog.Set                // what a term holds, by its String
	changes    map[string]func(*catalog.Test) string // how tests changed, by the revision
	counts     map[string]int                        // of candidates, by their texts; nil before Warm
	crossings  map[string]*Index                     // with the past of crossings, by their values
}

// fileRun is neighbouring tests of one file.
type fileRun struct {
	file       string
	first, len int
}

// NewIndex makes the index of a catalog. It lays out side by side what terms
// compare, so that going through all tests is quick.
func NewIndex(c *catalog.Catalog, source Source) *Index {
	n := len(c.Tests)
	x := &Index{Catalog: c, source: source, known: map[string]catalog.Set{}, changes: map[string]func(*catalog.Test) string{}, crossings: map[string]*Index{}, tags: map[string]catalog.Set{}, kinds: map[string]catalog.Set{},
		took: make([]float64, n), nameList: nameList{ends: make([]int, 0, n)}}
	x.lowerNames = sync.OnceValue(x.lower)
	x.tagNames = sync.OnceValue(c.Tags)
	length := 0
	for i := range c.Tests {
		length += len(c.Tests[i].Name) + 1
	}
	var names strings.Builder
	names.Grow(length)
	for i := range c.Tests {
		t := &c.Tests[i]
		for _, tag := range t.Tags {
			addTo(x.tags, tag, i, n)
		}
		addTo(x.kinds, string(t.Kind), i, n)
		if t.Unmet != nil && !source.Constrained {
			if x.unmet == nil {
				x.unmet = catalog.NewSet(n)
			}
			x.unmet.Add(i)
		}
		x.nameList.add(&names, t.Name)
		x.took[i] = t.Expected
		if len(x.files) == 0 || x.files[len(x.files)-1].file != t.File {
			x.files = append(x.files, fileRun{file: t.File, first: i})
		}
		x.files[len(x.files)-1].len++
	}
	x.text = names.String()
	x.sums = x.candidates()
	return x
}

func addTo(sets map[string]catalog.Set, key string, i, n int) {
	if sets[key] == nil {
		sets[key] = catalog.NewSet(n)
	}
	sets[key].Add(i)
}

// past returns the latest outcomes of Tests[i], the oldest first.
func (x *Index) past(i int) []run.Outcome {
	if x.source.Past == nil {
		return nil
	}
	return x.source.Past(i)
}

// last returns the latest outcome of Tests[i], "" if there is none.
func (x *Index) last(i int) run.Outcome { return history.Last(x.past(i)) }

// rates are the pass rates of Tests in percent, NaN for those that never ended.
func (x *Index) rates() func(i int) float64 {
	if x.source.Rates == nil {
		return func(int) float64 { return math.NaN() }
	}
	rates := x.source.Rates()
	return func(i int) float64 { return 100 * rates[i] }
}

// name returns the name of Tests[i].
func (x *Index) name(i int) string {
	if i == 0 {
		return x.text[:x.ends[0]]
	}
	return x.text[x.ends[i-1]+1 : x.ends[i]]
}

func (x *Index) lower() *nameList {
	l := &nameList{ends: make([]int, 0, len(x.ends))}
	var names strings.Builder
	names.Grow(len(x.text))
	for i := range x.ends {
		l.add(&names, strings.ToLower(x.name(i)))
	}
	l.text = names.String()
	return l
}

// Tags lists every tag that a test carries, the most carried first. The list must not be changed.
func (x *Index) Tags() []string { return x.tagNames() }

// Tagged returns the tests that carry a tag. The set must not be changed.
func (x *Index) Tagged(tag string) catalog.Set {
	if set := x.tags[tag]; set != nil {
		return set
	}
	return catalog.NewSet(len(x.Catalog.Tests))
}

// Pick parses a pick, checks it and returns the tests that it selects. The error, if any, is an *Error.
func (x *Index) Pick(text string) (Expr, catalog.Set, error) {
	e, err := Parse(text)
	if err != nil {
		return nil, nil, err
	}
	if err := x.Check(text, e); err != nil {
		return nil, nil, err
	}
	held, err := x.Selected(text, e)
	return e, held, err
}

// Held returns the tests for which a pick is true, behind whatever build constraint; see Selected. The error, if any, is an *Error for the given text: an unknown saved
// pick, or a revision.
func (x *Index) Held(text string, e Expr) (catalog.Set, error) {
	v := &evaluation{index: x, text: text}
	x.matchTogether(e)
	set := v.held(e)
	if v.err != nil {
		return nil, v.err
	}
	return set, nil
}

// evaluation is one evaluation of a pick and of the saved picks in it.
type evaluation struct {
	index *Index
	text  string
	saved []string // the names of the saved picks that it is inside of
	at    int      // the column in text of the outermost saved pick, 0 outside
	err   error
}

// held returns a set that the caller may change.
func (v *evaluation) held(e Expr) catalog.Set {
	switch e := e.(type) {
	case *And:
		set := v.held(e.X)
		set.And(v.held(e.Y))
		return set
	case *Or:
		set := v.held(e.X)
		set.Or(v.held(e.Y))
		return set
	case *Not:
		set := v.all()
		set.AndNot(v.held(e.X))
		return set
	case *Term:
		return append(catalog.Set(nil), v.term(e)...)
	}
	return v.all()
}

func (v *evaluation) all() catalog.Set {
	n := len(v.index.Catalog.Tests)
	set := catalog.NewSet(n)
	set.AddRange(0, n)
	return set
}

// term returns the set of a term, which must not be changed.
func (v *evaluation) term(t *Term) catalog.Set {
	x, err := v.index.of(t)
	if err != nil {
		if v.err == nil {
			v.err = v.wrong(t, err.Error())
		}
		return catalog.NewSet(len(v.index.Catalog.Tests))
	}
	key := t.String()
	x.mu.Lock()
	set := x.known[key]
	x.mu.Unlock()
	if set != nil {
		return set
	}
	within := *v
	within.index = x
	set, err = picks.fields[t.Field].set(&within, t)
	if err != nil {
		if v.err == nil {
			v.err = v.wrong(t, err.Error())
		}
		return catalog.NewSet(len(x.Catalog.Tests))
	}
	x.mu.Lock()
	x.known[key] = set
	x.mu.Unlock()
	return set
}

// of returns the index that a term asks: one with only the runs of a crossing, if the pick is restricted to that.
func (x *Index) of(t *Term) (*Index, error) {
	if t.in == "" {
		return x, nil
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if known := x.crossings[t.in]; known != nil {
		return known, nil
	}
	of, err := matrix.ParseAssignment(t.in)
	if err != nil {
		return nil, err
	}
	if x.source.Crossing == nil {
		return nil, errors.New("crossing: needs a project with a matrix")
	}
	source, err := x.source.Crossing(of)
	if err != nil {
		return nil, err
	}
	in := NewIndex(x.Catalog, source)
	x.crossings[t.in] = in
	return in, nil
}

// wrong makes the error of a term. Inside a saved pick it points at that.
func (v *evaluation) wrong(t *Term, message string) *Error {
	if v.at == 0 {
		return &Error{Pick: v.text, Column: t.At, Message: message}
	}
	return &Error{Pick: v.text, Column: v.at, Message: "in the saved pick " + v.saved[len(v.saved)-1] + ": " + strings.TrimPrefix(message, "in the saved pick ")}
}

// where returns the tests for which a function of their index is true.
func (x *Index) where(holds func(i int) bool) catalog.Set {
	set := catalog.NewSet(len(x.ends))
	x.inParts(func(first, end int) {
		for i := first; i < end; i++ {
			if holds(i) {
				set.Add(i)
			}
		}
	})
	return set
}

// inParts shares all tests out to as many goroutines as there are processors. Parts begin at words of sets, so
// that each may write into the same set.
func (x *Index) inParts(do func(first, end int)) {
	n := len(x.ends)
	part := (n/64/runtime.GOMAXPROCS(0) + 1) * 64
	var wg sync.WaitGroup
	for first := 0; first < n; first += part {
		wg.Go(func() { do(first, min(n, first+part)) })
	}
	wg.Wait()
}

// matchTogether works out what the regular expressions of a pick hold that are not
// known yet, in one pass over all names.
func (x *Index) matchTogether(e Expr) {
	var terms []*Term
	var expressions []string
	Terms(e, func(t *Term) {
		x.mu.Lock()
		known := x.known[t.String()] != nil
		x.mu.Unlock()
		if t.Regexp && !known && len(terms) < mostTogether {
			terms, expressions = append(terms, t), append(expressions, t.Value)
		}
	})
	if len(terms) < 2 {
		return
	}
	sets, err := x.matching(expressions)
	if err != nil || sets == nil {
		return // each term is evaluated by itself, which reports mistakes
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	for i, t := range terms {
		x.known[t.String()] = sets[i]
	}
}

// patience is how often the states of several expressions together may be rebuilt before each is matched by
// itself.
const patience = 4

// matching returns the tests whose names each of the expressions matches; no sets if the expressions together have
// too many states.
func (x *Index) matching(expressions []string) ([]catalog.Set, error) {
	if _, err := newMatcher(expressions...); err != nil {
		return nil, err
	}
	n := len(x.ends)
	sets := make([]catalog.Set, len(expressions))
	for i := range sets {
		sets[i] = catalog.NewSet(n)
	}
	var tooMany atomic.Bool
	x.inParts(func(first, end int) {
		m, _ := newMatcher(expressions...) // it was made once
		for i := first; i < end && !tooMany.Load(); i++ {
			for matched := m.match(x.name(i)); matched != 0; matched &= matched - 1 {
				sets[bits.TrailingZeros64(matched)].Add(i)
			}
			if len(expressions) > 1 && m.clears > patience {
				tooMany.Store(true)
			}
		}
	})
	if tooMany.Load() {
		return nil, nil
	}
	return sets, nil
}

// whereGroup is where for a property that all tests of a group share.
func (x *Index) whereGroup(holds func(g catalog.Group) bool) catalog.Set {
	set := catalog.NewSet(len(x.Catalog.Tests))
	for _, g := range x.Catalog.Groups {
		if holds(g) {
			set.AddRange(g.First, g.Len)
		}
	}
	return set
}
