package mend

import (
	"go/format"
	"path/filepath"
	"strings"
	"testing"

	"fernrelay/core/hunt"
	"fernrelay/internal/testfiles"
)

// variable is a change of a package-level variable, declared in a line of the package's file.
func variable(name string, line int) hunt.Change {
	return hunt.Change{Kind: hunt.Variable, Name: "p." + name, Before: "a", After: "b", File: "p/p.go", Line: line}
}

// TestCandidates holds where the lines that restore state go, and what they are, for tests written in different ways. The
// first candidate is compared; +LINE stands for a line that is added.
func TestCandidates(t *testing.T) {
	const source = "package p\n\nvar Limit = 40\n\nvar beds = []int{1}\n\nvar index = map[string]int{}\n\nvar pump = &struct{ Rate int }{40}\n\nfunc ration() { Limit = 5 }\n"
	for name, c := range map[string]struct {
		test    string // with the clause of the package
		changes []hunt.Change
		want    []string // the lines that are added, or "" for none
		before  string   // the line that follows the first of them
		err     string
	}{
		"before the statement that changes it": {"package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {\n\tt.Log(1)\n\tLimit = 5\n}\n", []hunt.Change{variable("Limit", 3)},
			[]string{"oldLimit := Limit", "t.Cleanup(func() { Limit = oldLimit })"}, "Limit = 5", ""},
		"before its comment": {"package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {\n\tt.Log(1)\n\n\t// nobody sets it back\n\tLimit = 5\n}\n", []hunt.Change{variable("Limit", 3)},
			[]string{"oldLimit := Limit", "t.Cleanup(func() { Limit = oldLimit })"}, "// nobody sets it back", ""},
		"at the beginning": {"package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {\n\tration()\n}\n", []hunt.Change{variable("Limit", 3)},
			[]string{"oldLimit := Limit", "t.Cleanup(func() { Limit = oldLimit })"}, "ration()", ""},
		"behind Parallel": {"package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {\n\tt.Parallel()\n\tration()\n}\n", []hunt.Change{variable("Limit", 3)},
			[]string{"oldLimit := Limit", "t.Cleanup(func() { Limit = oldLimit })"}, "ration()", ""},
		"a body of one line": {"package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) { Limit = 5 }\n", []hunt.Change{variable("Limit", 3)},
			[]string{"oldLimit := Limit", "t.Cleanup(func() { Limit = oldLimit })", "Limit = 5"}, "", ""},
		"a handle of another name": {"package p\n\nimport \"testing\"\n\nfunc TestX(tb *testing.T) {\n\tLimit = 5\n}\n", []hunt.Change{variable("Limit", 3)},
			[]string{"oldLimit := Limit", "tb.Cleanup(func() { Limit = oldLimit })"}, "Limit = 5", ""},
		"a name that is taken": {"package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {\n\toldLimit := 3\n\tLimit = oldLimit\n}\n", []hunt.Change{variable("Limit", 3)},
			[]string{"oldLimit2 := Limit", "t.Cleanup(func() { Limit = oldLimit2 })"}, "Limit = oldLimit", ""},
		"a slice": {"package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {\n\tbeds[0] = 2\n}\n", []hunt.Change{variable("beds", 5)},
			[]string{"\"slices\"", "oldBeds := slices.Clone(beds)", "t.Cleanup(func() { beds = oldBeds })"}, "", ""},
		"a map": {"package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {\n\tindex[\"a\"] = 2\n}\n", []hunt.Change{variable("index", 7)},
			[]string{"\"maps\"", "oldIndex := maps.Clone(index)", "t.Cleanup(func() { index = oldIndex })"}, "", ""},
		"from outside of the package": {"package p_test\n\nimport (\n\t\"testing\"\n\n\tpumps \"m/p\"\n)\n\nfunc TestX(t *testing.T) {\n\tpumps.Limit = 5\n}\n", []hunt.Change{variable("Limit", 3)},
			[]string{"oldLimit := pumps.Limit", "t.Cleanup(func() { pumps.Limit = oldLimit })"}, "pumps.Limit = 5", ""},
		"hidden from outside": {"package p_test\n\nimport (\n\t\"testing\"\n\n\t\"m/p\"\n)\n\nfunc TestX(t *testing.T) {\n\tt.Log(p.Limit)\n}\n", []hunt.Change{variable("beds", 5)}, nil, "", "not exported"},
		"two pieces": {"package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {\n\tLimit = 5\n\tbeds = nil\n}\n", []hunt.Change{variable("Limit", 3), variable("beds", 5)},
			[]string{"\"slices\"", "oldLimit := Limit", "t.Cleanup(func() { Limit = oldLimit })", "oldBeds := slices.Clone(beds)", "t.Cleanup(func() { beds = oldBeds })"}, "", ""},
		"Setenv": {"package p\n\nimport (\n\t\"os\"\n\t\"testing\"\n)\n\nfunc TestX(t *testing.T) {\n\tos.Setenv(\"A\", \"b\")\n}\n", []hunt.Change{{Kind: hunt.Environment, Name: "A"}},
			[]string{"t.Setenv(\"A\", \"b\")"}, "", ""},
		"Setenv with its error": {"package p\n\nimport (\n\t\"os\"\n\t\"testing\"\n)\n\nfunc TestX(t *testing.T) {\n\tif err := os.Setenv(\"A\", \"b\"); err != nil {\n\t\tt.Fatal(err)\n\t}\n\tt.Log(os.Args)\n}\n", []hunt.Change{{Kind: hunt.Environment, Name: "A"}},
			[]string{"t.Setenv(\"A\", \"b\")"}, "t.Log(os.Args)", ""},
		"Chdir": {"package p\n\nimport (\n\t\"os\"\n\t\"testing\"\n)\n\nfunc TestX(t *testing.T) {\n\tos.Chdir(\"..\")\n}\n", []hunt.Change{{Kind: hunt.Folder, Name: "working folder"}},
			[]string{"t.Chdir(\"..\")"}, "", ""},
		"a file": {"package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {\n\tt.Log(1)\n}\n", []hunt.Change{{Kind: hunt.File, Name: "p/beds.lock", Before: hunt.Absent}},
			[]string{"\"os\"", "t.Cleanup(func() { os.RemoveAll(\"beds.lock\") })"}, "t.Log(1)", ""},
		"a logger": {"package p\n\nimport (\n\t\"log\"\n\t\"testing\"\n)\n\nfunc TestX(t *testing.T) {\n\tlog.SetPrefix(\"x\")\n}\n", nil,
			[]string{"oldOutput, oldPrefix, oldFlags := log.Writer(), log.Prefix(), log.Flags()", "t.Cleanup(func() {", "log.SetOutput(oldOutput)", "log.SetPrefix(oldPrefix)", "log.SetFlags(oldFlags)", "})"}, "log.SetPrefix(\"x\")", ""},
		"a signal": {"package p\n\nimport (\n\t\"os/signal\"\n\t\"syscall\"\n\t\"testing\"\n)\n\nfunc TestX(t *testing.T) {\n\tsignal.Ignore(syscall.SIGHUP)\n}\n", []hunt.Change{{Kind: hunt.Signal, Name: "hangup", Before: hunt.Absent, After: "ignored"}},
			[]string{"\"os\"", "t.Cleanup(func() { // Notify ends Ignore", "c := make(chan os.Signal, 1)", "signal.Notify(c, syscall.SIGHUP)", "signal.Stop(c)", "})"}, "signal.Ignore", ""},
		"nothing known": {"package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {}\n", nil, nil, "", "no state is known"},
		"a goroutine":   {"package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {}\n", []hunt.Change{{Kind: hunt.Goroutine, Name: "g"}}, nil, "", "is not restored by a patch"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			testfiles.Write(t, dir, map[string]string{"go.mod": "module m\n\ngo 1.25\n", "p/p.go": source, "p/p_test.go": c.test})
			loaded, err := Load(t.Context(), dir, Place{filepath.Join(dir, "p", "p_test.go"), "TestX"}, nil)
			if err != nil {
				t.Fatal(err)
			}
			all, err := loaded.Candidates(c.changes)
			if c.err != "" {
				if err == nil || !strings.Contains(err.Error(), c.err) {
					t.Fatalf("the error is %v, not %q", err, c.err)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			got := string(all[0].Content)
			if formatted, err := format.Source(all[0].Content); err != nil || string(formatted) != got {
				t.Errorf("it is not formatted, %v:\n%s", err, got)
			}
			if added := addedLines(c.test, got); strings.Join(added, "\n") != strings.Join(c.want, "\n") && !sameLines(added, c.want) {
				t.Errorf("it adds\n%s\nnot\n%s\nin\n%s", strings.Join(added, "\n"), strings.Join(c.want, "\n"), got)
			}
			if at := strings.Index(got, c.want[len(c.want)-1]); c.before != "" && !strings.HasPrefix(strings.TrimSpace(got[at+len(c.want[len(c.want)-1]):]), c.before) {
				t.Errorf("%s does not follow in\n%s", c.before, got)
			}
			for i, one := range all {
				for _, other := range all[:i] {
					if string(one.Content) == string(other.Content) {
						t.Errorf("two candidates are the same:\n%s", one.Content)
					}
				}
			}
		})
	}
}

// addedLines returns the lines of a text that another does not have, without their indent.
func addedLines(before, after string) (added []string) {
	had := map[string]int{}
	for line := range strings.Lines(before) {
		had[strings.TrimSpace(line)]++
	}
	for line := range strings.Lines(after) {
		if line = strings.TrimSpace(line); had[line] > 0 {
			had[line]--
		} else if line != "" && line != "}" && line != "import (" && line != ")" && !strings.Contains(line, `"testing"`) && !strings.HasPrefix(line, "func TestX") {
			added = append(added, line)
		}
	}
	return added
}

// sameLines reports whether two lists have the same lines in any order.
func sameLines(a, b []string) bool {
	counts := map[string]int{}
	for _, line := range a {
		counts[line]++
	}
	for _, line := range b {
		counts[line]--
	}
	for _, n := range counts {
		if n != 0 {
			return false
		}
	}
	return true
}

// TestSetUps holds what a test sets up itself that passes only after others.
func TestSetUps(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"go.mod": "module m\n\ngo 1.25\n",
		"p/p.go":      "package p\n\nvar rate = 4\n\nvar mode = \"drip\"\n\nvar beds = []int{1}\n",
		"p/p_test.go": "package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {\n\tt.Log(rate, mode)\n}\n"})
	loaded, err := Load(t.Context(), dir, Place{filepath.Join(dir, "p", "p_test.go"), "TestX"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	proved := func(c hunt.Change, after string) []hunt.Change {
		c.After, c.Proved = after, true
		return []hunt.Change{c}
	}
	for name, c := range map[string]struct {
		changes   []hunt.Change
		want, err string
	}{
		"a number":        {proved(variable("rate", 3), "5"), "oldRate := rate\n\tt.Cleanup(func() { rate = oldRate })\n\trate = 5\n\tt.Log", ""},
		"a quoted text":   {proved(variable("mode", 5), `"flood"`), "\tmode = \"flood\"\n", ""},
		"a text":          {proved(variable("mode", 5), "flood"), "\tmode = \"flood\"\n", ""},
		"the environment": {proved(hunt.Change{Kind: hunt.Environment, Name: "A"}, "b"), "\tt.Setenv(\"A\", \"b\")\n\tt.Log", ""},
		"a slice":         {proved(variable("beds", 7), "[1 2]"), "", "by hand"},
		"a text cut off":  {proved(variable("mode", 5), "flo…"), "", "by hand"},
		"a file":          {proved(hunt.Change{Kind: hunt.File, Name: "x"}, "y"), "", "is not set up"},
		"nothing changed": {nil, "", "no piece of state changed"},
	} {
		all, err := loaded.SetUps(c.changes, func() ([]*Test, error) { return []*Test{loaded}, nil })
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v, want %q", name, err, c.err)
			}
			continue
		}
		if err != nil || !strings.Contains(string(all[0].Content), c.want) {
			t.Errorf("%s: %v\n%s", name, err, all)
		}
	}
}

