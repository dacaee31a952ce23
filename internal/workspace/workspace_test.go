package workspace

import (
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
	"fernrelay/core/pick"
	"fernrelay/internal/project"
	"fernrelay/internal/testfiles"
)

// rich opens a project whose fern.toml has everything that goes by picks.
func rich(t *testing.T, more string) (*Workspace, error) {
	t.Helper()
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config"))
	test := func(pkg string) string {
		return "package " + pkg + "\n\nimport \"testing\"\n\n//fern:tags source\n//fern:skip by hand\nfunc TestA(t *testing.T) {}\n\nfunc TestB(t *testing.T) {}\n\nfunc TestC(t *testing.T) {}\n"
	}
	testfiles.Write(t, dir, map[string]string{
		"go.mod": "module example.org/made\n", "one/x_test.go": test("one"), "two/x_test.go": test("two"), "shared/notes.txt": "",
		"fern.toml": `[[suite]]
name = "u"
kind = "go"

[tags]
late = "early or saved:mine"
early = "in:one"

[picks]
mine = "name:C"
mixed = "saved:mine early"
` + more})
	p, err := project.Open(dir)
	if err != nil {
		return nil, err
	}
	return Open(t.Context(), p, noPast, nil)
}

// noPast is the past of a project without runs.
func noPast(c *catalog.Catalog) (Past, error) {
	return Past{Rates: func() []float64 { return slices.Repeat([]float64{math.NaN()}, len(c.Tests)) }}, nil
}

func pickedBy(t *testing.T, r *Workspace, text string) string {
	t.Helper()
	tests, err := r.Pick(text)
	if err != nil {
		return err.Error()
	}
	var out []string
	for _, test := range tests {
		out = append(out, strings.TrimPrefix(test.ID, "u:"))
	}
	return strings.Join(out, " ")
}

func TestRules(t *testing.T) {
	r, err := rich(t, `
[[rule]]
pick = "in:one"
clear = ["skip"]
needs = ["TestB"]

[[rule]]
pick = "rule:skip"
holds = ["bench"]

[[rule]]
pick = "in:two name:B"
only-if = "os:plan9 or env:FERN_NOT_SET"

[[rule]]
pick = "in:two name:C"
needs = ["TestNone"]
after = ["one#TestA"]

[resources]
bank = 2
`)
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]string{
		"early": "one#TestA one#TestB one#TestC", "late": "one#TestA one#TestB one#TestC two#TestC", "saved:mixed": "one#TestC",
		"rule:skip": "two#TestA", "rule:holds": "two#TestA", "rule:needs": "one#TestA one#TestB one#TestC two#TestC", "new": "one#TestA one#TestB one#TestC two#TestA two#TestB two#TestC",
	} {
		if got := pickedBy(t, r, text); got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
	for id, why := range map[string]string{"one#TestA": "", "two#TestA": "by hand", "two#TestB": "only if os:plan9 or env:FERN_NOT_SET", "two#TestC": "needs TestNone: no test"} {
		test, err := r.Catalog.Find(id)
		if err != nil || (test.SkipReason == "") != (why == "") || !strings.Contains(test.SkipReason, why) {
			t.Errorf("%s is skipped as %q, want %q", id, test.SkipReason, why)
		}
	}
	a, _ := r.Catalog.Find("one#TestA")
	if !slices.Equal(a.Rules().Needs, []string{"u:one#TestB"}) || a.RuleFrom("needs") != "fern.toml:14" || a.TagFrom("early") != "fern.toml:7" || a.TagFrom("source") != "the function" {
		t.Errorf("%+v", a)
	}
	// TestB of one needs itself, by the rule for all of one.
	if len(r.Notes) != 3 || !strings.Contains(r.Notes[0], "holds bench, which [resources] does not name") ||
		!strings.Contains(r.Notes[1], "needs TestNone") || !strings.Contains(r.Notes[2], "circle: u:one#TestB → u:one#TestB") {
		t.Errorf("noted %q", r.Notes)
	}
	if _, err := order.Settle(Lone(r.Catalog.Tests)); err == nil {
		t.Errorf("a circle can be run")
	}
}

