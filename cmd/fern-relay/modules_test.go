package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/testfiles"
)

// realModules are modules that this project depends on; the first is large.
var realModules = []string{"github.com/pelletier/go-toml/v2", "github.com/spf13/cobra", "github.com/charmbracelet/x/ansi"}

// copyModule copies a module out of the module cache, where an overlay does not work.
func copyModule(t *testing.T, module string) string {
	t.Helper()
	out, err := exec.Command("go", "mod", "download", "-json", module).Output()
	if err != nil {
		t.Fatalf("%s: %v", module, err)
	}
	var found struct{ Dir string }
	if err := json.Unmarshal(out, &found); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS(found.Dir)); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("chmod", "-R", "u+w", dir).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return dir
}

// baseline builds a module's tests by the toolchain alone, and gives by ID what
// each binary says of each of its tests when it runs by itself.
func baseline(t *testing.T, dir string) map[string]run.Outcome {
	t.Helper()
	bin := t.TempDir()
	list := exec.Command("go", "list", "-f", "{{if or .TestGoFiles .XTestGoFiles}}{{.Dir}}{{end}}", "./...")
	list.Dir = dir
	out, err := list.Output()
	if err != nil {
		t.Fatal(err)
	}
	found := map[string]run.Outcome{}
	for n, pkg := range strings.Fields(string(out)) {
		own := filepath.Join(bin, fmt.Sprint(n)) // the binary keeps its usual name, which some tests go by
		build := exec.Command("go", "test", "-c", "-vet=off", "-o", own+"/", ".")
		build.Dir = pkg
		if out, err := build.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		below, err := filepath.Rel(dir, pkg)
		if err != nil {
			t.Fatal(err)
		}
		binaries, err := filepath.Glob(filepath.Join(own, "*"))
		if err != nil || len(binaries) != 1 {
			t.Fatalf("%s: built %v, %v", pkg, binaries, err)
		}
		for name, o := range runAlone(t, binaries[0], pkg) {
			found[catalog.ID("go", filepath.ToSlash(below), name)] = o
		}
	}
	return found
}

var (
	listedTest = regexp.MustCompile(`(?m)^(?:Test|Fuzz|Example)\w*$`)
	reported   = regexp.MustCompile(`\x16--- (PASS|FAIL|SKIP): (\w+) \(`)
)

// runAlone gives the outcome of every test that a binary lists. Where a test
// panics, the binary is run again for the tests behind it.
func runAlone(t *testing.T, binary, dir string) map[string]run.Outcome {
	t.Helper()
	list := exec.Command(binary, "-test.list", ".")
	list.Dir = dir
	names, err := list.Output()
	if err != nil {
		t.Fatal(err)
	}
	found := map[string]run.Outcome{}
	for _, name := range listedTest.FindAllString(string(names), -1) {
		found[name] = run.Lost
	}
	for skip := []string{"-"}; ; {
		r := exec.Command(binary, "-test.v=test2json", "-test.skip", "^("+strings.Join(skip, "|")+")$")
		r.Dir = dir
		out, _ := r.CombinedOutput() // a failing test is no failure here
		matches := reported.FindAllStringSubmatch(string(out), -1)
		for _, match := range matches {
			found[match[2]] = map[string]run.Outcome{"PASS": run.Passed, "FAIL": run.Failed, "SKIP": run.Skipped}[match[1]]
			skip = append(skip, match[2])
		}
		if r.ProcessState.ExitCode() != 2 || len(matches) == 0 {
			return found
		}
		found[matches[len(matches)-1][2]] = run.Errored
	}
}

