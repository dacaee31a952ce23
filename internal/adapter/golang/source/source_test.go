package source

import (
	"fernrelay/core/catalog"
	"fmt"
	"go/build/constraint"
	"slices"
	"strings"
	"testing"
)

// FuzzDirective holds that nothing panics, and that a rule that is read is read
// again from how it is written.
func FuzzDirective(f *testing.F) {
	for _, seed := range []string{"tags a b", "skip", "only-if os:linux", "needs \t x", "holds", "expect-fail  wet ", "\x00", ""} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var d directives
		if d.take(directivePrefix+text, "here") != nil {
			return
		}
		var again directives
		for _, tag := range d.Tags {
			if err := again.take(directivePrefix+"tags "+tag, "here"); err != nil {
				t.Fatalf("the tag %q of %q: %v", tag, text, err)
			}
		}
		for _, rule := range catalog.RuleNames {
			if value := d.Rules().Value(rule); value != "" {
				if err := again.take(directivePrefix+rule+" "+value, "here"); err != nil {
					t.Fatalf("%s %q of %q: %v", rule, value, text, err)
				}
			}
		}
		if fmt.Sprint(again.Rules()) != fmt.Sprint(d.Rules()) || !slices.Equal(again.Tags, d.Tags) {
			t.Fatalf("%q reads as %+v and again as %+v", text, d.Rules(), again.Rules())
		}
	})
}

// TestConstraints reads the constraints of names and lines, and the tags that they add to tests.
func TestConstraints(t *testing.T) {
	for _, c := range []struct{ name, line, labels string }{
		{"a_test.go", "", ""},
		{"a_test.go", "it && !never", "it !never"},
		{"a_test.go", "(it || slow) && go1.20", "it slow"},
		{"a_windows_arm64_test.go", "", "windows arm64"},
		{"windows_test.go", "", ""},
		{"a_linux_test.go", "it", "linux it"},
	} {
		src := "package x\n"
		if c.line != "" {
			src = "//go:build " + c.line + "\n\n" + src
		}
		if got := strings.Join(Read("go", ".", c.name, []byte(src)).Labels, " "); got != c.labels {
			t.Errorf("%s with %q has the labels %q, want %q", c.name, c.line, got, c.labels)
		}
	}
	for src, want := range map[string]string{
		"// +build it slow\n// +build !never\n\npackage x\n":      "(it || slow) && !never",
		"// +build it\npackage x\n":                               "",
		"// +build it\n\n//go:build slow\n\npackage x\n":          "slow",
		"// Copyright\n\n// +build it,!slow\n\n// x\npackage x\n": "it && !slow",
		"package x\n\n// +build it\n\n":                           "",
	} {
		got := ""
		if expr := lineConstraint([]byte(src)); expr != nil {
			got = expr.String()
		}
		if got != want {
			t.Errorf("%q has the constraint %q, want %q", src, got, want)
		}
	}
	if expr, _ := constraint.Parse("//go:build a && (b || !a)"); strings.Join(wordsOf(expr), " ") != "a b" {
		t.Errorf("the words are %v", wordsOf(expr))
	}
}
