package workspace

import (
	"fmt"
	"maps"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/pick"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/project"
)

// Tests are the tests of a project, with what fern.toml, earlier runs and the session say about them.
type Tests struct {
	Catalog *catalog.Catalog
	Tree    []catalog.Node
	Index   *pick.Index
	Past    [][]run.Outcome // of the latest runs, the oldest first, by index of the catalog's tests
	Runs    int             // in the ledger
	Whole   map[string]bool // the suites that cannot run some steps of a test without the others
}

// NewTests returns the tests of a catalog that does not change any more. past has their latest outcomes by index,
// nil if nothing is known.
func NewTests(c *catalog.Catalog, past [][]run.Outcome, runs int, source pick.Source) Tests {
	if past == nil {
		past = make([][]run.Outcome, len(c.Tests))
	}
	t := Tests{Catalog: c, Tree: c.Tree(), Past: past, Runs: runs}
	source.Past = func(i int) []run.Outcome { return t.Past[i] }
	t.Index = pick.NewIndex(c, source)
	return t
}

// PastOf returns the latest outcomes of a test, the oldest first.
func (t *Tests) PastOf(id string) []run.Outcome {
	if i, ok := t.Catalog.Index(id); ok {
		return t.Past[i]
	}
	return nil
}

// describe adds to the tests of a catalog what is known beside their sources: expected times, then the tags and rules of
// fern.toml and the session, then the consequences of the rules.
func (w *Workspace) describe(c *catalog.Catalog, recall Recall) error {
	past, err := recall(c)
	if err != nil {
		return err
	}
	w.Notes = append(w.foundNotes(), past.Notes...)
	history.Expect(c.Tests, past.Times)
	person, err := project.PersonPicks()
	if err != nil {
		return err
	}
	w.saved = project.Saved(w.Project.Picks, person, w.Own.Picks)
	source := pick.Source{Defined: w.defined(), Saved: w.saved, Touched: w.touched, Rates: past.Rates, Steps: past.Steps, Constrained: w.Project.Constrained}
	source.Past = past.latest
	source.Crossing = w.crossingSource(c, past)
	layer := func() *pick.Index { return pick.NewIndex(c, source) }
	d := &draft{Catalog: c, said: map[int]said{}}
	if err := applyTags(w.Project.Tags, d, source.Saved, layer); err != nil {
		return err
	}
	if err := applyRules(slices.Concat(w.Project.Rules, w.Own.Rules), d, layer); err != nil {
		return err
	}
	if len(w.Broken) == 0 {
		w.Notes = append(w.Notes, d.idle...)
	}
	w.conclude(d)
	w.said = d.said
	w.Tests = NewTests(c, past.Latest, past.Runs, source)
	w.Whole = map[string]bool{}
	for _, s := range w.Project.Suites {
		w.Whole[s.Name] = s.Kind == project.Command
	}
	return nil
}

// defined returns the tags and suites that exist even if no test has them.
func (w *Workspace) defined() map[string]bool {
	defined := map[string]bool{}
	for _, rule := range w.Project.Tags {
		defined["tag:"+rule.Tag] = true
	}
	for _, s := range w.Project.Suites {
		defined["suite:"+s.Name] = true
	}
	return defined
}

// crossingSource returns a function that returns what picks may ask about the runs of a crossing.
func (w *Workspace) crossingSource(c *catalog.Catalog, past Past) func(of matrix.Assignment) (pick.Source, error) {
	m := w.Project.Matrix
	if m == nil || past.In == nil {
		return nil
	}
	return func(of matrix.Assignment) (pick.Source, error) {
		if err := m.Check(of); err != nil {
			return pick.Source{}, err
		}
		in, err := past.In(of)
		if err != nil {
			return pick.Source{}, err
		}
		return pick.Source{Past: in.latest, Rates: in.Rates}, nil
	}
}

// catalog returns a catalog of the tests as the adapters found them, which it takes over.
func (w *Workspace) catalog() *catalog.Catalog {
	var tests []catalog.Test
	for _, s := range w.Project.Suites {
		found := w.found[s.Name]
		if tests == nil {
			tests = found.Tests
		} else {
			tests = append(tests, found.Tests...)
		}
		found.Tests = nil
		w.found[s.Name] = found
	}
	return catalog.New(tests)
}

// foundNotes returns what finding the tests has to say.
func (w *Workspace) foundNotes() (notes []string) {
	for _, s := range w.Project.Suites {
		if why := w.Broken[s.Name]; why != nil {
			notes = append(notes, fmt.Sprintf("suite %s cannot be read, and its tests are missing: %v", s.Name, why))
			continue
		}
		found := w.found[s.Name]
		notes = append(notes, found.Notes...)
		if found.Nothing != "" {
			notes = append(notes, fmt.Sprintf("no tests in suite %s: %s", s.Name, found.Nothing))
		}
	}
	return notes
}

// undescribed returns copies of the catalog's tests as the adapters found them.
func (w *Workspace) undescribed() []catalog.Test {
	tests := slices.Clone(w.Catalog.Tests)
	for i := range tests {
		t := &tests[i]
		if was, changed := w.said[i]; changed {
			t.Tags, t.Ruled, t.Origins, t.SkipReason = was.tags, was.ruled, was.origins, was.skipReason
		}
		t.Expected, t.Known, t.Share, t.Spread, t.Setup, t.Together = 0, false, 0, 0, 0, ""
	}
	return tests
}

// refound returns what the adapters found, by suite, with copies of the tests.
func (w *Workspace) refound() map[string]adapter.Found {
	found, tests := maps.Clone(w.found), w.undescribed()
	for _, g := range w.Catalog.Groups {
		of, end := found[g.Suite], g.First+g.Len
		of.Tests = tests[g.First-len(of.Tests) : end : end] // the groups of a suite follow each other
		found[g.Suite] = of
	}
	return found
}
