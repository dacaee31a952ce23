package workspace

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
	"fernrelay/core/pick"
	"fernrelay/internal/project"
)

// said is what an adapter says about a test and a description may change.
type said struct {
	tags       []string
	ruled      *catalog.Rules
	origins    []catalog.Origin
	skipReason string
}

// draft is a catalog that is being described.
type draft struct {
	*catalog.Catalog
	said map[int]said // by index of the tests that were changed
	idle []string     // what is said about rules and tags that select no test
}

// edit returns a test to change.
func (d *draft) edit(i int) *catalog.Test {
	t := &d.Tests[i]
	if _, known := d.said[i]; !known {
		d.said[i] = said{t.Tags, t.Ruled, t.Origins, t.SkipReason}
	}
	return t
}

// applyTags adds tags to the tests of picks. A pick may use tags of other rules: those come first, whatever their
// order in the file.
func applyTags(rules []project.TagRule, d *draft, saved map[string]string, layer func() *pick.Index) error {
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
			d.noteIdle(held, rule.Pick, rule.From+": the tag "+rule.Tag)
			for i := range held.All {
				d.edit(i).AddTag(rule.Tag, rule.From)
			}
		}
		rules = later
	}
	return nil
}

// deepest bounds how far saved picks are followed into each other; evaluating a circle of them reports it.
const deepest = 20

// asksFor reports whether a pick uses a tag, itself or through saved picks.
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

// applyRules adds rules to the tests of picks and clears them, in the order of the rules: a later one sees the
// effect of an earlier one.
func applyRules(rules []project.Rule, d *draft, layer func() *pick.Index) error {
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
		d.noteIdle(held, rule.Pick, rule.From+": the rule")
		for i := range held.All {
			t := d.edit(i)
			for _, rule := range rule.Clear {
				t.ClearRule(rule)
			}
			t.AddRules(rule.Set, rule.From)
		}
	}
	return nil
}

// noteIdle notes that a pick of fern.toml selects no test, unless that may change from run to run.
func (d *draft) noteIdle(held catalog.Set, e pick.Expr, what string) {
	changes := pick.AsksPast(e)
	pick.Terms(e, func(t *pick.Term) { changes = changes || t.Field == "touched" })
	if held.Len() == 0 && !changes {
		d.idle = append(d.idle, fmt.Sprintf("%s selects no test: %s", what, e))
	}
}

// setSkipReason keeps a test from running, and from counting as work.
func setSkipReason(t *catalog.Test, why string) { t.SkipReason, t.Expected, t.Known = why, 0, true }

// conclude works out what follows from the rules: which tests are skipped on
// this machine, and which tests the names in needs and after mean.
func (w *Workspace) conclude(d *draft) {
	machine := project.Machine(w.Project.Dir)
	levels := map[string]catalog.Level{}
	for _, s := range w.Project.Suites {
		levels[s.Name] = s.Together
	}
	unmet, unnamed := map[string]string{}, map[string]bool{}
	dependent := false
	for i := range d.Tests {
		t := &d.Tests[i]
		if condition := t.Rules().OnlyIf; condition != "" {
			why, known := unmet[condition]
			if !known {
				why = unmetPart(condition, machine)
				unmet[condition] = why
			}
			if why != "" {
				setSkipReason(d.edit(i), why)
			}
		}
		for _, resource := range t.Rules().Holds {
			if w.Project.Resources[resource] == 0 && len(w.Project.Resources) > 0 && !unnamed[resource] {
				unnamed[resource] = true
				w.Notes = append(w.Notes, fmt.Sprintf("%s holds %s, which [resources] does not name: one test at a time may hold it", t.ID, resource))
			}
		}
		if t.Rules().Skip != "" {
			setSkipReason(d.edit(i), t.Rules().Skip)
		}
		if t.SkipReason != "" {
			setSkipReason(t, t.SkipReason) // as the adapter said
		}
		t.Together = cmp.Or(catalog.Level(t.Rules().Together), levels[t.Suite])
		dependent = dependent || t.Rules().Needs != nil || t.Rules().After != nil
	}
	if dependent {
		w.resolveAll(d)
	}
}

// resolveAll replaces the names of tests that others need, or follow, by IDs.
func (w *Workspace) resolveAll(d *draft) {
	for i := range d.Tests {
		if rules := d.Tests[i].Rules(); rules.Needs != nil || rules.After != nil {
			t, resolved := d.edit(i), rules
			resolved.Needs = w.resolve(d.Catalog, t, catalog.RuleNeeds, rules.Needs)
			resolved.After = w.resolve(d.Catalog, t, catalog.RuleAfter, rules.After)
			t.Ruled = &resolved
		}
	}
	if _, err := order.Settle(d.Tests); err != nil {
		w.Notes = append(w.Notes, err.Error())
	}
}

// unmetPart returns the part of a condition that does not hold here, "" if all of it does.
func unmetPart(condition string, machine *pick.Machine) string {
	e, err := pick.ParseCondition(condition)
	if err != nil {
		return err.Error()
	}
	if e.Eval(machine.Holds) {
		return ""
	}
	why := fmt.Sprintf("it runs only if %s, which is not true here", pick.Deciding(e, machine.Holds))
	if said := machine.Said(e); said != "" {
		why += ": " + said
	}
	return why
}

// resolve turns the names of a rule into IDs: of the test's own group first, then by any unambiguous ending. A
// name that means no test stays as it is, and a note says so.
func (w *Workspace) resolve(c *catalog.Catalog, t *catalog.Test, rule string, names []string) []string {
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
		w.Notes = append(w.Notes, fmt.Sprintf("%s: %s %s: %v", t.ID, rule, name, err))
		if rule == catalog.RuleNeeds {
			setSkipReason(t, fmt.Sprintf("needs %s: %v", name, err))
		}
	}
	return ids
}
