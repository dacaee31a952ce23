package pick

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

var glass = catalog.New([]catalog.Test{
	{Suite: "unit", Group: "irrigation/drip", Name: "opens at dawn", Kind: catalog.KindTest, File: "irrigation/drip_test.go", Line: 3, End: 9, Tags: []string{"quick", "valve"}, Expected: 0.2},
	{Suite: "unit", Group: "irrigation", Name: "TestValve", Kind: catalog.KindTest, File: "irrigation/valve_test.go", Line: 7, Tags: []string{"valve", "!linux"}, Expected: 3},
	{Suite: "unit", Group: ".", Name: "ExampleFrost", Kind: catalog.KindExample, File: "root_test.go", Tags: []string{"frost", "linux"}, Expected: 0.05, Ruled: &catalog.Rules{Needs: []string{"or"}}},
	{Suite: "checks", Group: "misting", Name: "or", Kind: catalog.KindTest, Tags: []string{"and", "nightly"}},
})

// known is what the index of glass may ask for beside the catalog.
var known = Source{
	Past: func(i int) []run.Outcome {
		return [][]run.Outcome{{"passed", "failed", "skipped", "passed"}, {"passed", "failed"}, nil, {"skipped"}}[i]
	},
	Rates: func() []float64 { return []float64{2.0 / 3, 0.5, math.NaN(), math.NaN()} },
	Saved: map[string]string{"fast": "took<1s saved:wet", "wet": "in:irrigation/**", "round": "saved:about", "about": "quick saved:round", "old": "taken:3"},
	Touched: func(_ *Index, revision string) (func(*catalog.Test) string, error) {
		if revision != "main" {
			return nil, errors.New("git knows no revision " + revision)
		}
		return func(t *catalog.Test) string {
			if t.Group == "misting" {
				return "misting/nozzle.go changed"
			}
			return ""
		}, nil
	},
}

