package workspace

import (
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/pick"
	"fernrelay/core/plain"
	"fernrelay/core/run"
)

// Pick returns the tests that an expression selects, in the catalog's order. They must not be changed.
func (w *Workspace) Pick(text string) ([]catalog.Test, error) {
	e, held, err := w.Index.Pick(text)
	if err != nil {
		return nil, err
	}
	return w.Only(e, held), nil
}

// Only returns the tests that a pick holds. Of a test of which it asks for steps only those run, if its suite can do that.
func (t *Tests) Only(e pick.Expr, held catalog.Set) []catalog.Test {
	tests := t.Catalog.Only(held)
	steps := t.Index.Steps(e, held)
	if len(steps) == 0 {
		return tests
	}
	tests = slices.Clone(tests)
	for i := range tests {
		if at, ok := t.Catalog.Index(tests[i].ID); ok && len(steps[at]) > 0 && !t.Whole[tests[i].Suite] {
			tests[i].Ask(func(a *catalog.Asked) { a.Steps = steps[at] })
		}
	}
	return tests
}

// Behind returns, in words, the tests that a pick would select but for their build constraints; empty for none or a wrong pick.
func (t *Tests) Behind(text string) string {
	e, err := pick.Parse(text)
	if err != nil {
		return ""
	}
	behind, err := t.Index.Behind(text, e)
	if err != nil {
		return ""
	}
	return plain.Line(pick.BehindWords(behind))
}

// PickToRun returns the tests that an expression selects. If it asks for outcomes, as to run again what failed, the
// tests that they need precede them.
func (w *Workspace) PickToRun(text string) ([]catalog.Test, error) {
	e, held, err := w.Index.Pick(text)
	if err != nil {
		return nil, err
	}
	tests, rerun := w.Only(e, held), false
	pick.Terms(e, func(t *pick.Term) { rerun = rerun || t.Field == "was" })
	if rerun {
		tests = w.WithNeeds(tests)
	}
	return tests, nil
}

// Bare returns, by suite, the groups without tests of their own that a pick includes all the same: those of which a test without
// any tag of its source would be picked. They are built when the pick runs.
func (w *Workspace) Bare(text string) (map[string][]string, error) {
	groups := w.bareGroups()
	if groups == nil {
		return nil, nil
	}
	d := &draft{Catalog: catalog.New(groups), said: map[int]said{}}
	source := pick.Source{Defined: w.defined(), Saved: w.saved, Touched: w.touched, Past: func(int) []run.Outcome { return nil }}
	layer := func() *pick.Index { return pick.NewIndex(d.Catalog, source) }
	if err := applyTags(w.Project.Tags, d, source.Saved, layer); err != nil {
		return nil, err
	}
	_, held, err := layer().Pick(text)
	if err != nil {
		return nil, err
	}
	bare := map[string][]string{}
	for i := range held.All {
		bare[groups[i].Suite] = append(bare[groups[i].Suite], groups[i].Group)
	}
	return bare, nil
}

// bareGroups returns an entry for each group without tests.
func (w *Workspace) bareGroups() (groups []catalog.Test) {
	for _, s := range w.Project.Suites {
		for _, group := range w.found[s.Name].Bare {
			groups = append(groups, catalog.Test{ID: catalog.ID(s.Name, group, run.BuildEntry), Suite: s.Name, Group: group, Name: run.BuildEntry,
				Kind: catalog.KindTest, File: path.Join(filepath.ToSlash(s.Dir), group, run.BuildEntry)})
		}
	}
	return groups
}

// TestsOf returns the tests with some IDs, without those that the project no longer has.
func (w *Workspace) TestsOf(ids []string) []catalog.Test {
	tests := make([]catalog.Test, 0, len(ids))
	for _, id := range ids {
		if t, ok := w.Catalog.Lookup(id); ok {
			tests = append(tests, *t)
		}
	}
	return tests
}

// WithNeeds returns tests preceded by those that they need, so that they are not skipped.
func (w *Workspace) WithNeeds(tests []catalog.Test) []catalog.Test {
	var all []catalog.Test
	seen := map[string]bool{}
	var add func(t catalog.Test)
	add = func(t catalog.Test) {
		if seen[t.ID] {
			return
		}
		seen[t.ID] = true
		for _, id := range t.Rules().Needs {
			if needed, ok := w.Catalog.Lookup(id); ok {
				add(*needed)
			}
		}
		all = append(all, t)
	}
	for _, t := range tests {
		add(t)
	}
	return all
}

// Lone applies the rule lone to the tests of a run: if any has it, the others are skipped.
func Lone(tests []catalog.Test) []catalog.Test {
	at := slices.IndexFunc(tests, func(t catalog.Test) bool { return t.Rules().Lone != "" && t.SkipReason == "" })
	if at < 0 {
		return tests
	}
	why := "only tests with the rule lone run, such as " + tests[at].ID
	tests = slices.Clone(tests)
	for i := range tests {
		if t := &tests[i]; t.Rules().Lone == "" && t.SkipReason == "" {
			setSkipReason(t, why)
		}
	}
	return tests
}

// Contradictions returns notes about build constraints among the tests that exclude each other, so that no one
// build has them all.
func Contradictions(tests []catalog.Test) []string {
	counts := map[string]int{}
	elsewhere := map[string]bool{}
	for _, t := range tests {
		for _, tag := range t.Tags {
			counts[tag]++
			elsewhere[tag] = elsewhere[tag] || t.SkipReason != ""
		}
	}
	var notes []string
	for _, tag := range slices.Sorted(maps.Keys(counts)) {
		opposite, negated := strings.CutPrefix(tag, "!")
		if !negated || counts[opposite] == 0 {
			continue
		}
		how := "they are built apart"
		if elsewhere[tag] || elsewhere[opposite] {
			how = "those that this machine cannot build are skipped"
		}
		notes = append(notes, fmt.Sprintf("the picked tests have contradicting build constraints, %s (%d) and %s (%d): %s",
			opposite, counts[opposite], tag, counts[tag], how))
	}
	return notes
}
