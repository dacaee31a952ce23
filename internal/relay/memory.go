package relay

import (
	"context"
	"fmt"
	"maps"
	"math"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/order"
	"fernrelay/core/pick"
	"fernrelay/core/run"
	"fernrelay/internal/ledger"
	"fernrelay/internal/project"
)

// Memory is the tests as they were found, with what fern.toml, the ledger and
// this session say of them.
type Memory struct {
	Catalog *catalog.Catalog
	Tree    []catalog.Node
	Index   *pick.Index
	Past    [][]run.Outcome // of the latest runs, oldest first, by index of the catalog's tests
	Runs    int             // kept in the ledger
}

// NewMemory makes the memory of a catalog that does not change any more.
func NewMemory(c *catalog.Catalog, past map[string][]run.Outcome, runs int, source pick.Source) Memory {
	m := Memory{Catalog: c, Tree: c.Tree(), Past: make([][]run.Outcome, len(c.Tests)), Runs: runs}
	for i := range c.Tests {
		m.Past[i] = past[c.Tests[i].ID]
	}
	source.Past = func(i int) []run.Outcome { return m.Past[i] }
	m.Index = pick.NewIndex(c, source)
	return m
}

// PastOf gives the latest outcomes of a test, oldest first.
func (m *Memory) PastOf(id string) []run.Outcome {
	if i, ok := m.Catalog.Index(id); ok {
		return m.Past[i]
	}
	return nil
}

// recall puts on the tests what is known of them beside their sources: expected
// times, then the tags and rules that go by picks, then what follows from rules.
func (r *Relay) recall() error {
	n := 0
	for _, s := range r.Project.Suites {
		n += len(r.found[s.Name].Tests)
	}
	tests := make([]catalog.Test, 0, n)
	r.Notes = nil
	for _, s := range r.Project.Suites {
		tests = append(tests, r.found[s.Name].Tests...)
		r.Notes = append(r.Notes, r.found[s.Name].Notes...)
		if why := r.found[s.Name].Nothing; why != "" {
			r.Notes = append(r.Notes, fmt.Sprintf("no tests in suite %s: %s", s.Name, why))
		}
	}
	c := catalog.New(tests)
	past, runs, err := r.past(c)
	if err != nil {
		notes, err := r.without(context.Background(), err)
		r.Notes = append(r.Notes, notes...)
		r.history.broken = err
		if past, runs, err = r.past(c); err != nil {
			return err
		}
	}
	person, err := project.PersonPicks()
	if err != nil {
		return err
	}
	source := pick.Source{Saved: project.Saved(r.Project.Picks, person, r.Own.Picks), Touched: r.touched}
	source.Past = func(i int) []run.Outcome { return past[c.Tests[i].ID] }
	source.Rates = sync.OnceValue(func() []float64 { return r.rates(c) })
	layer := func() *pick.Index { return pick.NewIndex(c, source) }
	if err := applyTags(r.Project.Tags, c, source.Saved, layer); err != nil {
		return err
	}
	if err := applyRules(slices.Concat(r.Project.Rules, r.Own.Rules), c, layer); err != nil {
		return err
	}
	r.conclude(c)
	r.Memory = NewMemory(c, past, runs, source)
	return nil
}

// past reads what the ledger knows of the tests, and puts expected times on them.
func (r *Relay) past(c *catalog.Catalog) (past map[string][]run.Outcome, runs int, err error) {
	var times history.Times
	if kept := r.ledger(); kept != nil {
		setups, err := kept.Setups()
		if err != nil {
			return nil, 0, err
		}
		times = history.Times{Tests: map[string]history.Time{}, Setups: setupsOf(setups)}
		past = map[string][]run.Outcome{}
		shared := map[string][]run.Outcome{}
		found := func(id string) bool { _, ok := c.Index(id); return ok }
		err = kept.Recent(found, func(id string, moments []ledger.Moment) {
			past[id] = outcomesOf(moments, shared)
			if expected, ok := history.Expected(cellsOf(moments)); ok {
				times.Tests[id] = expected
			}
		})
		if err != nil {
			return nil, 0, err
		}
		if runs, err = kept.Runs(); err != nil {
			return nil, 0, err
		}
	}
	history.Expect(c.Tests, times)
	return past, runs, nil
}

// rates returns the pass rate of each test of a catalog, as the ledger's screens and commands show it; NaN for
// those without one. It reads the ledger, so that only picks that ask for rates wait for it.
func (r *Relay) rates(c *catalog.Catalog) []float64 {
	rates := slices.Repeat([]float64{math.NaN()}, len(c.Tests))
	past, err := r.Past(PastRuns, nil)
	if err != nil {
		return rates // who reads the ledger next says so
	}
	for i, id := range past.History.IDs {
		if at, ok := c.Index(id); ok {
			rates[at] = past.Figures[i].Rate
		}
	}
	return rates
}

