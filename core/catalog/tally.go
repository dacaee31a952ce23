package catalog

import (
	"fmt"
	"slices"
	"strings"
)

// Tally counts tests by one or two of tag, group and suite: the crosstab as a plain table. A test counts once for
// each of its tags, and not at all if it is counted by tag and has none; Total counts every test once.
type Tally struct {
	By            []string // what the rows are, and the columns
	Rows, Columns []string // the most tests first for tags, else in the catalog's order
	Cells         map[[2]string]Sum
	ByRow         map[string]Sum
	Total         Sum
}

// TallyBy lists what tests can be counted by.
var TallyBy = []string{"tag", "group", "suite"}

// NewTally counts the tests by one thing or two.
func NewTally(tests []Test, by []string) (*Tally, error) {
	if len(by) < 1 || len(by) > 2 || len(by) == 2 && by[0] == by[1] {
		return nil, fmt.Errorf("tests are counted by one or two of %s, as in group,tag", strings.Join(TallyBy, ", "))
	}
	t := &Tally{By: by, Cells: map[[2]string]Sum{}, ByRow: map[string]Sum{}}
	byColumn := map[string]Sum{}
	for _, what := range by {
		if !slices.Contains(TallyBy, what) {
			return nil, fmt.Errorf("tests cannot be counted by %q: %s are there", what, strings.Join(TallyBy, ", "))
		}
	}
	suites := map[string]bool{}
	for i := range tests {
		suites[tests[i].Suite] = true
	}
	for i := range tests {
		test := &tests[i]
		t.Total.Add(test)
		for _, row := range tallied(test, by[0], len(suites) > 1) {
			t.Rows = addSum(t.ByRow, t.Rows, row, test)
			if len(by) == 1 {
				continue
			}
			for _, column := range tallied(test, by[1], len(suites) > 1) {
				t.Columns = addSum(byColumn, t.Columns, column, test)
				cell := t.Cells[[2]string{row, column}]
				cell.Add(test)
				t.Cells[[2]string{row, column}] = cell
			}
		}
	}
	sortTags(by[0], t.Rows, t.ByRow)
	if len(by) == 2 {
		sortTags(by[1], t.Columns, byColumn)
	}
	return t, nil
}

// AddTags adds tags that no test has to a tally by tag.
func (t *Tally) AddTags(tags []string) {
	for i, names := range []*[]string{&t.Rows, &t.Columns} {
		if i >= len(t.By) || t.By[i] != "tag" {
			continue
		}
		for _, tag := range tags {
			if !slices.Contains(*names, tag) {
				*names = append(*names, tag)
			}
		}
	}
}

func tallied(t *Test, by string, suites bool) []string {
	switch {
	case by == "tag":
		return t.Tags
	case by == "suite":
		return []string{t.Suite}
	case suites:
		return []string{t.GroupName()}
	}
	return []string{t.Group}
}

// addSum adds a test to the sum of a name, and the name to the names if it is new.
func addSum(sums map[string]Sum, names []string, name string, t *Test) []string {
	sum, seen := sums[name]
	sum.Add(t)
	sums[name] = sum
	if seen {
		return names
	}
	return append(names, name)
}

func sortTags(by string, names []string, sums map[string]Sum) {
	if by == "tag" {
		slices.SortFunc(names, func(a, b string) int { return compare(ByTests, a, b, sums[a], sums[b]) })
	}
}
