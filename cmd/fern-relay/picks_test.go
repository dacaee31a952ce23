package main

import (
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"fernrelay/core/run"
	"fernrelay/internal/process"
	"fernrelay/internal/testfiles"
)

// TestPicksOnTheCommandLine picks in ways that once selected something else, or nothing without a word.
func TestPicksOnTheCommandLine(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "[tags]\nsluggish = \"took>5s\"\n", "deep/er/ValveOpens deep/x other/Shut", "other/*) exit 1;;")
	if got := fern(t, dir, "run"); got.status != 1 {
		t.Fatal(got.stderr)
	}
	for _, c := range []struct {
		args   []string
		stdout string
		status int
		stderr string
	}{
		{[]string{"list", "-p", "in:deep"}, "c:deep/er#deep/er/ValveOpens c:deep#deep/x", 0, ""},
		{[]string{"list", "-p", "in:deep/."}, "c:deep#deep/x", 0, ""},
		{[]string{"list", "-p", "name:valve"}, "c:deep/er#deep/er/ValveOpens", 0, ""},
		{[]string{"list", "-p", "name:VALVE"}, "", 0, `the pick "name:VALVE" selects no test`},
		{[]string{"list", "-p", "in:other or name:x", "-p", "in:deep"}, "c:deep#deep/x", 0, ""},
		{[]string{"list", "-p", "in:deep", "-p", "was:failed"}, "", 0, "was:failed       0  2 out"},
		{[]string{"list", "-p", "in:[x"}, "", 2, "the wildcards are"},
		{[]string{"list", "-p", "sluggish"}, "", 0, "sluggish       0  3 out"},
		{[]string{"list", "-p", "slugish"}, "", 2, "no test carries the tag"},
		{[]string{"replay", "last-1"}, "", 2, "cannot replay: "},
		{[]string{"replay", "lost"}, "", 2, `"lost" is no run`},
	} {
		got := fern(t, dir, c.args...)
		for id := range strings.FieldsSeq(c.stdout) {
			if !strings.Contains(got.stdout, id) {
				t.Errorf("%s: %q is not in %s", c.args, id, got.stdout)
			}
		}
		if got.status != c.status || !strings.Contains(got.stderr, c.stderr) || c.args[0] == "list" && strings.Count(got.stdout, "#") != strings.Count(c.stdout, "#") {
			t.Errorf("%s ends with %d: %s%s", c.args, got.status, got.stdout, got.stderr)
		}
	}
	if got := fern(t, dir, "run", "-p", "in:deep"); got.status != 0 {
		t.Fatal(got.stderr)
	}
	if got := fern(t, dir, "replay", "last-1"); got.status != 1 || !strings.Contains(got.stdout, "3 picked: 2 passed, 1 failed") {
		t.Errorf("the run before the latest, again: %d %s%s", got.status, got.stdout, got.stderr)
	}
}

// TestEstimatesAreMarked holds that sums of expected times say which part of them nobody has measured.
func TestEstimatesAreMarked(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "", "known new", "known) sleep 0.215;;")
	if got := fern(t, dir, "run", "-p", "name:known"); got.status != 0 {
		t.Fatal(got.stderr)
	}
	for _, args := range [][]string{{"list", "--count", "group"}, {"split", "--shards", "1"}} {
		got := fern(t, dir, args...)
		found := regexp.MustCompile(`([\d:.]+)(?: s)?, of which ([\d:.]+)(?: s)? estimated`).FindStringSubmatch(got.stdout)
		if found == nil {
			t.Fatalf("%s: %s%s", args, got.stdout, got.stderr)
		}
		if total, estimated := clockSeconds(t, found[1]), clockSeconds(t, found[2]); estimated < 0.2 || math.Abs(total-2*estimated) > 0.11 { // as the one that was measured
			t.Errorf("%s: %g s of %g s are estimated", args, estimated, total)
		}
	}
	if got := fern(t, dir, "list", "--count", "group", "-p", "name:known"); strings.Contains(got.stdout, "estimated") {
		t.Errorf("what is measured: %s", got.stdout)
	}
}

// clockSeconds reads a time such as 0.54 or 1:02.3.
func clockSeconds(t *testing.T, text string) (seconds float64) {
	t.Helper()
	for part := range strings.SplitSeq(text, ":") {
		n, err := strconv.ParseFloat(part, 64)
		if err != nil {
			t.Fatal(err)
		}
		seconds = 60*seconds + n
	}
	return seconds
}

