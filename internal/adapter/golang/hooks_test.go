package golang

import (
	"io/fs"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/testfiles"
)

// called is a package whose tests print their call stacks, and of which the last test panics.
const called = `package called

import (
	"bytes"
	"fmt"
	"runtime"
	"runtime/debug"
	"testing"
)

func stack() string {
	pcs := make([]uintptr, 50)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(2, pcs)])
	out := "STACK"
	for {
		f, more := frames.Next()
		out += fmt.Sprintf(" %s:%d", f.Function, f.Line)
		if !more {
			return out
		}
	}
}

func TestPlain(t *testing.T) { t.Log(stack()); t.Cleanup(func() { t.Log(stack()) }) }

func TestSteps(t *testing.T) { t.Run("step", func(t *testing.T) { t.Parallel(); t.Log(stack()) }) }

func TestParallel(t *testing.T) { t.Parallel(); t.Log(stack()) }

func TestNames(t *testing.T) {
	if all := debug.Stack(); bytes.Contains(all, []byte("fern")) { t.Errorf("%s", all) }
}

func TestSkips(t *testing.T) { t.Skip(stack()) }

func FuzzSeed(f *testing.F) { f.Add("x"); f.Log(stack()); f.Fuzz(func(t *testing.T, s string) { t.Log(stack()) }) }

func Example_last() {
	println(stack())
	// Output:
}

func TestPanics(t *testing.T) { fmt.Println(stack()); panic("oh") }

func TestExits(t *testing.T) { defer runtime.Goexit() }
`

// TestCallStacks compares the call stacks of tests with those that the toolchain's own run has. If the testing package is not
// as expected, the outcomes are the same, and it is reported.
func TestCallStacks(t *testing.T) {
	files := map[string]string{"a_test.go": called, "other/call.go": "package other\n"}
	outcomes := map[string]run.Outcome{"TestPlain": run.Passed, "TestSteps": run.Passed, "TestParallel": run.Passed, "TestNames": run.Passed, "TestSkips": run.Skipped,
		"FuzzSeed": run.Passed, "Example_last": run.Passed, "TestPanics": run.Errored, "TestExits": run.Errored}
	a, found := module(t, Config{}, files)
	var own string
	for _, test := range []string{"Test[^PE]|TestPl|TestPar|Fuzz|Example", "TestPanics"} {
		cmd := exec.Command("go", "test", "-v", "-run", test, ".")
		cmd.Dir = a.Dir
		out, _ := cmd.CombinedOutput() // the last test fails
		own += string(out)
	}
	check := func(a *Adapter, found map[string]catalog.Test) (stacks string) {
		var printed strings.Builder
		for name, want := range outcomes {
			ran := run.New()
			tests := choose(t, found, ".#"+name)
			if err := open(t, a, tests).Run(t.Context(), tests, ran.Apply); err != nil {
				t.Fatal(err)
			}
			r := ran.Result(tests[0].ID)
			if r.Outcome != want && !(name == "TestNames" && a.overlay != nil) {
				t.Errorf("%s %s, want %s: %s\n%s", name, r.Outcome, want, r.Message, r.Output)
			}
			printed.Write(r.Output)
		}
		return printed.String()
	}
	ours := check(a, found)
	line := regexp.MustCompile(`STACK .*`)
	for _, stack := range line.FindAllString(own, -1) {
		stack = regexp.MustCompile(`main\.main:\d+`).ReplaceAllString(stack, "main.main:N") // the list of tests is before it
		if !strings.Contains(regexp.MustCompile(`main\.main:\d+`).ReplaceAllString(ours, "main.main:N"), stack) {
			t.Errorf("the stack %s is missing in\n%s", stack, ours)
		}
	}
	if n := len(line.FindAllString(own, -1)); n != 9 {
		t.Fatalf("the toolchain printed %d stacks:\n%s", n, own)
	}
	if strings.Contains(ours, "fern") {
		t.Errorf("output names a file that the user does not have:\n%s", ours)
	}

	if err := filepath.WalkDir(a.Store, func(path string, entry fs.DirEntry, err error) error {
		if err == nil && filepath.Ext(path) == ".go" {
			t.Errorf("%s looks like a source of the project", path)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}

	sources := filepath.Join(filepath.Dir(a.bin()), "src", "testing")
	source, err := a.read(filepath.Join(sources, "testing.go"))
	if err != nil {
		t.Fatal(err)
	}
	changed := strings.Replace(string(source), "\n\tfn(t)\n", "\n\t(fn)(t)\n", 1)
	testfiles.Write(t, a.Dir, map[string]string{"later.go.txt": changed, "overlay.json": `{"Replace": {"` + sources + `/testing.go": "later.go.txt"}}`})
	later, err := New(Config{Suite: "u", Root: a.Dir, Dir: a.Dir, Store: filepath.Join(a.Dir, ".later"), BuildFlags: []string{"-overlay=overlay.json"}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := later.Discover(t.Context()); err != nil {
		t.Fatal(err)
	}
	check(later, found)
	var reported strings.Builder
	tests := choose(t, found, ".#TestPlain")
	later.Store += "again"
	if err := later.Prepare(t.Context(), []*catalog.Test{&tests[0]}, func(what string) { reported.WriteString(what) }); err != nil || !strings.Contains(reported.String(), "one function more") {
		t.Errorf("%v; reported %s", err, reported.String())
	}
}

// TestVetApart holds that mistakes which vet finds are the same if vet has to look at the sources by itself, as with an older
// toolchain.
func TestVetApart(t *testing.T) {
	test := func(body string) string {
		return "package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) { " + body + " }\n"
	}
	a, found := module(t, Config{}, map[string]string{"well/x_test.go": test(""), "wrong/x_test.go": test(`t.Logf("%d", "x")`), "refused/x_test.go": test("undefined()"),
		"tagged/x_test.go": "//go:build deep\n\n" + test(`t.Logf("%d", "x")`), "beyond/x_test.go": "package p_test\n" + strings.TrimPrefix(test(`t.Logf("%d", "x")`), "package p\n")})
	tests := choose(t, found, "well#TestX", "wrong#TestX", "refused#TestX", "tagged#TestX", "beyond#TestX")
	outcomes := func(a *Adapter) (all []string) {
		ran := run.New()
		if err := open(t, a, tests).Run(t.Context(), tests, ran.Apply); err != nil {
			t.Fatal(err)
		}
		for _, test := range tests {
			r := ran.Result(test.ID)
			all = append(all, test.Group+" "+string(r.Outcome)+" "+r.Message)
		}
		return all
	}
	want := outcomes(a)
	older, err := a.elsewhere(a.Store+"-older", nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	bin := filepath.Join(t.TempDir(), "bin")
	testfiles.Write(t, filepath.Dir(bin), map[string]string{"VERSION": "go1.22.5\ntime 2024-06-27T20:11:12Z\n"})
	older.bin = func() string { return bin }
	if got := outcomes(older); !slices.Equal(got, want) || !strings.Contains(strings.Join(want, "\n"), "go vet finds a mistake") || !strings.HasPrefix(want[0], "well passed") {
		t.Errorf("with vet apart\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}