// TestRealModules holds that, on real modules, what is listed is what the
// compiled binaries list, that every place is right, and that what comes of a
// run is what the binaries give by themselves.
func TestRealModules(t *testing.T) {
	t.Parallel()
	for i, module := range realModules {
		t.Run(path.Base(module), func(t *testing.T) {
			dir := copyModule(t, module)
			want := baseline(t, dir)
			if i == 0 && len(want) < 900 {
				t.Fatalf("only %d tests: a large module is expected", len(want))
			}
			listed := listJSON(t, dir)
			for _, test := range listed {
				if _, ok := want[test.ID]; !ok {
					t.Errorf("%s is listed, but its binary does not list it", test.ID)
				}
				checkPlace(t, dir, test)
			}
			if len(listed) != len(want) {
				t.Errorf("%d tests are listed, the binaries list %d", len(listed), len(want))
			}
			events := filepath.Join(dir, "events.jsonl")
			got := fern(t, dir, "run", "--workers", "2", "--events", events)
			found := outcomes(readEvents(t, events))
			for id, o := range want {
				if found[id] != o {
					t.Errorf("%s: %q, its binary says %q", id, found[id], o)
				}
			}
			if len(found) != len(want) {
				t.Errorf("%d outcomes of %d tests\n%s", len(found), len(want), got.stderr)
			}
			checkOrder(t, dir, listed)
			checkConstrained(t, dir, listed)
		})
	}
}

// checkConstrained puts a test behind a build constraint into the root package,
// as none of these modules has one, and holds that it is found and is built when
// it is picked.
func checkConstrained(t *testing.T, dir string, listed []catalog.Test) {
	t.Helper()
	at := slices.IndexFunc(listed, func(test catalog.Test) bool { return test.Group == "." })
	data, err := os.ReadFile(filepath.Join(dir, listed[at].File))
	if err != nil {
		t.Fatal(err)
	}
	clause := regexp.MustCompile(`(?m)^package \w+$`).Find(data)
	testfiles.Write(t, dir, map[string]string{"behind_test.go": fmt.Sprintf("//go:build behind && !infront\n\n%s\n\nimport \"testing\"\n\nfunc TestBehind(t *testing.T) {}\n", clause)})
	found := listJSON(t, dir, "-p", "behind")
	if len(found) != 1 || found[0].Name != "TestBehind" || found[0].Line != 7 || !slices.Equal(found[0].Tags, []string{"!infront", "behind"}) {
		t.Errorf("behind a constraint are found %+v", found)
	}
	if got := fern(t, dir, "run", "-p", "behind"); got.status != 0 || !strings.Contains(got.stdout, "1 picked: 1 passed") {
		t.Errorf("status %d: %s%s", got.status, got.stdout, got.stderr)
	}
}

func checkPlace(t *testing.T, dir string, test catalog.Test) {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, test.File))
	if err != nil {
		t.Error(err)
		return
	}
	if line := strings.Split(string(data), "\n")[test.Line-1]; !strings.HasPrefix(line, "func "+test.Name+"(") {
		t.Errorf("%s is reported at %s:%d, where the line is %q", test.ID, test.File, test.Line, line)
	}
}

// checkOrder runs a mixed order of the largest group and holds that just that
// order was run, in one process.
func checkOrder(t *testing.T, dir string, listed []catalog.Test) {
	t.Helper()
	var order []string
	for _, test := range listed {
		if test.Group == "." && test.Kind != catalog.KindFuzz { // the toolchain runs seeds last
			order = append(order, test.ID)
		}
	}
	rand.New(rand.NewPCG(7, 7)).Shuffle(len(order), func(i, j int) { order[i], order[j] = order[j], order[i] })
	testfiles.Write(t, dir, map[string]string{"order.txt": strings.Join(order, "\n")})
	events := filepath.Join(dir, "ordered.jsonl")
	fern(t, dir, "run", "--order-from", "order.txt", "--events", events)
	var started []string
	for _, e := range readEvents(t, events) {
		if e.Event == run.Started {
			started = append(started, e.ID)
			if e.Batch != 1 {
				t.Fatalf("%s ran in batch %d", e.ID, e.Batch)
			}
		}
	}
	if !slices.Equal(started, order) {
		t.Errorf("the %d tests did not start in the order asked for", len(order))
	}
}