// TestFailuresStay holds that a test stays one that failed until it runs again: also if a later run ended
// before it, or skipped it because it ran without what it needs.
func TestFailuresStay(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "[[rule]]\npick = \"name:needs\"\nneeds = [\"base\"]\n", "base one two needs", "one|two|needs) exit 1;;")
	run := func(status int, words string, args ...string) {
		t.Helper()
		if got := fern(t, dir, append([]string{"run", "--workers", "1"}, args...)...); got.status != status || !strings.Contains(got.stdout, words) {
			t.Errorf("run %s ends with %d: %s%s", args, got.status, got.stdout, got.stderr)
		}
	}
	bad := func(want int) {
		t.Helper()
		if got := fern(t, dir, "list", "-p", "was:bad"); strings.Count(got.stdout, "\n") != want {
			t.Errorf("%d are bad, not:\n%s", want, got.stdout)
		}
	}
	run(1, "1 passed, 3 failed")
	run(1, "1 failed, ", "-p", "was:bad", "--stop-after", "1")
	bad(3)
	run(3, "nothing of the pick ran", "-p", "name:needs")
	bad(3)
	run(1, "4 picked: 1 passed, 3 failed", "-p", "was:bad")
	bad(3)
}

// TestOnlyWhatRanIsOwed holds that an expected failure excuses no test that could not run.
func TestOnlyWhatRanIsOwed(t *testing.T) {
	t.Parallel()
	dir := scripts(t, `
[[suite]]
name = "gone"
kind = "command"
list = "echo absent"
run = "./nowhere {name}"

[[suite]]
name = "unit"
kind = "go"
dir = "unit"

[[rule]]
pick = "name:/./"
expect-fail = "known"
`, "fails dies", "fails) exit 1;;\ndies) kill -9 $$;;")
	testfiles.Write(t, dir, map[string]string{
		"unit/go.mod":               "module unit\n\ngo 1.24\n",
		"unit/broken/b_test.go":     "package broken\n\nimport \"testing\"\n\nfunc TestBroken(t *testing.T) { undefined() }\n",
		"unit/panics/panic_test.go": "package panics\n\nimport \"testing\"\n\nfunc TestPanics(t *testing.T) { panic(\"known\") }\n",
	})
	got := fern(t, dir, "run", "--events", "e.jsonl")
	outcomes := outcomes(readEvents(t, filepath.Join(dir, "e.jsonl")))
	for id, want := range map[string]string{"c:.#fails": "owed", "c:.#dies": "errored", "gone:.#absent": "errored", "unit:broken#TestBroken": "lost", "unit:broken#build": "errored", "unit:panics#TestPanics": "errored"} {
		if string(outcomes[id]) != want {
			t.Errorf("%s is %s, want %s", id, outcomes[id], want)
		}
	}
	if got.status != 1 || !strings.Contains(got.stdout, "△ c:.#fails  owed: exit status 1") {
		t.Errorf("status %d: %s%s", got.status, got.stdout, got.stderr)
	}
	testfiles.Write(t, dir, map[string]string{"fern.toml": "[workers]\nprepare = \"false\"\n\n" + read(t, dir, "fern.toml")})
	if got := fern(t, dir, "run", "-p", "name:fails"); got.status != 1 || !strings.Contains(got.stdout, "1 errored") {
		t.Errorf("with a worker that cannot be prepared: %d %s%s", got.status, got.stdout, got.stderr)
	}
}

// TestBrokenSuite holds that a suite that cannot be read keeps no other from its work, and that an answer that lacks
// its tests says so by its status.
func TestBrokenSuite(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "[[suite]]\nname = \"devices\"\nkind = \"host\"\nrun = \"./nowhere\"\n", "good bad", "bad) exit 1;;")
	for _, c := range []struct {
		args   string
		status int
		stdout string
	}{
		{"list -p suite:c", 0, "c:.#good"},
		{"list", 2, "c:.#good"},
		{"list -p name:good", 2, "c:.#good"},
		{"run -p 'name:good not suite:devices'", 0, "1 passed"},
		{"run -p 'suite:c'", 1, "1 passed, 1 failed"},
		{"run", 2, "1 passed, 1 failed"},
		{"split --shards 2", 2, ""},
		{"split --shards 2 -p suite:c", 0, "finish"},
		{"run --shard 1/2", 2, ""},
		{"why good", 0, "c:.#good"},
	} {
		words, err := process.Words(c.args)
		if err != nil {
			t.Fatal(err)
		}
		if got := fern(t, dir, words...); got.status != c.status || !strings.Contains(got.stdout, c.stdout) || !strings.Contains(got.stderr, "suite devices cannot be read, and its tests are missing: ") {
			t.Errorf("%s ends with %d: %s%s", c.args, got.status, got.stdout, got.stderr)
		}
	}
}

