package catalog

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// TestNames finds tests by what the reports of others call them.
func TestNames(t *testing.T) {
	var tests []Test
	for _, text := range []string{"unit:beds#TestOpens", "unit:roof/beds#TestOpens", "unit:roof#TestShuts", "unit:.#TestRoot", "web:.#opens at dawn", "web:panel#twice",
		"api:panel#twice", "j:m.A#a", "j:m.A#b", "j:m.B#b", "s:tests/unit#tests/unit/x.sh", "p:checks#late tests/test_late.py", "p:checks#early tests/test_early.py"} {
		id, file, _ := strings.Cut(text, " tests/")
		if file == "" || strings.HasPrefix(id, "web") {
			id, file = text, ""
		} else {
			file = "tests/" + file
		}
		suite, group, name := Parts(id)
		tests = append(tests, Test{ID: id, Suite: suite, Group: group, Name: name, File: file})
	}
	names := NewNames(tests)
	for reported, want := range map[string]struct {
		id string
		m  Match
	}{
		"unit:beds#TestOpens":              {"unit:beds#TestOpens", NamePlace},
		"beds#TestOpens":                   {"unit:beds#TestOpens", NamePlace},
		"example.org/glass/beds#TestOpens": {"unit:beds#TestOpens", NamePlace},
		"glass/roof/beds#TestOpens":        {"unit:roof/beds#TestOpens", NamePlace},
		"org.glass.roof.beds#TestOpens":    {"unit:roof/beds#TestOpens", NamePlace},
		"elsewhere#TestShuts":              {"unit:roof#TestShuts", NameElsewhere}, // the only one
		"elsewhere#TestOpens":              {"", NoMatch},                          // either
		"org.glass.panel#twice":            {"", NoMatch},
		"opens at dawn":                    {"web:.#opens at dawn", NameOnly}, // of TAP
		"example.org/glass#TestRoot":       {"unit:.#TestRoot", NameOnly},
		"beds#TestNobody":                  {"", NoMatch},
		"TestOpens":                        {"", NoMatch},
		"roof: TestShuts":                  {"unit:roof#TestShuts", NamePlace},
		"m.A.a":                            {"j:m.A#a", NamePlace},
		"A#a":                              {"j:m.A#a", NamePlace},
		"m.B#a":                            {"", NoMatch}, // beside m.A
		"report#m.A.a":                     {"j:m.A#a", NamePlace},
		"m.C#b":                            {"", NoMatch},
		"org.m.B#b":                        {"j:m.B#b", NamePlace},
		"sh#tests/unit/x.sh":               {"s:tests/unit#tests/unit/x.sh", NameOnly},
		"tests.test_late.Late#late":        {"p:checks#late", NamePlace},
		"@tests/test_late.py late":         {"p:checks#late", NamePlace},
		"@tests/test_early.py late":        {"", NoMatch},
	} {
		file := ""
		if at, ok := strings.CutPrefix(reported, "@"); ok {
			file, reported, _ = strings.Cut(at, " ")
		}
		if id, m := names.Find(reported, file); id != want.id || m != want.m {
			t.Errorf("%s %s: Find returned %s, match %d, want %s, match %d", reported, file, id, m, want.id, want.m)
		}
	}
}

// TestNamesAtRandom holds, in random suites, that a place that ends with the group of one test only finds that test, and that
// whatever Find returns has the name that was reported.
func TestNamesAtRandom(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	word := func() string { return string(rune('a' + random.IntN(3))) }
	place := func(most int) string {
		words := make([]string, 1+random.IntN(most))
		for i := range words {
			words[i] = word()
		}
		return strings.Join(words, "/")
	}
	for range 2000 {
		var tests []Test
		seen := map[string]bool{}
		for range 1 + random.IntN(6) {
			test := Test{Suite: "s", Group: place(3), Name: "t" + word()}
			if test.ID = ID(test.Suite, test.Group, test.Name); !seen[test.ID] {
				seen[test.ID] = true
				tests = append(tests, test)
			}
		}
		names := NewNames(tests)
		reported, name := "x/"+place(4), "t"+word()
		id, match := names.Find(strings.ReplaceAll(reported, "/", ".")+"#"+name, "")
		best, length := "", 0 // the plain rule: the longest group that the place ends with
		for _, test := range tests {
			if test.Name == name && strings.HasSuffix(reported, "/"+test.Group) && len(test.Group) > length {
				best, length = test.ID, len(test.Group)
			}
		}
		if best != "" && (id != best || match != NamePlace) {
			t.Fatalf("Find(%s#%s) among %v returned %s, match %d, want %s", reported, name, seen, id, match, best)
		}
		if match != NoMatch && !strings.HasSuffix(id, "#"+name) {
			t.Fatalf("Find(%s#%s) returned %s", reported, name, id)
		}
	}
}

// BenchmarkNames finds each of 5,000 tests that all have one name.
func BenchmarkNames(b *testing.B) {
	tests := make([]Test, 5000)
	for i := range tests {
		tests[i] = Test{ID: fmt.Sprintf("s:org/g%d#test", i), Suite: "s", Group: fmt.Sprintf("org/g%d", i), Name: "test"}
	}
	names := NewNames(tests)
	for b.Loop() {
		for i := range tests {
			if id, _ := names.Find(fmt.Sprintf("org.g%d#test", i), ""); id != tests[i].ID {
				b.Fatal(id)
			}
		}
	}
}
