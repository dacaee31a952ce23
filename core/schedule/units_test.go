package schedule

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
)

func TestUnits(t *testing.T) {
	tests := []catalog.Test{
		{ID: "u:a#1", Suite: "u", Group: "a", Name: "1", File: "a/x.go", Expected: 1, Known: true, Setup: 0.5},
		{ID: "u:b#1", Suite: "u", Group: "b", Name: "1", Expected: 2},
		{ID: "u:a#2", Suite: "u", Group: "a", Name: "2", File: "a/y.go", Expected: 3, Known: true, Setup: 0.5},
	}
	for together, want := range map[catalog.Level]string{
		catalog.GroupLevel: "u:a[u:a#1 u:a#2]4.5+0 u:b[u:b#1]2+1",
		catalog.FileLevel:  "u:a/x.go[u:a#1]1.5+0 u:b[u:b#1]2+1 u:a/y.go[u:a#2]3.5+0",
		catalog.TestLevel:  "u:a#1[u:a#1]1.5+0 u:b#1[u:b#1]2+1 u:a#2[u:a#2]3.5+0",
	} {
		units, err := Units(tests, together)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, u := range units {
			got = append(got, fmt.Sprintf("%s%v%g+%d", u.Name, u.Tests, u.Alone(), u.Unknown))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %v, want %s", together, got, want)
		}
	}
	if _, err := Units(tests, "row"); err == nil || !strings.Contains(err.Error(), "row") {
		t.Errorf("no error for a wrong word: %v", err)
	}
	units, _ := Units(tests, catalog.GroupLevel)
	if apart := Apart(units, "u:a", tests); len(apart) != 3 || apart[0].Name != "u:a#1" || apart[2].Name != "u:b" {
		t.Errorf("apart the units are %v", apart)
	}
}

// TestChains holds that what depends on each other stays together, over any
// number of groups, and so does what shares a resource of all machines; that
// nothing else is joined, and that a circle is reported.
func TestChains(t *testing.T) {
	test := func(id string, needs ...string) catalog.Test {
		group, _, _ := strings.Cut(id, "#")
		return catalog.Test{ID: id, Group: group, Name: id, Expected: 1, Ruled: &catalog.Rules{Needs: needs}}
	}
	tests := []catalog.Test{test("a#1"), test("b#1"), test("c#1", "a#1"), test("d#1"), test("e#1", "d#1", "gone#1"), test("a#2", "e#1"), test("b#2"),
		test("f#1"), test("g#1"), test("h#1")}
	for i, holds := range [][]string{{"licence"}, {"licence", "port"}, {"port"}} {
		tests[7+i].AddRules(catalog.Rules{Holds: holds}, "")
	}
	units, err := Units(tests, catalog.GroupLevel, "licence")
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, u := range units {
		got = append(got, fmt.Sprintf("%s %g %s", u.Label, u.Seconds, strings.Join(u.Tests, " ")))
	}
	want := []string{"a + c + d + e 5 a#1 a#2 c#1 d#1 e#1", "b 2 b#1 b#2", "f + g 2 f#1 g#1", "h 1 h#1"}
	if !slices.Equal(got, want) {
		t.Errorf("the units are %q, want %q", got, want)
	}
	tests[0].AddRules(catalog.Rules{After: []string{"a#2"}}, "")
	tests[4].AddRules(catalog.Rules{After: []string{"a#1"}}, "")
	if _, err := Units(tests, catalog.GroupLevel); err == nil || !strings.Contains(err.Error(), "a#1 → a#2 → e#1 → a#1") {
		t.Errorf("of a circle the error is %v", err)
	}
}
