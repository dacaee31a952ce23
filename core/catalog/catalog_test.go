package catalog

import (
	"fmt"
	"math/rand/v2"
	"reflect"
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
	a.AddTag("z", "")
	b.AddTag("b", "")
	a.AddTag("z", "")
	if !slices.Equal(a.Tags, []string{"m", "z"}) || !slices.Equal(b.Tags, []string{"b", "m"}) {
		t.Errorf("got %v and %v", a.Tags, b.Tags)
	}
}

func TestMarks(t *testing.T) {
	var a Test
	a.AddRules(Rules{OnlyIf: "os:linux or os:darwin"}, "the function")
	a.AddRules(Rules{Needs: []string{"x", "y"}, Skip: "broken"}, "the file")
	b := a
	b.AddRules(Rules{Needs: []string{"y", "z"}, Skip: "worse", OnlyIf: "go>=1.26"}, "fern.toml:3")
	b.AddTag("slow", "fern.toml:9")
	want := Rules{Skip: "worse", OnlyIf: "(os:linux or os:darwin) (go>=1.26)", Needs: []string{"x", "y", "z"}}
	if !reflect.DeepEqual(b.Rules(), want) || !slices.Equal(a.Rules().Needs, []string{"x", "y"}) {
		t.Errorf("the rules are %+v, and of the copy %+v", b.Rules(), a.Rules())
	}
	if b.RuleFrom(RuleNeeds) != "the file, fern.toml:3" || b.TagFrom("slow") != "fern.toml:9" || b.RuleFrom(RuleHolds) != "" || len(a.Origins) != 3 {
		t.Errorf("the origins are %+v and %+v", b.Origins, a.Origins)
	}
	b.ClearRule(RuleSkip)
	if b.Rules().Has(RuleSkip) || b.RuleFrom(RuleSkip) != "" || !a.Rules().Has(RuleSkip) {
		t.Errorf("unmarked: %+v", b)
	}
	for rule, value := range map[string]string{"needs": " ", "only-if": "", "sleep": "x"} {
		if new(Rules).Set(rule, value) == nil {
			t.Errorf("%s %q is taken", rule, value)
		}
	}
}

func TestTree(t *testing.T) {
	shown := func(groups ...string) string {
		var tests []Test
		for _, g := range groups {
			suite, group, _ := strings.Cut(g, ":")
			tests = append(tests, Test{Suite: suite, Group: group, Name: "x"})
		}
		c := New(tests)
		var lines []string
		for _, n := range c.Tree() {
			lines = append(lines, fmt.Sprintf("%s%s=%s", strings.Repeat(">", n.Depth), n.Label, n.Place()))
		}
		return strings.Join(lines, " ")
	}
	for groups, want := range map[string]string{
		"u:. u:a/b/c":               ".=. a/b/c=a/b/c",
		"u:a/b/c u:d u:a/b/e":       "a/b=a/b/** >c=a/b/c >e=a/b/e d=d",
		"u:a u:a/b":                 "a=a/** >.=a/. >b=a/b",
		"u:a v:a v:b/c":             "u= >a=a v= >a=a >b/c=b/c",
		"u:/abs/x u:/abs/y u:plain": "/abs=/abs/** >x=/abs/x >y=/abs/y plain=plain",
	} {
		if got := shown(strings.Fields(groups)...); got != want {
			t.Errorf("%s: %s, want %s", groups, got, want)
		}
	}
}