// outcomesOf gives what came of a test. Tests of which the same came share it, as
// most of a large suite do.
func outcomesOf(moments []ledger.Moment, shared map[string][]run.Outcome) []run.Outcome {
	outcomes := make([]run.Outcome, len(moments))
	var key strings.Builder
	for i, m := range moments {
		outcomes[i] = m.Outcome
		key.WriteString(string(m.Outcome) + " ")
	}
	if same, ok := shared[key.String()]; ok {
		return same
	}
	shared[key.String()] = outcomes
	return outcomes
}

// setupsOf learns what it costs to begin a batch of each group.
func setupsOf(latest map[string][]float64) map[string]float64 {
	setups := make(map[string]float64, len(latest))
	for group, seconds := range latest {
		slices.Reverse(seconds)
		setups[group] = history.LearnSetup(seconds)
	}
	return setups
}

// cellsOf returns what came of a test in its latest runs as a history has it.
func cellsOf(moments []ledger.Moment) []history.Cell {
	cells := make([]history.Cell, len(moments))
	for i, m := range moments {
		cells[i] = history.NewCell(m.Outcome, m.Seconds)
	}
	return cells
}

// applyTags puts tags on the tests of picks. A pick may ask for tags of other
// rules: those come first, whatever their order in the file.
func applyTags(rules []project.TagRule, c *catalog.Catalog, saved map[string]string, layer func() *pick.Index) error {
	for len(rules) > 0 {
		var now, later []project.TagRule
		for _, rule := range rules {
			waits := slices.ContainsFunc(rules, func(other project.TagRule) bool { return asksFor(rule.Pick, other.Tag, saved, 0) })
			if waits {
				later = append(later, rule)
			} else {
				now = append(now, rule)
			}
		}
		if now == nil {
			var names []string
			for _, rule := range later {
				names = append(names, rule.Tag)
			}
			return fmt.Errorf("%s: the tags %s ask for each other in a circle: let one of them do without", later[0].From, strings.Join(names, ", "))
		}
		index := layer()
		for _, rule := range now {
			held, err := index.Held(rule.Pick.String(), rule.Pick)
			if err != nil {
				return fmt.Errorf("%s: the tag %s: %w", rule.From, rule.Tag, err)
			}
			for i := range held.All {
				c.Tests[i].AddTag(rule.Tag, rule.From)
			}
		}
		rules = later
	}
	return nil
}

// deepest bounds how far saved picks are followed into each other; a circle of
// them is told where it is evaluated.
const deepest = 20

// asksFor reports whether a pick goes by a tag, itself or through saved picks.
func asksFor(e pick.Expr, tag string, saved map[string]string, depth int) bool {
	carrier := catalog.New([]catalog.Test{{Tags: []string{tag}}})
	index := pick.NewIndex(carrier, pick.Source{})
	asks := false
	pick.Terms(e, func(t *pick.Term) {
		switch t.Field {
		case "tag":
			held, err := index.Held("", t)
			asks = asks || err == nil && held.Has(0)
		case "saved":
			inner, err := pick.Parse(saved[t.Value])
			asks = asks || err == nil && depth < deepest && asksFor(inner, tag, saved, depth+1)
		}
	})
	return asks
}

// applyRules puts rules on the tests of picks and takes them off, in the order
// of the rules: a later one finds what an earlier one left.
func applyRules(rules []project.Rule, c *catalog.Catalog, layer func() *pick.Index) error {
	var index *pick.Index
	for _, rule := range rules {
		asksRules := false
		pick.Terms(rule.Pick, func(t *pick.Term) { asksRules = asksRules || t.Field == "rule" || t.Field == "saved" })
		if index == nil || asksRules {
			index = layer()
		}
		held, err := index.Held(rule.Text, rule.Pick)
		if err != nil {
			return fmt.Errorf("%s: the rule: %w", rule.From, err)
		}
		for i := range held.All {
			c.Tests[i].AddRules(rule.Set, rule.From)
			for _, rule := range rule.Clear {
				c.Tests[i].ClearRule(rule)
			}
		}
	}
	return nil
}

// setSkipReason keeps a test from running, and from counting as work.
func setSkipReason(t *catalog.Test, why string) { t.SkipReason, t.Expected, t.Known = why, 0, true }

