package pick

import (
	"errors"
	"strings"
	"testing"

	"fernrelay/core/catalog"
)

var glass = catalog.New([]catalog.Test{
	{Suite: "unit", Group: "irrigation/drip", Name: "opens at dawn", Kind: catalog.KindTest, File: "irrigation/drip_test.go", Tags: []string{"quick", "valve"}, Expected: 0.2},
	{Suite: "unit", Group: "irrigation", Name: "TestValve", Kind: catalog.KindTest, File: "irrigation/valve_test.go", Tags: []string{"valve"}, Expected: 3},
	{Suite: "unit", Group: ".", Name: "ExampleFrost", Kind: catalog.KindExample, File: "root_test.go", Tags: []string{"frost"}, Expected: 0.05},
	{Suite: "checks", Group: "misting", Name: "or", Kind: catalog.KindTest, Tags: []string{"and", "nightly"}},
})

func names(t *testing.T, text string) string {
	t.Helper()
	e, err := Parse(text)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	var held []string
	for i := range glass.Tests {
		if e.Match(&glass.Tests[i]) {
			held = append(held, glass.Tests[i].Name)
		}
	}
	return strings.Join(held, "|")
}

func TestMatch(t *testing.T) {
	for text, want := range map[string]string{
		"":                                   "opens at dawn|TestValve|ExampleFrost|or",
		"valve":                              "opens at dawn|TestValve",
		"val*":                               "opens at dawn|TestValve",
		"valve quick":                        "opens at dawn",
		"valve and not quick":                "TestValve",
		"frost or quick valve":               "opens at dawn|ExampleFrost",
		"(frost or quick) valve":             "opens at dawn",
		"not (valve or frost)":               "or",
		"not not frost":                      "ExampleFrost",
		`"and"`:                              "or",
		"in:irrigation":                      "opens at dawn|TestValve",
		"in:irrigation/**":                   "opens at dawn|TestValve",
		"in:irrigation/drip":                 "opens at dawn",
		"in:**/valve_*":                      "TestValve",
		"in:*_test.go":                       "opens at dawn|TestValve|ExampleFrost",
		"in:.":                               "ExampleFrost",
		"name:Valve":                         "TestValve",
		`name:"at dawn"`:                     "opens at dawn",
		"name:/^(Test|Example)/":             "TestValve|ExampleFrost",
		"suite:checks":                       "or",
		"kind:example":                       "ExampleFrost",
		`id:"unit:.#ExampleFrost"`:           "ExampleFrost",
		"took>2s":                            "TestValve",
		"took<=50ms":                         "ExampleFrost|or",
		"took>=0.2 took<1m valve or missing": "opens at dawn|TestValve",
	} {
		if got := names(t, text); got != want {
			t.Errorf("%s: holds %s, want %s", text, got, want)
		}
	}
}

func TestErrorsPoint(t *testing.T) {
	for _, c := range []struct {
		text   string
		column int
		words  string
	}{
		{"quick nam:x", 7, `did you mean "name"`},
		{"quick (valve", 7, "never closed"},
		{"valve)", 6, "closes nothing"},
		{"valve or", 9, "expected at the end"},
		{"or valve", 1, `expected before "or"`},
		{"not", 4, "expected at the end"},
		{"()", 2, `expected before ")"`},
		{`name:"a`, 6, "never closed"},
		{"name:/(/", 1, "does not parse"},
		{"name:", 6, "a value is expected"},
		{"name>3", 5, "does not compare"},
		{"took>soon", 1, "not a duration"},
		{"took:2s", 1, "took>2s"},
		{"frost qick", 7, `did you mean "quick"`},
		{"suite:cheks", 1, `did you mean "checks"`},
		{"über zzz*", 1, "no test carries"},
		{strings.Repeat("(", 300), 201, "nested"},
	} {
		e, err := Parse(c.text)
		if err == nil {
			err = Check(c.text, e, glass)
		}
		var wrong *Error
		if !errors.As(err, &wrong) {
			t.Errorf("%s: no error, but one with %q is expected", c.text, c.words)
			continue
		}
		if wrong.Column != c.column || !strings.Contains(wrong.Message, c.words) {
			t.Errorf("%s: column %d: %s; want column %d and %q", c.text, wrong.Column, wrong.Message, c.column, c.words)
		}
	}
}

func TestFunnel(t *testing.T) {
	e, _ := Parse("valve not quick in:irrigation")
	var told []string
	for _, step := range Funnel(e, glass) {
		told = append(told, step.Clause+" "+strings.Repeat("i", step.Sum.Tests))
	}
	if got, want := strings.Join(told, "; "), "all iiii; valve ii; not quick i; in:irrigation i"; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
}

// FuzzParse holds that nothing panics, that an error points into the text, and
// that what is printed parses back to the same.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{"", "frost", "a b or not (c d)", `name:/x\/y/ "a b"`, `in:**/x took>2s`, "a and (b or c) not d", `tag:"`, `"\""`, "name:/[/", "not(a)or(b)", `id:"unit:.#X"`, `name:"/x/"`, "a\u00a0b"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		e, err := Parse(text)
		var wrong *Error
		if errors.As(err, &wrong) {
			if wrong.Column < 1 || wrong.Column > len([]rune(text))+1 {
				t.Fatalf("%q: column %d is outside", text, wrong.Column)
			}
			return
		}
		printed := e.String()
		again, err := Parse(printed)
		if err != nil {
			t.Fatalf("%q is printed as %q, which does not parse: %v", text, printed, err)
		}
		if shape(again) != shape(e) {
			t.Fatalf("%q is printed as %q, which parses to another tree: %s, not %s", text, printed, shape(again), shape(e))
		}
	})
}

// shape writes a tree with every bracket.
func shape(e Expr) string {
	switch e := e.(type) {
	case *And:
		return "(" + shape(e.X) + "&" + shape(e.Y) + ")"
	case *Or:
		return "(" + shape(e.X) + "|" + shape(e.Y) + ")"
	case *Not:
		return "!" + shape(e.X)
	case *Term:
		return e.Field + e.Op + quote(e.Value) + map[bool]string{true: "r"}[e.Regexp]
	}
	return "all"
}