// TestWeave holds the sums of the crosstab, its members and its order of rows
// against a plain count.
func TestWeave(t *testing.T) {
	c := sample()
	tags, nodes := c.Tags(), c.Tree()
	picked := func(i int) bool { return i%2 == 0 }
	w := NewWeave(c, nodes, tags, func(int) bool { return true }, picked)
	tagSet := func(tag string) Set {
		set := NewSet(len(c.Tests))
		for i := range c.Tests {
			if c.Tests[i].Tagged(tag) {
				set.Add(i)
			}
		}
		return set
	}
	same := func(what string, cell Cell, members Set, in func(i int) bool) {
		var want Cell
		for i := range c.Tests {
			if in(i) {
				want.add(&c.Tests[i], picked(i))
			}
			if members.Has(i) != in(i) {
				t.Errorf("%s: members %v", what, slices.Collect(members.All))
			}
		}
		if cell != want || len(members.From(0, 99)) != want.All.Tests || len(members.From(1, 99)) != max(0, want.All.Tests-1) {
			t.Errorf("%s: %+v, want %+v", what, cell, want)
		}
	}
	same("total", w.Total, w.Members(c, -1, "", nil), func(int) bool { return true })
	for k, tag := range tags {
		same(tag, w.Cols[k], w.Members(c, -1, tag, tagSet(tag)), func(i int) bool { return c.Tests[i].Tagged(tag) })
	}
	for n, node := range nodes {
		below := func(i int) bool {
			test := &c.Tests[i]
			return test.Suite == node.Suite && (node.Path == "" || test.Group == node.Path || strings.HasPrefix(test.Group, node.Path+"/"))
		}
		same(node.Label, w.Margin[n], w.Members(c, n, "", nil), below)
		for k, tag := range tags {
			same(node.Label+" "+tag, w.Cells[n][k], w.Members(c, n, tag, tagSet(tag)), func(i int) bool { return below(i) && c.Tests[i].Tagged(tag) })
		}
	}
	if w.Most != 1 {
		t.Errorf("the most in a cell are %d", w.Most)
	}
	labels := func(by Order, folded bool) string {
		var out []string
		for _, n := range w.Rows(func(int) bool { return folded }, by) {
			out = append(out, nodes[n].Label)
		}
		return strings.Join(out, " ")
	}
	if got := labels(ByTime, false) + "; " + labels(ByTests, true); got != "more drip unit drip irrigation/drip; unit more" {
		t.Errorf("the rows are %s", got)
	}
	if got := w.Columns(ByTime); tags[got[0]] != "quick" {
		t.Errorf("the columns are %v of %v", got, tags)
	}
}

// TestSet compares sets with plain maps.
func TestSet(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 3))
	for range 300 {
		n := random.IntN(300)
		a, b, inA, inB := NewSet(n), NewSet(n), map[int]bool{}, map[int]bool{}
		for range random.IntN(n + 1) {
			i := random.IntN(n)
			a.Add(i)
			inA[i] = true
		}
		if n > 0 {
			first := random.IntN(n)
			length := random.IntN(n - first + 1)
			b.AddRange(first, length)
			for i := first; i < first+length; i++ {
				inB[i] = true
			}
		}
		for what, c := range map[string]struct {
			change func(s, other Set)
			in     func(i int) bool
		}{
			"itself":  {func(Set, Set) {}, func(i int) bool { return inA[i] }},
			"and":     {Set.And, func(i int) bool { return inA[i] && inB[i] }},
			"or":      {Set.Or, func(i int) bool { return inA[i] || inB[i] }},
			"and not": {Set.AndNot, func(i int) bool { return inA[i] && !inB[i] }},
		} {
			set := slices.Clone(a)
			c.change(set, b)
			var want []int
			for i := range n {
				if c.in(i) {
					want = append(want, i)
				}
				if set.Has(i) != c.in(i) {
					t.Fatalf("%s: %d is in: %t", what, i, set.Has(i))
				}
			}
			skip, most := random.IntN(20), random.IntN(20)
			part := want[min(skip, len(want)):]
			part = part[:min(most, len(part))]
			if set.Len() != len(want) || !slices.Equal(slices.Collect(set.All), want) || !slices.Equal(set.From(skip, most), part) {
				t.Fatalf("%s: %v, and from %d on %v; want %v", what, slices.Collect(set.All), skip, set.From(skip, most), want)
			}
		}
	}
}

func TestTally(t *testing.T) {
	tally, err := NewTally(sample().Tests, []string{"tag", "group"})
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(tally.Rows, []string{"quick", "valve"}) || !slices.Equal(tally.Columns, []string{"unit:drip", "unit:irrigation/drip", "more:drip"}) {
		t.Errorf("rows %v, columns %v", tally.Rows, tally.Columns)
	}
	if got := tally.Cells[[2]string{"quick", "more:drip"}]; got != (Sum{1, 8, 8, 8}) || tally.ByRow["valve"] != (Sum{2, 3, 2, 3}) || tally.Total != (Sum{4, 15, 8, 15}) {
		t.Errorf("%+v", tally)
	}
}

// TestParts takes IDs apart, whole ones and those of reports of others.
func TestParts(t *testing.T) {
	for id, want := range map[string][3]string{
		"unit:a/b#Test#1:2": {"unit", "a/b", "Test#1:2"},
		"unit:.#a":          {"unit", ".", "a"},
		"house.Beds#opens":  {"", "house.Beds", "opens"},
		"opens at: dawn":    {"", "", "opens at: dawn"},
		"":                  {"", "", ""},
	} {
		suite, group, name := Parts(id)
		if got := [3]string{suite, group, name}; got != want {
			t.Errorf("%q is taken apart into %q, want %q", id, got, want)
		}
	}
}
