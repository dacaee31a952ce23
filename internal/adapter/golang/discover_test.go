package golang

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter/golang/source"
	"fernrelay/internal/testfiles"
)

// TestDirectives reads tags and rules of files and functions with their origins,
// and reports directives that are wrong with their places.
func TestDirectives(t *testing.T) {
	a, found := module(t, Config{}, map[string]string{"p/p_test.go": `//fern:tags file
//fern:holds bus pump

package p

import "testing"

// TestAll has everything.
//
//fern:tags quick slow quick
//fern:skip
//fern:lone while the pump is mended
//fern:expect-fail not there yet
//fern:only-if os:linux or env:X=1
//fern:only-if go>=1.20
//fern:needs TestBare q#TestOther
//fern:after TestBare
func TestAll(t *testing.T) {}

//fern:sleep well
//fern:only-if os:
//fern:needs
//fern:tags
func TestBare(t *testing.T) {
}
`})
	all, bare := found["p#TestAll"], found["p#TestBare"]
	want := catalog.Rules{Skip: catalog.NoReason, Lone: "while the pump is mended", ExpectFail: "not there yet", OnlyIf: "(os:linux or env:X=1) (go>=1.20)",
		Needs: []string{"TestBare", "q#TestOther"}, After: []string{"TestBare"}, Holds: []string{"bus", "pump"}}
	if fmt.Sprint(all.Rules()) != fmt.Sprint(want) || !slices.Equal(all.Tags, []string{"file", "quick", "slow"}) {
		t.Errorf("read %+v with the tags %v", all.Rules(), all.Tags)
	}
	if all.TagFrom("file") != "the file" || all.TagFrom("quick") != "the function" || all.RuleFrom("holds") != "the file" || all.RuleFrom("needs") != "the function" {
		t.Errorf("the origins are %v", all.Origins)
	}
	if !slices.Equal(bare.Tags, []string{"file"}) || bare.Rules().Has("needs") || bare.Line != 24 || bare.End != 25 {
		t.Errorf("read %+v", bare)
	}
	again, err := a.Discover(context.Background())
	if err != nil || len(again.Notes) != 4 {
		t.Fatalf("noted %q, %v", again.Notes, err)
	}
	for i, words := range []string{"p/p_test.go:20:1: //fern:sleep: there is no rule", "p/p_test.go:21:1: //fern:only-if: the condition", ":22:1: //fern:needs: needs takes one name", ":23:1: //fern:tags names no tag"} {
		if !strings.Contains(again.Notes[i], words) {
			t.Errorf("noted %q, want %q", again.Notes[i], words)
		}
	}
}

// TestBuildable holds where files are built, and with which tags.
func TestBuildable(t *testing.T) {
	a, _ := module(t, Config{}, map[string]string{"x_test.go": "package x\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {}\n"})
	elsewhere := "windows"
	if runtime.GOOS == elsewhere {
		elsewhere = "linux"
	}
	for _, c := range []struct{ name, line, tags, built string }{
		{"a_test.go", "", "", "here"},
		{"a_test.go", "it && !never", "it", "here"},
		{"a_test.go", "(it || slow) && go1.20", "it", "here"},
		{"a_test.go", elsewhere + " && it", "", "elsewhere"},
		{"a_test.go", "!" + runtime.GOOS, "", "elsewhere"},
		{"a_" + elsewhere + "_arm64_test.go", "", "", "elsewhere"},
		{elsewhere + "_test.go", "", "", "here"},
		{"a_" + runtime.GOOS + "_test.go", "it", "it", "here"},
		{"a_test.go", "ignore", "", "nowhere"},
		{"a_test.go", "it && !it", "", "nowhere"},
	} {
		src := "package x\n"
		if c.line != "" {
			src = "//go:build " + c.line + "\n\n" + src
		}
		read := source.ReadConstraint(c.name, []byte(src))
		tags, here, anywhere := a.buildable(t.TempDir(), c.name, []byte(src), read)
		built := map[[2]bool]string{{true, true}: "here", {false, true}: "elsewhere", {false, false}: "nowhere"}[[2]bool{here, anywhere}]
		if strings.Join(tags, " ") != c.tags || built != c.built {
			t.Errorf("%s %q: built %s with %v; want %s with %q", c.name, c.line, built, tags, c.built, c.tags)
		}
	}
}

// TestOneNameTwice holds that tests of one name in a package keep their IDs apart
// and run each as itself, and that needs are obeyed inside of one process.
func TestOneNameTwice(t *testing.T) {
	test := func(head, name, body string) string {
		return head + "\n\nimport \"testing\"\n\nfunc " + name + "(t *testing.T) {" + body + "}\n"
	}
	a, found := module(t, Config{NoVet: true}, map[string]string{
		"p/a_test.go": test("package p", "TestSame", "") + "\n//fern:needs TestSame\nfunc TestAfterGood(t *testing.T) {}\n" +
			"\nfunc TestBad(t *testing.T) { t.Cleanup(func() { t.Error(\"late\") }) }\n\nfunc TestAfterBad(t *testing.T) {}\n\nfunc ExampleAfter() {\n\t// Output:\n}\n",
		"p/b_test.go": test("package p_test", "TestSame", "t.Fatal(\"the outer one\")"),
		"p/c_test.go": test("//go:build it\n\npackage p", "TestTagged", ""),
		"p/d_test.go": test("//go:build !it\n\npackage p", "TestTagged", "t.Fatal(\"without it\")"),
	})
	names := []string{"p#TestSame", "p#TestAfterGood", "p#TestBad", "p#TestAfterBad", "p#ExampleAfter", "p#TestSame~p_test", "p#TestTagged", "p#TestTagged~it"}
	tests := choose(t, found, names...)
	tests[1].AddRules(catalog.Rules{Needs: []string{"u:p#TestSame"}}, "") // as they come once names are resolved
	tests[3].AddRules(catalog.Rules{Needs: []string{"u:p#TestBad"}}, "")
	tests[4].AddRules(catalog.Rules{Needs: []string{"u:p#TestBad"}}, "")
	run := run.New()
	if err := open(t, a, tests).Run(context.Background(), tests, run.Apply); err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"passed", "passed", "failed late", "skipped needs", "skipped needs", "failed the outer one", "failed without it", "passed"} {
		r := run.Result(tests[i].ID)
		o, words, _ := strings.Cut(want, " ")
		if r == nil || string(r.Outcome) != o || !strings.Contains(r.Message, words) {
			t.Errorf("%s: %+v, want %s", names[i], r, want)
		}
	}
}