func read(t *testing.T, dir, name string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// TestVet holds that a package in which the toolchain's checks find a mistake fails, as with the toolchain, unless
// the suite allows it.
func TestVet(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"go.mod":      "module vetted\n\ngo 1.24\n",
		"a/a_test.go": "package a\n\nimport (\n\t\"fmt\"\n\t\"testing\"\n)\n\nfunc TestA(t *testing.T) { fmt.Printf(\"%d\\n\", \"x\") }\n\nfunc TestToo(t *testing.T) {}\n",
		"b/b_test.go": "package b\n\nimport \"testing\"\n\nfunc TestB(t *testing.T) {}\n",
	})
	got := fern(t, dir, "run")
	if want := "◆ go:a#build  errored  a/a_test.go:8\n    go:a: go vet finds a mistake (vet = false in fern.toml allows it): fmt.Printf format %d has arg \"x\" of wrong type string\n"; got.status != 1 || !strings.Contains(got.stdout, want) || !strings.Contains(got.stdout, "1 passed, 2 lost, 1 error beyond the tests") {
		t.Errorf("status %d: %s%s", got.status, got.stdout, got.stderr)
	}
	testfiles.Write(t, dir, map[string]string{"fern.toml": "[[suite]]\nname = \"go\"\nkind = \"go\"\nvet = false\n"})
	if got := fern(t, dir, "run"); got.status != 0 {
		t.Errorf("without the checks: status %d: %s%s", got.status, got.stdout, got.stderr)
	}
}

// TestGoMessages holds that the message of a Go test is that of its step that failed, not what others logged, and that
// the process counts and prints what its TestMain does.
func TestGoMessages(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"go.mod": "module messages\n\ngo 1.24\n", "m_test.go": `package messages

import (
	"fmt"
	"os"
	"testing"
)

func TestMain(m *testing.M) {
	code := m.Run()
	fmt.Println("the end of TestMain")
	if os.Getenv("BREAKS") != "" {
		code = 7
	}
	os.Exit(code)
}

func TestSteps(t *testing.T) {
	t.Run("well", func(t *testing.T) { t.Log("got 1, want 1") })
	t.Run("case_3", func(t *testing.T) { t.Error("got 5, want 7") })
	t.Run("later", func(t *testing.T) { t.Log("got 3, want 4") })
}
`})
	got := fern(t, dir, "run", "--events", "e.jsonl")
	for _, words := range []string{"▲ go:.#TestSteps  failed", "m_test.go:20\n    got 5, want 7\n    ▲ step case_3\n    expected 7\n    actual   5\n"} {
		if !strings.Contains(got.stdout, words) {
			t.Errorf("%q is not in\n%s%s", words, got.stdout, got.stderr)
		}
	}
	if events := read(t, dir, "e.jsonl"); !strings.Contains(events, "the end of TestMain") {
		t.Errorf("what TestMain printed is lost:\n%s", events)
	}
	cmd := command(dir, "run")
	cmd.Env = append(os.Environ(), "BREAKS=1")
	if got := finish(t, cmd); !strings.Contains(got.stdout, "exit status 7: the end of TestMain") || strings.Contains(got.stderr, "2 of 1") {
		t.Errorf("with a TestMain that breaks: %s%s", got.stdout, got.stderr)
	}
	if got := fern(t, dir, "ledger", "show", "1"); !strings.Contains(got.stdout, "expected 7\n    actual   5\n") {
		t.Errorf("the ledger shows\n%s%s", got.stdout, got.stderr)
	}
}

