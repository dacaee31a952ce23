package catalog

import (
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