func names(t *testing.T, text string) string {
	t.Helper()
	e, err := Parse(text)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	set, err := NewIndex(glass, known).Held(text, e)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	var held []string
	for i := range set.All {
		held = append(held, glass.Tests[i].Name)
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
		"name:valve":                         "TestValve",
		"name:VALVE":                         "",
		"in:irr":                             "",
		"in:irrigation/.":                    "opens at dawn|TestValve",
		`name:"at dawn"`:                     "opens at dawn",
		"name:/^(Test|Example)/":             "TestValve|ExampleFrost",
		"suite:checks":                       "or",
		"kind:example":                       "ExampleFrost",
		`id:"unit:.#ExampleFrost"`:           "ExampleFrost",
		"took>2s":                            "TestValve",
		"took<=50ms":                         "ExampleFrost|or",
		"took>=0.2 took<1m valve or missing": "opens at dawn|TestValve",
		"at:irrigation/drip_test.go:9":       "opens at dawn",
		"at:drip_test.go:10":                 "",
		"at:valve_test.go:800":               "TestValve",
		"was:failed":                         "TestValve",
		"was:bad or was:skipped":             "TestValve|or",
		"rate<100% rate>=60%":                "opens at dawn",
		"rate=50":                            "TestValve",
		"flips>0":                            "opens at dawn|TestValve",
		"flips=2":                            "opens at dawn",
		"new":                                "ExampleFrost",
		"rule:needs":                         "ExampleFrost",
		"saved:wet":                          "opens at dawn|TestValve",
		"not saved:fast":                     "TestValve|ExampleFrost|or",
		"touched:main":                       "or",
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
		{"took:2s", 5, "took>2s"},
		{"rate>most", 1, "not a pass rate"},
		{"flips>-1", 1, "not a number of flips"},
		{"frost was:faild", 7, `did you mean "failed"`},
		{"rule:sikp", 1, `did you mean "skip"`},
		{"frost in:[x", 7, "no group, folder or file is named [x"},
		{"at:drip_test.go", 1, "names no line"},
		{"frost saved:fst", 7, `did you mean "fast"`},
		{"frost saved:about", 7, "circle: about → round → about"},
		{"saved:old", 1, `in the saved pick old`},
		{"frost touched:mian", 7, "no revision mian"},
		{"linux quick !linux", 13, "contradict each other"},
		{"!frost", 1, "write: not frost"},
		{"frost qick", 7, `did you mean "quick"`},
		{"suite:cheks", 1, `did you mean "checks"`},
		{"über zzz*", 1, "no test carries"},
		{strings.Repeat("(", 300), 201, "nested"},
	} {
		e, err := Parse(c.text)
		if err == nil {
			err = NewIndex(glass, known).Check(c.text, e)
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
	var reported []string
	steps, err := NewIndex(glass, known).Funnel("", e)
	if err != nil {
		t.Fatal(err)
	}
	for _, step := range steps {
		reported = append(reported, step.Clause+" "+strings.Repeat("i", step.Sum.Tests))
	}
	if got, want := strings.Join(reported, "; "), "all iiii; valve ii; not quick i; in:irrigation i"; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
}

func TestWhy(t *testing.T) {
	x := NewIndex(glass, known)
	for text, want := range map[string]string{
		"":                                 "in: the empty pick selects every test",
		"frost not quick":                  `out by "frost" at column 1: its tags are quick valve`,
		"valve (frost or not took<1s)":     `out by "frost or not took<1s" at column 8: its tags are quick valve; it was never measured and is taken for 0.20 s`,
		"valve not (frost or quick)":       `out by "not quick" at column 21: it carries the tag quick`,
		"frost or (valve in:irrigation/*)": `in by "valve in:irrigation/*" at column 11: it carries the tag valve; it is at irrigation/drip_test.go:3 in group irrigation/drip`,
		"not saved:fast":                   `out by "not saved:fast" at column 1: saved:fast is took<1s saved:wet`,
		"rate>99% was:failed":              `out by "rate>99%" at column 1: it passed in 67 % of its latest runs`,
	} {
		e, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		r, err := x.Why(text, e, 0)
		if err != nil || r.String() != want {
			t.Errorf("%s: %s, %v; want %s", text, r, err, want)
		}
	}
}

func TestComplete(t *testing.T) {
	x := NewIndex(glass, known)
	x.Warm()
	for text, want := range map[string]string{
		"fr":           "0 frost:1",
		"quick not va": "10 valve:2",
		"(in:irr":      "1 in:irrigation/**:2 in:irrigation/.:1 in:irrigation/drip:1",
		"saved:w":      "0 saved:wet:2",
		"was:f":        "0 was:failed:1",
		"saved:ro":     "0 saved:round:-1",
		"ra":           "0 rate>:-1",
		"irr":          "0 in:irrigation/**:2 in:irrigation/.:1 in:irrigation/drip:1",
		`name:"va`:     "8",
		"":             "0",
	} {
		from, list := x.Complete(text, len(text))
		reported := fmt.Sprint(from)
		for _, c := range list {
			reported += fmt.Sprintf(" %s:%d", c.Text, c.Tests)
		}
		if reported != want {
			t.Errorf("%q: %s, want %s", text, reported, want)
		}
	}
}

func TestConditions(t *testing.T) {
	m := &Machine{OS: "linux", Arch: "arm64", Go: func() string { return "go1.25.4" },
		Env: func(name string) (string, bool) {
			return map[string]string{"SLOW": "on"}[name], name == "SLOW" || name == "EMPTY"
		},
		Program: func(name string) bool { return name == "redis-server" }}
	for text, want := range map[string]string{
		"env:SLOW=on": "true", "env:SLOW": "true", "env:SLOW=off": "false", "env:EMPTY": "false", "env:EMPTY=": "true", "env:NONE=": "false",
		"os:linux not arch:amd64": "true", "program:redis-server go>=1.25": "true", "go>1.26 or os:darwin": "false", "go<=1.25": "false",
		"frost": "made of fields", "go>=new": "not a version", "os>linux": "does not compare", "": "true", "env:=x": "names no variable",
	} {
		e, err := ParseCondition(text)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			got = fmt.Sprint(e.Eval(m.Holds))
		}
		if !strings.Contains(got, want) {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
}

// rates are the pass rates of tests.
func rates(past [][]run.Outcome) []float64 {
	rates := make([]float64, len(past))
	for i := range past {
		well, ran := 0.0, 0.0
		for _, o := range past[i] {
			bad, something := o.Evidence()
			if something {
				ran++
			}
			if something && !bad {
				well++
			}
		}
		rates[i] = well / ran // NaN if it never ran
	}
	return rates
}

// TestHeldAgainstReference compares the sets of an index with a plain evaluation
// of each test, on random catalogs and picks.
func TestHeldAgainstReference(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 2))
	for range 300 {
		n := random.IntN(200)
		tests, past := make([]catalog.Test, n), make([][]run.Outcome, n)
		for i := range tests {
			tests[i] = catalog.Test{Suite: "s", Group: fmt.Sprint("g", i/20), Name: fmt.Sprint("case", i), Expected: float64(random.IntN(5))}
			for range random.IntN(3) {
				tests[i].Tags = append(tests[i].Tags, string(rune('a'+random.IntN(4))))
			}
			for range random.IntN(4) {
				past[i] = append(past[i], run.Outcomes[random.IntN(3)])
			}
		}
		c := catalog.New(tests)
		e, err := Parse(randomPick(random, 4))
		if err != nil {
			t.Fatal(err)
		}
		held, err := NewIndex(c, Source{Past: func(i int) []run.Outcome { return past[i] }, Rates: func() []float64 { return rates(past) }}).Held("", e)
		if err != nil {
			t.Fatal(err)
		}
		for i := range c.Tests {
			want := e.Eval(func(term *Term) bool { return plainly(term, &c.Tests[i], past[i]) })
			if held.Has(i) != want {
				t.Fatalf("%s holds %s: %t, want %t", e, c.Tests[i].ID, held.Has(i), want)
			}
		}
	}
}

func randomPick(random *rand.Rand, depth int) string {
	if depth == 0 || random.IntN(4) == 0 {
		terms := []string{"a", "b", "c", "?", "name:case1", "name:/[37]$/", "name:/(3|7)$/", "in:g1", "in:g*", "took>2", "took<=1s", "was:failed", "flips>0", "rate<60%", "new"}
		return terms[random.IntN(len(terms))]
	}
	x, y := randomPick(random, depth-1), randomPick(random, depth-1)
	return [...]string{x + " " + y, "(" + x + ") and (" + y + ")", x + " or " + y, "not (" + x + ")", "not " + x}[random.IntN(5)]
}

// plainly is the meaning of the terms of randomPick.
func plainly(term *Term, t *catalog.Test, past []run.Outcome) bool {
	number := 0.0
	fmt.Sscanf(term.Value, "%g", &number)
	switch term.Field {
	case "tag":
		return slices.ContainsFunc(t.Tags, func(tag string) bool { return tag == term.Value || term.Value == "?" })
	case "name":
		if term.Regexp {
			return strings.ContainsAny(t.Name[len(t.Name)-1:], "37")
		}
		return strings.Contains(t.Name, term.Value)
	case "in":
		return term.Value == "g*" || t.Group == term.Value
	case "took":
		return term.Op == ">" && t.Expected > number || term.Op == "<=" && t.Expected <= number
	case "new":
		return len(past) == 0
	case "was":
		return len(past) > 0 && string(past[len(past)-1]) == term.Value
	}
	well, bad := 0, 0
	flips := 0
	for i, o := range past { // passed, failed and errored only
		if o == run.Passed {
			well++
		} else {
			bad++
		}
		if i > 0 && (o == run.Passed) != (past[i-1] == run.Passed) {
			flips++
		}
	}
	if term.Field == "flips" {
		return flips > 0
	}
	return well+bad > 0 && 100*well < 60*(well+bad)
}

// TestManyStates evaluates expressions that have more states than are kept, each
// and still more together, and compares them with the standard package.
func TestManyStates(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 5))
	tests := make([]catalog.Test, 3000)
	for i := range tests {
		name := make([]byte, 40)
		for k := range name {
			name[k] = "ab"[random.IntN(2)]
		}
		tests[i] = catalog.Test{ID: fmt.Sprint(i), Name: string(name)}
	}
	x := NewIndex(catalog.New(tests), Source{})
	expressions := []string{"a.{12}bbbbb", "b.{11}aaaaa", "(ab|ba){5}.{9}b$"}
	e, err := Parse("name:/" + strings.Join(expressions, "/ or name:/") + "/")
	if err != nil {
		t.Fatal(err)
	}
	if sets, err := x.matching(expressions); sets != nil || err != nil {
		t.Errorf("together they have few states: %v", err)
	}
	held, err := x.Held("", e)
	if err != nil {
		t.Fatal(err)
	}
	plain := regexp.MustCompile(strings.Join(expressions, "|"))
	for i := range tests {
		if held.Has(i) != plain.MatchString(tests[i].Name) {
			t.Errorf("%s: %t", tests[i].Name, held.Has(i))
		}
	}
}

