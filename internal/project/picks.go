package project

import (
	"cmp"
	"slices"
	"strings"

	"fernrelay/core/pick"
)

// addPicks reads everything in the file that consists of picks.
func (p *Project) addPicks(f *file, d *document) error {
	p.Picks, p.Resources, p.Shared = f.Picks, f.Resources, f.Fleet.Resources
	for _, e := range d.entries("tags") {
		expr, err := d.pick(e, f.Tags[e.key])
		if err != nil {
			return err
		}
		p.Tags = append(p.Tags, TagRule{e.key, expr, d.from(e)})
	}
	for _, e := range d.entries("picks") {
		if _, err := d.pick(e, f.Picks[e.key]); err != nil {
			return err
		}
	}
	for _, e := range d.entries("picks") {
		if way := circle(f.Picks, []string{e.key}); way != nil {
			return d.wrong(e, "the saved picks go in a circle: %s", strings.Join(way, " → "))
		}
	}
	for _, e := range d.entries("resources") {
		if n := f.Resources[e.key]; n < 1 {
			return d.wrong(e, "the resource %s is for %d tests at once: a number from 1 is expected", e.key, n)
		}
	}
	return cmp.Or(p.addTouched(f, d), p.addRules(f, d))
}

// addTouched reads which tests a file touches, by its path.
func (p *Project) addTouched(f *file, d *document) error {
	for _, e := range d.entries("touched") {
		expr, err := d.pick(e, f.Touched[e.key])
		if err != nil {
			return err
		}
		asks := false
		pick.Terms(expr, func(t *pick.Term) { asks = asks || t.Field == "touched" || t.Field == "saved" })
		if asks {
			return d.wrong(e, "%s = %q: this pick cannot use touched: or saved:", e.key, f.Touched[e.key])
		}
		p.Touched = append(p.Touched, TouchRule{pick.Glob(e.key), expr})
	}
	return nil
}

// addRules reads the rules of fern.toml.
func (p *Project) addRules(f *file, d *document) error {
	for n, r := range f.Rules {
		e := d.entry("rule", n, "pick")
		if r.Pick == "" {
			return d.wrong(e, "this rule has no pick: say which tests it is for")
		}
		expr, err := d.pick(e, r.Pick)
		if err != nil {
			return err
		}
		rule := Rule{Text: r.Pick, Pick: expr, Set: r.Rules, Clear: r.Clear, From: d.from(e)}
		if err := rule.Check(); err != nil {
			return d.wrong(e, "%w", err)
		}
		p.Rules = append(p.Rules, rule)
	}
	return nil
}

// circle follows the saved picks that a pick asks for, from the end of a path on, and returns the path if it comes
// back to its beginning.
func circle(picks map[string]string, way []string) []string {
	expr, err := pick.Parse(picks[way[len(way)-1]])
	if err != nil {
		return nil
	}
	var found []string
	pick.Terms(expr, func(t *pick.Term) {
		_, here := picks[t.Value]
		switch {
		case t.Field != "saved" || !here || found != nil:
		case t.Value == way[0]:
			found = append(slices.Clip(way), t.Value)
		case !slices.Contains(way, t.Value):
			found = circle(picks, append(slices.Clip(way), t.Value))
		}
	})
	return found
}