// TestModules opens Go modules without fern.toml: from a folder inside, in a workspace, and from above.
func TestModules(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	test := func(name string) string {
		return "package x\n\nimport \"testing\"\n\nfunc Test" + name + "(t *testing.T) {}\n"
	}
	testfiles.Write(t, dir, map[string]string{
		"one/go.mod": "module one\n\ngo 1.24\n", "one/a_test.go": test("Root"), "one/deep/er/b_test.go": test("Deep"),
		"two/api/go.mod": "module two\n\ngo 1.24\n", "two/api/c_test.go": test("Two"),
		"three/api/go.mod": "module three\n\ngo 1.24\n", "three/api/d_test.go": test("Three"),
		"none/readme": "",
	})
	list := func(at string, args ...string) string {
		t.Helper()
		got := fern(t, filepath.Join(dir, at), append([]string{"list"}, args...)...)
		if got.status != 0 {
			t.Errorf("in %s: status %d: %s", at, got.status, got.stderr)
		}
		return strings.Join(strings.Fields(regexp.MustCompile(`  .*`).ReplaceAllString(got.stdout, "")), " ") + strings.Replace(got.stderr, dir, "", 1)
	}
	const apart = "one:.#TestRoot one:deep/er#TestDeep three-api:.#TestThree two-api:.#TestTwo"
	for _, c := range []struct{ at, args, want string }{
		{"one", "", "go:.#TestRoot go:deep/er#TestDeep"},
		{"one/deep", "", "go:.#TestRoot go:deep/er#TestDeepfern-relay: note: the project is /one; -p in:deep picks only this folder\n"},
		{"one/deep", "-p in:deep", "go:deep/er#TestDeep"},
		{".", "", apart},
	} {
		if got := list(c.at, strings.Fields(c.args)...); got != c.want {
			t.Errorf("in %s %s: %s, want %s", c.at, c.args, got, c.want)
		}
	}
	if got := fern(t, dir, "run"); got.status != 0 || !strings.Contains(got.stdout, "4 picked: 4 passed") {
		t.Errorf("modules side by side: %d %s%s", got.status, got.stdout, got.stderr)
	}
	if err := os.RemoveAll(filepath.Join(dir, ".fern")); err != nil { // which knows the suites by other names
		t.Fatal(err)
	}
	testfiles.Write(t, dir, map[string]string{"go.work": "go 1.24\n\nuse (\n\t./one\n\t./two/api\n)\n"})
	for at, want := range map[string]string{".": "one:.#TestRoot one:deep/er#TestDeep api:.#TestTwo", "three/api": "go:.#TestThree",
		"two/api": "one:.#TestRoot one:deep/er#TestDeep api:.#TestTwofern-relay: note: the project is ; -p in:two/api picks only this folder\n"} {
		if got := list(at); got != want {
			t.Errorf("in %s of the workspace: %s, want %s", at, got, want)
		}
	}
	if got := list("two/api", "-p", "in:two/api"); got != "api:.#TestTwo" {
		t.Errorf("the folder of a module picks %s", got)
	}
	if got := fern(t, dir, "run"); got.status != 0 || !strings.Contains(got.stdout, "3 picked: 3 passed") {
		t.Errorf("the workspace: %d %s%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, t.TempDir(), "list"); got.status != 2 || !strings.Contains(got.stderr, "is not part of a Go module, and has no module below") {
		t.Errorf("an empty folder: %d %s", got.status, got.stderr)
	}
	s := open(t, 100, 30, filepath.Join(dir, "one", "deep"), []string{"GOWORK=off"})
	s.shows("pick  in:deep", "Survey 1 of 2")
	s.press("q")
	s.ended()
}

// TestRunSteps runs single steps of Go tests, and of a host's test, which no history counts.
func TestRunSteps(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"go.mod": "module example.org/made\n\ngo 1.26\n",
		"drip/drip_test.go": `package drip

import "testing"

func TestX(t *testing.T) {
	for _, name := range []string{"case 1", "case_2", "deep/er", "a|b"} {
		t.Run(name, func(t *testing.T) { if name == "case_2" { t.Error("it is dry") } })
	}
}

func TestY(t *testing.T) { t.Run("case_2", func(t *testing.T) {}) }
`})
	ran := func(got result, status int, steps ...string) {
		t.Helper()
		var names []string
		for _, e := range readEvents(t, filepath.Join(dir, "e.jsonl")) {
			if e.Event == run.StepDone {
				names = append(names, strings.TrimPrefix(e.ID, "go:drip#")+"/"+e.Step)
			}
		}
		if slices.Sort(names); got.status != status || !slices.Equal(names, steps) {
			t.Errorf("status %d, steps %q, want %q: %s%s", got.status, names, steps, got.stdout, got.stderr)
		}
	}
	events := []string{"--events", "e.jsonl"}
	step := func(args ...string) result {
		return fern(t, dir, append(append([]string{"run"}, args...), events...)...)
	}
	got := step("drip#TestX/case_2")
	if ran(got, 1, "TestX/case_2"); !strings.Contains(got.stdout, "▲ step case_2") {
		t.Errorf("the step that failed is not named: %s", got.stdout)
	}
	ran(step("TestX/a|b", "TestX/deep/er"), 0, "TestX/a|b", "TestX/deep/er")
	if got := step("TestX/case_9"); got.status != 1 || !strings.Contains(got.stdout, "it has no step case_9") {
		t.Errorf("a step that is not there: %d %s", got.status, got.stdout)
	}
	ran(step(), 1, "TestX/a|b", "TestX/case_1", "TestX/case_2", "TestX/deep/er", "TestY/case_2")
	ran(step("-p", "step:case_2"), 1, "TestX/case_2", "TestY/case_2")
	ran(step("-p", "name:TestX/case_1"), 0, "TestX/case_1")
	if why := fern(t, dir, "why", "TestX/case_1", "-p", "step:case_2").stdout; !strings.Contains(why, "its step case_1 is out: the pick asks only for case_2") {
		t.Errorf("why: %s", why)
	}
	if card := ask[testReport](t, dir, "test", "TestX"); len(card.Past) != 1 {
		t.Errorf("runs of single steps count as runs of the test: %+v", card)
	}
	if got := fern(t, dir, "report", "4", "-o", "run.md"); got.status != 0 {
		t.Errorf("the report: %s", got.stderr)
	}
	if text, _ := os.ReadFile(filepath.Join(dir, "run.md")); !strings.Contains(string(text), "| file | `drip/drip_test.go` | 1 passed, 1 failed | 50 % |") {
		t.Errorf("the report has no files: %s", text)
	}
	if runs := fern(t, dir, "ledger", "runs").stdout; strings.Count(runs, "a trial") != 5 {
		t.Errorf("the runs are %s", runs)
	}
}