// FuzzMatcher compares the automaton of two expressions with the standard package.
func FuzzMatcher(f *testing.F) {
	for _, seed := range [][3]string{{"^a+b$", "b", "aab"}, {`\bvalve\b`, "^.{3}$", "the valve/"}, {`(?i)é.x|\Bq`, "", "ÉüX"}, {"(?m)^b$", "c$", "a\nb\nc"}, {"", "x", ""}, {`$|x`, "yy", "y"}, {`[^a]{2,5}?z\z`, "z", "\xffbz"}} {
		f.Add(seed[0], seed[1], seed[2])
	}
	f.Fuzz(func(t *testing.T, one, other, text string) {
		var want uint64
		for i, expression := range []string{one, other} {
			plain, err := regexp.Compile(expression)
			if _, ours := newMatcher(expression); (err == nil) != (ours == nil) {
				t.Fatalf("%q: %v, and here %v", expression, err, ours)
			}
			if err != nil {
				return
			}
			if plain.MatchString(text) {
				want |= 1 << i
			}
		}
		m, err := newMatcher(one, other)
		if err != nil {
			t.Fatal(err)
		}
		for range 2 { // the second time over states that are there
			if got := m.match(text); got != want {
				t.Fatalf("%q and %q on %q: %b, want %b", one, other, text, got, want)
			}
		}
	})
}

