package catalog

import (
	"cmp"
	"fmt"
	"slices"
)

// A Level says how finely tests are grouped: which of them share a process, never run side by side, or stay together in a plan.
type Level string

// The levels.
const (
	TestLevel  Level = "test"
	FileLevel  Level = "file"
	GroupLevel Level = "group"
	SuiteLevel Level = "suite"
)

// Levels lists them, the coarsest first.
var Levels = []Level{SuiteLevel, GroupLevel, FileLevel, TestLevel}

// Check refuses what is no level. Empty means the level of each test.
func (l Level) Check() error {
	if l != "" && !slices.Contains(Levels, l) {
		return fmt.Errorf("what stays together is %q: test, file, group or suite is expected", string(l))
	}
	return nil
}

// Of returns the level at which a test stays together with others: l, or that of the test if l is empty.
func (l Level) Of(t *Test) Level { return cmp.Or(l, t.Together, GroupLevel) }

// Place returns the name, unique in a project, and the label of what a test belongs to at this level. A test without a file
// belongs to its group.
func (l Level) Place(t *Test) (name, label string) {
	switch {
	case l == SuiteLevel:
		return t.Suite, t.Suite
	case l == FileLevel && t.File != "":
		return t.Suite + ":" + t.File, t.File
	case l == TestLevel:
		return t.ID, t.GroupLabel() + "#" + t.Name
	}
	return t.GroupName(), t.GroupLabel()
}

// CommonLevel returns the level that all tests have, or "" if they differ.
func CommonLevel(tests []Test) Level {
	var common Level
	for i := range tests {
		level := Level("").Of(&tests[i])
		if common != "" && common != level {
			return ""
		}
		common = level
	}
	return cmp.Or(common, GroupLevel)
}
