package app

import (
	"fmt"

	"fernrelay/core/catalog"
	"fernrelay/internal/adapter"
)

// Undivided returns the suites whose programs cannot run some tests without others, by what they run at once.
func (a *App) Undivided() map[string]catalog.Level {
	units := map[string]catalog.Level{}
	for suite, adapt := range a.Adapters {
		if u, ok := adapt.(adapter.Undivided); ok && u.Unit() != "" {
			units[suite] = u.Unit()
		}
	}
	return units
}

// wholeOf names what the program of an undivided suite runs at once with a test.
func wholeOf(t *catalog.Test, unit catalog.Level) string {
	name, _ := unit.Place(t)
	return name
}

// checkWhole returns an error if some tests are a part of what their program can only run as a whole.
func (a *App) checkWhole(tests []catalog.Test) error {
	units := a.Undivided()
	if len(units) == 0 {
		return nil
	}
	picked, all := countWholes(tests, units), countWholes(a.Catalog.Tests, units)
	for i := range tests {
		t := &tests[i]
		unit := units[t.Suite]
		if unit == "" {
			continue
		}
		rules := t.Rules()
		switch name := wholeOf(t, unit); {
		case picked[name] != all[name]:
			return a.takesNoNames(t, unit, fmt.Sprintf("it cannot run %d of %d without the others", picked[name], all[name]))
		case len(t.Asks().Steps) > 0:
			return a.takesNoNames(t, unit, "it cannot run a step of "+t.ID+" alone")
		case len(rules.Needs)+len(rules.After) > 0 || rules.Isolate != "" || t.Asks().Cell != "":
			return a.takesNoNames(t, unit, "what needs, after, isolate or a quarantine asks of "+t.ID+" cannot be done")
		}
	}
	return nil
}

// countWholes counts the tests of each whole.
func countWholes(tests []catalog.Test, units map[string]catalog.Level) map[string]int {
	counts := map[string]int{}
	for i := range tests {
		counts[wholeOf(&tests[i], units[tests[i].Suite])]++
	}
	return counts
}

// CheckDivisible returns an error if the program of a test takes no names, so that it cannot do something, as in "be hunted".
func (a *App) CheckDivisible(tests []catalog.Test, something string) error {
	units := a.Undivided()
	for i := range tests {
		if unit := units[tests[i].Suite]; unit != "" {
			return a.takesNoNames(&tests[i], unit, "its tests cannot "+something)
		}
	}
	return nil
}

// takesNoNames returns the error for what the program of a test cannot do, with the way out.
func (a *App) takesNoNames(t *catalog.Test, unit catalog.Level, cannot string) error {
	what := "all of its tests"
	if unit == catalog.FileLevel {
		what = "all tests of a file"
	}
	return fmt.Errorf("suite %s: its command takes no names (run has neither {name} nor {names}), so it runs %s at once, and %s: add {name} or {names} to run in fern.toml, or leave the suite out with -p 'not suite:%s'",
		t.Suite, what, cannot, t.Suite)
}

// widen adds to tests the others that their programs run at once with them.
func (a *App) widen(tests []catalog.Test) []catalog.Test {
	units := a.Undivided()
	if len(units) == 0 {
		return tests
	}
	have, some := map[string]bool{}, map[string]bool{}
	for i := range tests {
		have[tests[i].ID] = true
		if unit := units[tests[i].Suite]; unit != "" {
			some[wholeOf(&tests[i], unit)] = true
		}
	}
	for i := range a.Catalog.Tests {
		if t := &a.Catalog.Tests[i]; units[t.Suite] != "" && some[wholeOf(t, units[t.Suite])] && !have[t.ID] {
			tests = append(tests, *t)
		}
	}
	return tests
}