// TestUnformattedSourceStays holds that a file whose author formats it otherwise only gains lines.
func TestUnformattedSourceStays(t *testing.T) {
	dir := t.TempDir()
	test := "package p\nimport \"testing\"\nfunc  TestX( t *testing.T ) {\n\tLimit=5\n}\n"
	testfiles.Write(t, dir, map[string]string{"go.mod": "module m\n\ngo 1.25\n", "p/p.go": "package p\n\nvar Limit = 40\n", "p/p_test.go": test})
	loaded, err := Load(t.Context(), dir, Place{filepath.Join(dir, "p", "p_test.go"), "TestX"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	all, err := loaded.Candidates([]hunt.Change{variable("Limit", 3)})
	want := strings.Replace(test, "\tLimit=5", "\toldLimit := Limit\n\tt.Cleanup(func() { Limit = oldLimit })\n\tLimit=5", 1)
	if err != nil || string(all[0].Content) != want {
		t.Errorf("%v\n%s\nis not\n%s", err, all[0].Content, want)
	}
}

// TestLoadRefuses holds that tests without a handle, and those that are not there, are refused with a reason.
func TestLoadRefuses(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"go.mod": "module m\n\ngo 1.25\n", "p/p.go": "package p\n",
		"p/p_test.go": "package p\n\nimport \"testing\"\n\nfunc ExampleX() {\n\t// Output:\n}\n\nfunc TestBlank(_ *testing.T) {}\n\nfunc FuzzX(f *testing.F) {}\n"})
	for function, words := range map[string]string{"ExampleX": "has no *testing.T", "TestBlank": "has no *testing.T", "TestGone": "is not in p_test.go", "FuzzX": ""} {
		_, err := Load(t.Context(), dir, Place{filepath.Join(dir, "p", "p_test.go"), function}, nil)
		if words == "" && err != nil || words != "" && (err == nil || !strings.Contains(err.Error(), words)) {
			t.Errorf("%s: %v, want %q", function, err, words)
		}
	}
}