// TestNothing says why there are no tests.
func TestNothing(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		words []string
	}{
		"no Go file":     {map[string]string{"x.py": ""}, []string{"no Go file at all", "right one"}},
		"no test file":   {map[string]string{"x.go": "package x\n", "y/y.go": "package y\n"}, []string{"2 Go files", "none ends in _test.go"}},
		"no test in it":  {map[string]string{"x_test.go": "package x\n\nfunc testX() {}\n"}, []string{"read 1 of 1 Go files", "other names"}},
		"another module": {map[string]string{"sub/go.mod": "module y\n", "sub/y_test.go": "package y\n"}, []string{"modules of their own below"}},
	} {
		dir := t.TempDir()
		c.files["go.mod"] = "module example.org/none\n"
		testfiles.Write(t, dir, c.files)
		a, err := New(Config{Suite: "u", Root: dir, Dir: dir, Store: filepath.Join(dir, ".store")})
		if err != nil {
			t.Fatal(err)
		}
		found, err := a.Discover(context.Background())
		for _, words := range append(c.words, dir) {
			if err != nil || !strings.Contains(found.Nothing, words) {
				t.Errorf("%s: %q, %v; want %q", name, found.Nothing, err, words)
			}
		}
	}
}

// TestCache holds that what is kept of files is taken only for the same content.
func TestCache(t *testing.T) {
	files := map[string]string{}
	long := "// " + strings.Repeat("long ", worthKeeping/100)
	for i := range 20 {
		files[fmt.Sprintf("p%d/p_test.go", i)] = fmt.Sprintf("package p\n\nimport \"testing\"\n\n%s\n\n//fern:skip n%d\nfunc TestX(t *testing.T) {}\n", long, i)
	}
	keep := func() (string, error) { return "", nil }
	a, before := module(t, Config{Keep: keep}, files)
	testfiles.Write(t, a.Dir, map[string]string{"p3/p_test.go": "package p\n\nimport \"testing\"\n\nfunc TestY(t *testing.T) {}\n"})
	if err := os.RemoveAll(filepath.Join(a.Dir, "p4")); err != nil {
		t.Fatal(err)
	}
	found, err := a.Discover(context.Background())
	if err != nil || a.cache.read != len("package p\n\nimport \"testing\"\n\nfunc TestY(t *testing.T) {}\n") {
		t.Fatalf("%d bytes were read anew, %v", a.cache.read, err)
	}
	words := func(t catalog.Test) string {
		rules := t.Rules()
		t.Ruled = nil // a pointer
		return fmt.Sprint(t, rules)
	}
	for _, test := range found.Tests {
		if test.Group == "p3" && test.Name != "TestY" || test.Group == "p4" || test.Group == "p5" && words(test) != words(before["p5#TestX"]) {
			t.Errorf("found %+v", test)
		}
	}
	if err := os.WriteFile(a.cache.path, []byte("no gob"), 0o644); err != nil {
		t.Fatal(err)
	}
	if again, err := a.Discover(context.Background()); err != nil || len(again.Tests) != len(found.Tests) {
		t.Errorf("with a broken cache %d tests are found, %v", len(again.Tests), err)
	}
}

// TestTouched follows changes through imports, of packages and of their tests.
func TestTouched(t *testing.T) {
	test := func(pkg, imports string) string {
		return "package " + pkg + "\n\nimport (\n\t\"testing\"\n" + imports + ")\n\nfunc TestX(t *testing.T) {}\n"
	}
	a, found := module(t, Config{}, map[string]string{
		"low/low.go": "package low\n", "low/low_test.go": test("low", ""),
		"mid/mid.go": "package mid\n\nimport _ \"example.org/made/low\"\n", "mid/mid_test.go": test("mid", ""),
		"top/top_test.go":     test("top", "\t_ \"example.org/made/mid\"\n"),
		"apart/apart_test.go": test("apart", ""),
	})
	for _, c := range []struct{ file, want string }{
		{"low/low.go", "low mid top"},
		{"mid/new.go", "mid top"},
		{"low/low_test.go", "low"},
		{"apart/testdata/deep/x.txt", "apart"},
		{"go.mod", "apart low mid top"},
		{"README.md", ""},
	} {
		touched, err := a.Touched([]string{filepath.Join(a.Dir, c.file)})
		if err != nil {
			t.Fatal(err)
		}
		var groups []string
		for _, test := range found {
			if why := touched(&test); why != "" {
				if ways := map[string]string{"top": "low/low.go changed, which top imports through mid", "mid": "low/low.go changed, which mid imports", "low": "low/low.go changed"}; c.file == "low/low.go" && why != ways[test.Group] {
					t.Errorf("%s is touched as %s", test.Group, why)
				}
				groups = append(groups, test.Group)
			}
		}
		slices.Sort(groups)
		if strings.Join(groups, " ") != c.want {
			t.Errorf("%s touches %v, want %s", c.file, groups, c.want)
		}
	}
}