// TestConstrained holds which picks select tests behind a build constraint that is not met, and where the others are counted.
func TestConstrained(t *testing.T) {
	t.Parallel()
	test := func(constraint, name string) string {
		return constraint + "package pumps\n\nimport \"testing\"\n\nfunc " + name + "(t *testing.T) {}\n"
	}
	files := map[string]string{
		"go.mod":                        "module example.org/pumps\n\ngo 1.24\n",
		"pumps_test.go":                 test("", "TestPump"),
		"twice_test.go":                 test("//go:build !deep\n\n", "TestTwice"),
		"deep_test.go":                  test("//go:build deep && !race\n\n", "TestTwice"),
		"either_test.go":                test("//go:build rig || deep\n\n", "TestEither"),
		"pumps_" + foreign + "_test.go": test("//go:build "+foreign+" && !deep\n\n", "TestForeign"),
		"deep/deep_test.go":             strings.Replace(test("//go:build deep\n\n", "TestOnly"), "func", "// Only here.\n//\n//fern:tags slow\nfunc", 1),
		"units/units_test.go":           test("//go:build !"+foreign+"\n\n", "TestUnits"),
		"units/foreign_test.go":         test("//go:build "+foreign+"\n\n", "TestForeignToo"),
		"broken/broken_test.go":         test("//go:build nowhere\n\n", "TestFails(t *testing.T) { t.Fail() }\n\nfunc TestOther"),
	}
	dir := t.TempDir()
	testfiles.Write(t, dir, files)
	plain := "TestPump TestTwice TestUnits"
	for _, c := range []struct{ pick, names, behind string }{
		{"", plain, "2 more behind nowhere, 1 behind deep && !race, 1 behind rig || deep, 3 behind other build constraints"},
		{"deep", "TestTwice~deep+!race TestEither TestOnly", ""},
		{"de*p", "TestTwice~deep+!race TestEither TestOnly", ""},
		{"not deep", "TestPump TestTwice TestUnits", "2 more behind nowhere, 1 behind " + foreign + " && !deep, 1 behind " + foreign},
		{"not (not deep)", "", "1 more behind deep && !race, 1 behind rig || deep, 1 behind deep"},
		{"deep or name:pump", "TestPump TestTwice~deep+!race TestEither TestOnly", ""},
		{"saved:whole", "TestTwice~deep+!race TestEither TestOnly", ""},
		{"slow", "", "1 more behind deep"},
		{"kind:test rig", "TestEither", ""},
		{"id:go:deep#TestOnly", "TestOnly", ""},
		{"at:deep_test.go:7 in:.", "TestTwice~deep+!race", ""},
		{"name:only", "", "1 more behind deep"},
		{"in:units", "TestUnits", "1 more behind " + foreign},
		{"\"!" + foreign + "\"", "TestUnits", ""},
		{foreign, "", "1 more behind " + foreign + " && !deep, 1 behind " + foreign},
		{"id:go:units#TestForeignToo", "", "1 more behind " + foreign},
	} {
		writeFile(t, filepath.Join(dir, "fern.toml"), "[picks]\nwhole = \"deep\"\n")
		got := fern(t, dir, "list", "-p", c.pick)
		var names []string
		for line := range strings.Lines(got.stdout) {
			_, name, _ := strings.Cut(strings.Trim(strings.Fields(line)[0], "'"), "#")
			names = append(names, name)
		}
		want := strings.Fields(c.names)
		slices.Sort(want)
		slices.Sort(names)
		if !slices.Equal(names, want) || !strings.Contains(got.stderr, c.behind) || c.behind == "" && strings.Contains(got.stderr, "behind") {
			t.Errorf("list -p %s: %q, want %q\n%s", c.pick, names, want, got.stderr)
		}
	}
	if got := fern(t, dir, "run"); got.status != 0 || !strings.Contains(got.stdout, "3 picked: 3 passed;") || !strings.Contains(got.stdout, "\n2 more behind nowhere") {
		t.Errorf("run exits %d: %s%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, dir, "run", "-p", "deep", "--events", "events.jsonl"); got.status != 0 || !strings.Contains(got.stdout, "3 picked: 3 passed;") {
		t.Errorf("run -p deep exits %d: %s%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, dir, "why", "deep#TestOnly"); !strings.Contains(got.stdout, "out: it is behind the build constraint deep: name deep in the pick, or set constrained = true in [project]") {
		t.Errorf("why says %s%s", got.stdout, got.stderr)
	}
	if got := fern(t, dir, "why", "deep#TestOnly", "-p", "deep"); !strings.Contains(got.stdout, `in by "deep"`) {
		t.Errorf("why says %s%s", got.stdout, got.stderr)
	}
	writeFile(t, filepath.Join(dir, "fern.toml"), "[project]\nconstrained = true\n")
	if got := fern(t, dir, "list"); strings.Count(got.stdout, "\n") != 10 || strings.Contains(got.stderr, "behind") {
		t.Errorf("with constrained = true: %s%s", got.stdout, got.stderr)
	}
	if got := fern(t, dir, "run"); got.status != 1 || !strings.Contains(got.stdout, "10 picked: 7 passed, 1 failed, 2 skipped;") {
		t.Errorf("run exits %d: %s%s", got.status, got.stdout, got.stderr)
	}
	writeFile(t, filepath.Join(dir, "fern.toml"), "[[suite]]\nname = \"go\"\nkind = \"go\"\nbuild-flags = [\"-tags=deep\"]\n")
	if got := fern(t, dir, "list"); strings.Count(got.stdout, "\n") != 5 || !strings.Contains(got.stderr, "1 behind !deep") {
		t.Errorf("with the tag in the build's flags: %s%s", got.stdout, got.stderr)
	}
}

// TestConstrainedCrossing holds that the build flags of a crossing meet constraints there.
func TestConstrainedCrossing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	test := "package p\n\nimport \"testing\"\n\nfunc "
	testfiles.Write(t, dir, map[string]string{"go.mod": "module p\n\ngo 1.24\n", "a_test.go": test + "TestPump(t *testing.T) {}\n",
		"deep_test.go": "//go:build deep\n\n" + test + "TestDeep(t *testing.T) {}\n\nfunc TestDeeper(t *testing.T) {}\n", "flat_test.go": "//go:build !deep\n\n" + test + "TestFlat(t *testing.T) {}\n",
		"fern.toml": "[matrix.vary]\nmode = [\"flat\", \"deep\"]\n[[matrix.with]]\nof = { mode = \"deep\" }\nbuild-flags = [\"-tags=deep\"]\n"})
	got := fern(t, dir, "matrix", "run")
	for _, words := range []string{"▪ flat: 2 passed", "▪ deep: 3 passed"} {
		if got.status != 0 || !strings.Contains(got.stderr, words) {
			t.Errorf("status %d; %q is not in %s%s", got.status, words, got.stdout, got.stderr)
		}
	}
}

// foreign is a system that this is not.
const foreign = "plan9"