// BenchmarkHeld evaluates a pick of ten terms over 100,000 tests for the first
// time: cheap terms, and the dearest that there can be.
func BenchmarkHeld(b *testing.B) {
	tests := make([]catalog.Test, 100_000)
	past := make([][]run.Outcome, len(tests))
	for i := range tests {
		group := fmt.Sprintf("area%d/group-%d", i/500%7, i/50)
		tests[i] = catalog.Test{Suite: "s", Group: group, Name: fmt.Sprintf("TestValve%dOpensWhenItIsCold/%d", i%977, i), File: group + "/a_test.go", Line: i,
			Tags: []string{fmt.Sprint("tag", i%80), fmt.Sprint("zone", i%9)}, Expected: float64(i % 100)}
		past[i] = []run.Outcome{run.Passed, run.Outcomes[i%8], run.Passed, run.Failed}
	}
	c := catalog.New(tests)
	known := rates(past)
	source := Source{Past: func(i int) []run.Outcome { return past[i] }, Rates: func() []float64 { return known }}
	for name, text := range map[string]string{
		"mixed":       "tag7 or zone3 not tag2 or in:area3/** took>2s or name:Valve12 flips>1 or rate<70% name:/^TestValve[0-9]+Opens/ or at:a_test.go:70",
		"names":       "name:a or name:bb or name:cc or name:dd or name:ee or name:ff or name:gg or name:hh or name:ii or name:jj",
		"expressions": `name:/^TestV.*a[xy]/ or name:/e\d{5}$/ or name:/[A-Z]{3}/ or name:/(?i)warm/ or name:/Opens|Closes/ or name:/W.*W.*W/ or name:/^.{90,}$/ or name:/\bvalve\b/ or name:/[xyz]{2}/ or name:/C.ld.9$/`,
	} {
		e, err := Parse(text)
		if err != nil {
			b.Fatal(err)
		}
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				b.StopTimer()
				x := NewIndex(c, source)
				b.StartTimer()
				if _, err := x.Held(text, e); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// FuzzParse holds that nothing panics, that an error points into the text, and
// that what is printed parses back to the same.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{"", "frost", "a b or not (c d)", `name:/x\/y/ "a b"`, `in:**/x took>2s`, "a and (b or c) not d", `tag:"`, `"\""`, "name:/[/", "not(a)or(b)", `id:"unit:.#X"`, `name:"/x/"`, "a\u00a0b", "new or rate<=95% was:bad", "env:A=b go>=1.25", "at:a_test.go:4 \"new\""} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if e, err := ParseCondition(text); err == nil {
			if again, err := ParseCondition(e.String()); err != nil || shape(again) != shape(e) {
				t.Fatalf("the condition %q is printed as %q, which parses to another: %v", text, e, err)
			}
		}
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
