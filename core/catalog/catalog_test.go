package catalog

import (
	"slices"
	"strings"
	"testing"
)

func sample() *Catalog {
	return New([]Test{
		{Suite: "unit", Group: "drip", Name: "opens", Tags: []string{"valve", "quick", "valve"}, Expected: 1},
		{Suite: "unit", Group: "irrigation/drip", Name: "opens", Tags: []string{"valve"}, Expected: 2},
		{Suite: "unit", Group: "drip", Name: "re:opens#4", Expected: 4},
		{Suite: "unit", Group: "drip", Name: "opens", Expected: 99}, // again: the first is kept
		{Suite: "more", Group: "drip", Name: "closes", Tags: []string{"quick"}, Expected: 8},
	})
}

func TestNew(t *testing.T) {
	c := sample()
	var ids []string
	for _, test := range c.Tests {
		ids = append(ids, test.ID)
		if test.Tags == nil || !slices.IsSorted(test.Tags) {
			t.Errorf("%s has the tags %v", test.ID, test.Tags)
		}
	}
	want := []string{"unit:drip#opens", "unit:drip#re:opens#4", "unit:irrigation/drip#opens", "more:drip#closes"}
	if !slices.Equal(ids, want) {
		t.Errorf("got %v, want %v", ids, want)
	}
	if groups := []Group{{"unit", "drip", 0, 2}, {"unit", "irrigation/drip", 2, 1}, {"more", "drip", 3, 1}}; !slices.Equal(c.Groups, groups) {
		t.Errorf("the groups are %v", c.Groups)
	}
	if got := c.Tags(); !slices.Equal(got, []string{"quick", "valve"}) {
		t.Errorf("the tags are %v", got)
	}
}

func TestFind(t *testing.T) {
	c := sample()
	for ending, want := range map[string]string{
		"unit:drip#opens":       "unit:drip#opens",
		"irrigation/drip#opens": "unit:irrigation/drip#opens",
		"closes":                "more:drip#closes",
		"loses":                 "more:drip#closes", // no whole part, but only one
		"opens#4":               "unit:drip#re:opens#4",
		"drip#opens":            "2 IDs",
		"opens":                 "2 IDs",
		"nothing":               "no test",
		"":                      "empty",
	} {
		got, err := c.Find(ending)
		if err != nil {
			if !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v, want %s", ending, err, want)
			}
			continue
		}
		if got.ID != want {
			t.Errorf("%q: found %s, want %s", ending, got.ID, want)
		}
	}
}

func TestAddTagLeavesCopiesAlone(t *testing.T) {
	a := Test{Tags: make([]string, 1, 8)}
	a.Tags[0] = "m"
	b := a
	a.AddTag("z")
	b.AddTag("b")
	a.AddTag("z")
	if !slices.Equal(a.Tags, []string{"m", "z"}) || !slices.Equal(b.Tags, []string{"b", "m"}) {
		t.Errorf("got %v and %v", a.Tags, b.Tags)
	}
}

// TestWeave holds the sums of the crosstab against a plain count.
func TestWeave(t *testing.T) {
	c := sample()
	tags := c.Tags()
	picked := func(i int) bool { return i%2 == 0 }
	w := NewWeave(c, tags, picked)
	count := func(in func(i int) bool) (all, held int, seconds float64) {
		for i := range c.Tests {
			if in(i) {
				all++
				seconds += c.Tests[i].Expected
				if picked(i) {
					held++
				}
			}
		}
		return
	}
	same := func(what string, cell Cell, in func(i int) bool) {
		all, held, seconds := count(in)
		if cell.All.Tests != all || cell.Picked.Tests != held || cell.All.Seconds != seconds {
			t.Errorf("%s: %+v, want %d, %d, %g", what, cell, all, held, seconds)
		}
	}
	same("total", w.Total, func(int) bool { return true })
	for k, tag := range tags {
		same(tag, w.Cols[k], func(i int) bool { return c.Tests[i].Tagged(tag) })
	}
	for g, group := range c.Groups {
		inGroup := func(i int) bool { return i >= group.First && i < group.First+group.Len }
		same(group.Name, w.Rows[g], inGroup)
		for k, tag := range tags {
			same(group.Name+" "+tag, w.Cells[g][k], func(i int) bool { return inGroup(i) && c.Tests[i].Tagged(tag) })
		}
	}
	if w.Most != 1 {
		t.Errorf("the most in a cell are %d", w.Most)
	}
}