func TestRulesGoWrong(t *testing.T) {
	for more, words := range map[string]string{
		"[[rule]]\npick = \"saved:nobody\"\nskip = \"x\"":    `fern.toml:13: the rule: the pick is wrong at column 1: no pick is saved as "nobody"`,
		"again = \"saved:round\"\nround = \"saved:again\"\n": "in a circle: again → round → again",
	} {
		if _, err := rich(t, more); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v, want %s", more, err, words)
		}
	}
	circle := project.TagRule{Tag: "a", From: "fern.toml:3"}
	circle.Pick, _ = pick.Parse("not a*")
	if err := applyTags([]project.TagRule{circle}, &draft{Catalog: catalog.New(nil)}, nil, nil); err == nil || !strings.Contains(err.Error(), "fern.toml:3: the tags a ask") {
		t.Errorf("a tag that asks for itself: %v", err)
	}
}

// TestOwn sets rules and picks for a session, which another opening knows nothing of.
func TestOwn(t *testing.T) {
	r, err := rich(t, "")
	if err != nil {
		t.Fatal(err)
	}
	rule := project.Rule{Text: "name:B", Set: catalog.Rules{Lone: "now"}, From: "this session"}
	rule.Pick, _ = pick.Parse(rule.Text)
	other, err := r.With(Own{Picks: map[string]string{"mine": "in:two"}, Rules: []project.Rule{rule}}, noPast)
	if err != nil {
		t.Fatal(err)
	}
	if got := pickedBy(t, other, "saved:mine rule:lone"); got != "two#TestB" {
		t.Errorf("the session picks %s", got)
	}
	if got := pickedBy(t, r, "rule:lone"); got != "" {
		t.Errorf("what was there before has changed: %s", got)
	}
	for _, test := range Lone(other.Catalog.Tests) {
		if runs := test.SkipReason == ""; runs != (test.Name == "TestB") {
			t.Errorf("%s is skipped as %q", test.ID, test.SkipReason)
		}
	}
}