// conclude works out what follows from the rules: which tests are skipped on
// this machine, and which tests the names in needs and after mean.
func (r *Relay) conclude(c *catalog.Catalog) {
	machine := project.Machine(r.Project.Dir)
	unmet, unnamed := map[string]string{}, map[string]bool{}
	dependent := false
	for i := range c.Tests {
		t := &c.Tests[i]
		if condition := t.Rules.OnlyIf; condition != "" {
			why, known := unmet[condition]
			if !known {
				why = unmetPart(condition, machine)
				unmet[condition] = why
			}
			if why != "" {
				setSkipReason(t, why)
			}
		}
		for _, resource := range t.Rules.Holds {
			if r.Project.Resources[resource] == 0 && len(r.Project.Resources) > 0 && !unnamed[resource] {
				unnamed[resource] = true
				r.Notes = append(r.Notes, fmt.Sprintf("%s holds %s, which [resources] does not name: one test at a time may hold it", t.ID, resource))
			}
		}
		if t.Rules.Skip != "" {
			setSkipReason(t, t.Rules.Skip)
		}
		if t.SkipReason != "" {
			setSkipReason(t, t.SkipReason) // as the adapter said
		}
		dependent = dependent || t.Rules.Needs != nil || t.Rules.After != nil
	}
	if !dependent {
		return
	}
	for i := range c.Tests {
		t := &c.Tests[i]
		t.Rules.Needs = r.resolve(c, t, catalog.RuleNeeds, t.Rules.Needs)
		t.Rules.After = r.resolve(c, t, catalog.RuleAfter, t.Rules.After)
	}
	if _, err := order.Settle(c.Tests); err != nil {
		r.Notes = append(r.Notes, err.Error())
	}
}

// unmetPart says which part of a condition does not hold here, empty where all does.
func unmetPart(condition string, machine *pick.Machine) string {
	e, err := pick.ParseCondition(condition)
	if err != nil {
		return err.Error()
	}
	if e.Eval(machine.Holds) {
		return ""
	}
	return fmt.Sprintf("it runs only if %s, which does not hold here", pick.Deciding(e, machine.Holds))
}

// resolve turns the names of a rule into IDs: of the test's own group first, then
// by any unambiguous ending. A name that means no test stays as it is, and is told.
func (r *Relay) resolve(c *catalog.Catalog, t *catalog.Test, rule string, names []string) []string {
	var ids []string
	for _, name := range names {
		found, ok := c.Lookup(catalog.ID(t.Suite, t.Group, name))
		var err error
		if !ok {
			found, err = c.Find(name)
		}
		if err == nil {
			ids = append(ids, found.ID)
			continue
		}
		ids = append(ids, name)
		r.Notes = append(r.Notes, fmt.Sprintf("%s: %s %s: %v", t.ID, rule, name, err))
		if rule == catalog.RuleNeeds {
			setSkipReason(t, fmt.Sprintf("needs %s: %v", name, err))
		}
	}
	return ids
}

// touched tells which tests changed since a git revision: those whose file
// changed, those that an adapter knows to be built from what changed, and those
// that fern.toml says a change touches.
func (r *Relay) touched(x *pick.Index, revision string) (func(*catalog.Test) bool, error) {
	files, err := project.Changed(context.Background(), r.Project.Dir, revision)
	if err != nil {
		return nil, err
	}
	return r.touchedBy(x, files)
}

// touchedBy tells which tests a change to files touches, given by absolute paths.
func (r *Relay) touchedBy(x *pick.Index, files []string) (func(*catalog.Test) bool, error) {
	below := map[string]bool{}
	for _, file := range files {
		if name, err := filepath.Rel(r.Project.Dir, file); err == nil {
			below[filepath.ToSlash(name)] = true
		}
	}
	bySuite := map[string]func(*catalog.Test) bool{}
	var err error
	for suite, a := range r.adapters {
		if bySuite[suite], err = a.Touched(files); err != nil {
			return nil, fmt.Errorf("suite %s: %w", suite, err)
		}
	}
	byRule := catalog.NewSet(len(x.Catalog.Tests))
	for _, rule := range r.Project.Touched {
		if !slices.ContainsFunc(slices.Collect(maps.Keys(below)), rule.Files) {
			continue
		}
		held, err := x.Held("", rule.Pick)
		if err != nil {
			return nil, err
		}
		byRule.Or(held)
	}
	return func(t *catalog.Test) bool {
		i, ok := x.Catalog.Index(t.ID)
		return below[t.File] || bySuite[t.Suite](t) || ok && byRule.Has(i)
	}, nil
}