// TestReload reads a project again whose files change, break, and are mended.
func TestReload(t *testing.T) {
	r, err := rich(t, "")
	if err != nil {
		t.Fatal(err)
	}
	again := func(file, text string) (*Workspace, error) {
		testfiles.Write(t, r.Project.Dir, map[string]string{file: text})
		return r.Reload(t.Context(), []string{filepath.Join(r.Project.Dir, file)}, noPast)
	}
	changed, err := again("two/x_test.go", "package two\n\nimport \"testing\"\n\nfunc TestNew(t *testing.T) {}\n")
	if err != nil || pickedBy(t, changed, "in:two") != "two#TestNew" || len(changed.Catalog.Tests) != 4 {
		t.Errorf("read again: %v, %v", changed, err)
	}
	text, err := os.ReadFile(filepath.Join(r.Project.Dir, "fern.toml"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := again("fern.toml", "[tags"); err == nil || !strings.Contains(err.Error(), "fern.toml:1") {
		t.Errorf("a broken file: %v", err)
	}
	mended, err := again("fern.toml", strings.Replace(string(text), "in:one", "in:two", 1))
	if err != nil || pickedBy(t, mended, "early") != "two#TestA two#TestB two#TestC" {
		t.Errorf("mended: %v", err)
	}
}

// TestTouchedSince asks a repository what changed.
// TestBare holds which packages without tests, or with tests that cannot be read, a pick includes: those of which it would select
// a test without tags.
func TestBare(t *testing.T) {
	r, err := rich(t, "")
	if err != nil {
		t.Fatal(err)
	}
	testfiles.Write(t, r.Project.Dir, map[string]string{"plain/a.go": "package plain\n", "one/broken_test.go": "", "two/broken_test.go": "<<<<<<< HEAD\n",
		"other/a.go": "//go:build ignore\n\npackage other\n"})
	fresh, err := r.Reload(t.Context(), []string{filepath.Join(r.Project.Dir, "plain", "a.go")}, noPast)
	if err != nil {
		t.Fatal(err)
	}
	for pick, want := range map[string]string{
		"": "one plain two", "in:plain": "plain", "not in:plain": "one two", "name:TestA": "", "early": "one", "late": "one", "not early": "plain two",
		"was:failed": "", "kind:test": "one plain two", "id:\"u:one#TestA\"": "", "saved:mine": "",
	} {
		bare, err := fresh.Bare(pick)
		var got []string
		for _, groups := range bare {
			got = append(got, groups...)
		}
		if slices.Sort(got); err != nil || strings.Join(got, " ") != want {
			t.Errorf("the pick %q includes the packages %v, %v; want %s", pick, got, err, want)
		}
	}
}

func TestTouchedSince(t *testing.T) {
	r, err := rich(t, "[touched]\n\"shared/**\" = \"name:B\"\n")
	if err != nil {
		t.Fatal(err)
	}
	if got := pickedBy(t, r, "new touched:HEAD"); !strings.Contains(got, "column 5: touched: asks git") || !strings.Contains(got, "not inside a git repository") {
		t.Errorf("outside a repository: %s", got)
	}
	git := func(args ...string) {
		cmd := exec.Command("git", append([]string{"-c", "user.name=x", "-c", "user.email=x@example.org"}, args...)...)
		cmd.Dir = r.Project.Dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
	}
	git("init", "-q")
	git("add", ".")
	git("commit", "-qm", "first")
	after := func(file, text string) string {
		testfiles.Write(t, r.Project.Dir, map[string]string{file: text})
		fresh, err := r.With(r.Own, noPast)
		if err != nil {
			t.Fatal(err)
		}
		return pickedBy(t, fresh, "touched:HEAD")
	}
	if got := after("two/new.go", "package two\n"); got != "two#TestA two#TestB two#TestC" {
		t.Errorf("a new file touches %s", got)
	}
	if got := after("shared/notes.txt", "more"); got != "one#TestB two#TestA two#TestB two#TestC" {
		t.Errorf("a file by rule touches %s", got)
	}
	git("add", ".")
	git("commit", "-qm", "second")
	fresh, _ := r.With(r.Own, noPast)
	if got := pickedBy(t, fresh, "touched:HEAD") + "|" + pickedBy(t, fresh, "touched:HEAD~1"); got != "|one#TestB two#TestA two#TestB two#TestC" {
		t.Errorf("after a commit: %s", got)
	}
	if got := pickedBy(t, fresh, "touched:--output=x"); !strings.Contains(got, `git knows no revision "--output=x"`) {
		t.Errorf("a revision that is none: %s", got)
	}
}

// TestRulesAreClearedAndSet clears a rule of the source and sets another reason, in one rule and in two, as Survey writes them.
func TestRulesAreClearedAndSet(t *testing.T) {
	for text, want := range map[string]string{
		"clear = [\"skip\"]\n":                                                      "",
		"clear = [\"skip\"]\nskip = \"frozen\"\n":                                   "frozen",
		"skip = \"frozen\"\n\n[[rule]]\npick = \"in:one\"\nclear = [\"skip\"]\n":    "",
		"clear = [\"skip\"]\n\n[[rule]]\npick = \"in:one\"\nskip = \"frozen\"\n":    "frozen",
		"skip = \"wet\"\n\n[[rule]]\npick = \"in:one\"\nskip = \"frozen\"\n":        "frozen",
		"clear = [\"lone\"]\n\n[[rule]]\npick = \"in:two\"\nclear = [\"skip\"]\n\n": "by hand",
	} {
		r, err := rich(t, "\n[[rule]]\npick = \"in:one\"\n"+text)
		if err != nil {
			t.Fatal(err)
		}
		if a, err := r.Catalog.Find("one#TestA"); err != nil || a.SkipReason != want {
			t.Errorf("%s skips it as %q, %v: want %q", text, a.SkipReason, err, want)
		}
	}
}
