package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter/host"
	"fernrelay/internal/report"
	"fernrelay/internal/testfiles"
)

// hardNames are names that a shell, a table or a screen may stumble over.
var hardNames = []string{"plain", "two  words", `it's "quoted"`, "a/b/c", "gießt 水 ▲", strings.Repeat("long name ", 50), "$HOME `id` $(id) \\n", "tab\there",
	"\x1b[31mred", "-p", "#", "re:a#b", "*", "plain", " edge "}

// beHost is a test host whose tests have hard names in groups with one base name.
func beHost() {
	encoder := json.NewEncoder(os.Stdout)
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		var m host.Message
		_ = json.Unmarshal(lines.Bytes(), &m)
		result := any(struct{}{})
		switch m.Method {
		case host.MethodHello:
			result = host.HelloResult{Protocol: host.Protocol, Name: "hard names"}
		case host.MethodDiscover:
			var described host.DiscoverResult
			for _, group := range []string{".", "drip", "irrigation/drip"} {
				for _, name := range hardNames {
					described.Tests = append(described.Tests, host.Test{TestName: host.TestName{Group: group, Name: name}})
				}
			}
			result = described
		case host.MethodRun:
			var params host.RunParams
			_ = json.Unmarshal(m.Params, &params)
			for _, t := range params.Tests {
				note, _ := json.Marshal(host.Note{TestName: t.TestName, Outcome: run.Passed})
				_ = encoder.Encode(host.Message{Version: "2.0", Method: host.NoteStarted, Params: note})
				_ = encoder.Encode(host.Message{Version: "2.0", Method: host.NoteFinished, Params: note})
			}
		}
		raw, _ := json.Marshal(result)
		_ = encoder.Encode(host.Message{Version: "2.0", ID: m.ID, Result: raw})
	}
}

// TestNamesSurviveTheShell pastes every ID that list prints into a shell, and
// runs each by its own.
func TestNamesSurviveTheShell(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"fern.toml": fmt.Sprintf("[[suite]]\nname = \"hard\"\nkind = \"host\"\nrun = \"'%s' be-a-host\"\n", os.Args[0])})
	listed := fern(t, dir, "list")
	tests := listJSON(t, dir)
	lines := strings.Split(strings.TrimSuffix(listed.stdout, "\n"), "\n")
	if len(tests) != 3*len(hardNames) || len(lines) != len(tests) || !strings.Contains(listed.stderr, "lists 2 tests with this name") {
		t.Fatalf("%d tests on %d lines\n%s", len(tests), len(lines), listed.stderr)
	}
	seen := map[string]bool{}
	for i, line := range lines {
		out, err := exec.Command("bash", "-c", "set -f; eval set -- \"$1\"; printf %s \"$1\"", "sh", line).Output()
		if err != nil || string(out) != tests[i].ID || seen[tests[i].ID] {
			t.Errorf("the line %q gives %q, %v; want %q", line, out, err, tests[i].ID)
		}
		seen[tests[i].ID] = true
	}
	for _, i := range []int{1, 2, 5, 8, len(hardNames) + 6} {
		var why report.Why
		got := fern(t, dir, "why", "--json", "--", tests[i].ID)
		if err := json.Unmarshal([]byte(got.stdout), &why); err != nil || why.ID != tests[i].ID || !why.Held {
			t.Errorf("why %q: %v, %+v\n%s", tests[i].ID, err, why, got.stderr)
		}
	}
	got := fern(t, dir, "run", "--events", "events.jsonl")
	outcomes := outcomes(readEvents(t, filepath.Join(dir, "events.jsonl")))
	if got.status != 0 || len(outcomes) != len(tests) || outcomes["hard:drip#plain~2"] != run.Skipped || outcomes["hard:.#two  words"] != run.Passed {
		t.Errorf("status %d, %d outcomes\n%s", got.status, len(outcomes), got.stdout)
	}
}

func listJSON(t *testing.T, dir string, args ...string) []catalog.Test {
	t.Helper()
	got := fern(t, dir, append([]string{"list", "--json"}, args...)...)
	var tests []catalog.Test
	for line := range strings.Lines(got.stdout) {
		var test catalog.Test
		if err := json.Unmarshal([]byte(line), &test); err != nil {
			t.Fatal(err)
		}
		tests = append(tests, test)
	}
	if got.status != 0 {
		t.Fatalf("list %v: status %d\n%s", args, got.status, got.stderr)
	}
	return tests
}

// rulesModule is a Go module with every rule, in sources and in fern.toml.
func rulesModule(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"go.mod": "module example.org/rules\n\ngo 1.26\n",
		"a/a_test.go": `package a

import "testing"

func TestGood(t *testing.T) {}

func TestBad(t *testing.T) { t.Fatal("no water") }

//fern:needs TestBad
func TestAfterBad(t *testing.T) {}

//fern:expect-fail known
func TestSurprise(t *testing.T) {}

//fern:expect-fail known
func TestOwed(t *testing.T) { t.Fatal("as said") }

//fern:only-if env:FERN_TEST_PUMP=on
func TestPump(t *testing.T) {}

//fern:skip broken
func TestSkipped(t *testing.T) { t.Fatal("it runs") }

//fern:needs b#TestFar
//fern:tags far
func TestNear(t *testing.T) {}
`,
		"b/b_test.go":           "package b\n\nimport \"testing\"\n\nfunc TestFar(t *testing.T) {}\n\nfunc TestLone(t *testing.T) {}\n",
		"b/elsewhere_test.go":   "//go:build !linux\n\npackage b\n\nimport \"testing\"\n\nfunc TestElsewhere(t *testing.T) {}\n",
		"b/here_linux_test.go":  "package b\n\nimport \"testing\"\n\nfunc TestHere(t *testing.T) {}\n",
		"b/with_tag_test.go":    "//go:build it\n\npackage b\n\nimport \"testing\"\n\nfunc TestIt(t *testing.T) {}\n",
		"b/without_tag_test.go": "//go:build !it\n\npackage b\n\nimport \"testing\"\n\nfunc TestNoIt(t *testing.T) {}\n",
		"fern.toml":             "[project]\nconstrained = true\n\n[[suite]]\nname = \"u\"\nkind = \"go\"\n\n[picks]\nplain = \"not lone\"\n\n[tags]\nlone = \"name:Lone\"\n",
	})
	return dir
}

func TestMarksAreObeyed(t *testing.T) {
	dir := rulesModule(t)
	got := fern(t, dir, "run", "-p", "took<1h", "--events", "events.jsonl")
	events := readEvents(t, filepath.Join(dir, "events.jsonl"))
	messages := map[string]string{}
	for _, e := range events {
		messages[e.ID] = e.Message
	}
	outcomes := outcomes(events)
	for id, want := range map[string]string{
		"a#TestGood": "passed", "a#TestBad": "failed no water", "a#TestAfterBad": "skipped needs TestBad, which did not pass", "a#TestSurprise": "surprise",
		"a#TestOwed": "owed as said", "a#TestPump": "skipped it runs only if env:FERN_TEST_PUMP=on", "a#TestSkipped": "skipped broken", "a#TestNear": "passed",
		"b#TestElsewhere": "skipped its build constraint, !linux, is not met", "b#TestHere": "passed", "b#TestIt": "passed", "b#TestNoIt": "passed",
	} {
		if is := string(outcomes["u:"+id]) + " " + messages["u:"+id]; !strings.HasPrefix(is, want) {
			t.Errorf("%s: %s, want %s", id, is, want)
		}
	}
	for _, words := range []string{"◇ u:a#TestSurprise  surprise\n    it passed, though it is expected to fail: known\n", "▫ 1 skipped: broken\n"} {
		if !strings.Contains(got.stdout, words) {
			t.Errorf("not printed: %s\n%s", words, got.stdout)
		}
	}
	for _, words := range []string{"linux (1) and !linux (1): those that this machine cannot build are skipped", "it (1) and !it (1): they are built apart"} {
		if !strings.Contains(got.stderr, words) {
			t.Errorf("not printed: %s\n%s", words, got.stderr)
		}
	}
	cmd := command(dir, "run", "-p", "name:Pump or (far not name:Far)")
	cmd.Env = append(os.Environ(), "FERN_TEST_PUMP=on")
	if got := finish(t, cmd); got.status != 0 || !strings.Contains(got.stdout, "1 passed, 1 skipped") {
		t.Errorf("status %d: %s", got.status, got.stdout)
	}
}

func TestLoneOnCI(t *testing.T) {
	dir := rulesModule(t)
	testfiles.Write(t, dir, map[string]string{"fern.toml": "[project]\nconstrained = true\n\n[[suite]]\nname = \"u\"\nkind = \"go\"\n\n[[rule]]\npick = \"name:Lone\"\nlone = \"while I look at it\"\n"})
	with := func(ci string, args ...string) result {
		cmd := command(dir, append([]string{"run", "-p", "in:b"}, args...)...)
		cmd.Env = append(os.Environ(), "CI="+ci)
		return finish(t, cmd)
	}
	for _, got := range []result{with("true"), with("", "--strict")} {
		if got.status != 2 || !strings.Contains(got.stderr, "b/b_test.go:7  u:b#TestLone  from fern.toml:9: while I look at it") {
			t.Errorf("status %d: %s", got.status, got.stderr)
		}
	}
	if got := with("false"); got.status != 0 || !strings.Contains(got.stdout, "1 passed, 5 skipped") {
		t.Errorf("status %d: %s%s", got.status, got.stdout, got.stderr)
	}
}

func TestEmptyPick(t *testing.T) {
	dir := rulesModule(t)
	got := fern(t, dir, "run", "-p", "in:b not far name:/^TestN/ took>1h")
	if got.status != 2 || !strings.Contains(got.stderr, "    name:/^TestN/       1  5 out\n    took>1h             0  1 out\n") {
		t.Errorf("status %d: %s", got.status, got.stderr)
	}
	if got := fern(t, dir, "run", "-p", "took>1h", "--allow-empty"); got.status != 0 || !strings.Contains(got.stdout, "0 picked: nothing ran") {
		t.Errorf("status %d: %s%s", got.status, got.stdout, got.stderr)
	}
}

func TestCounts(t *testing.T) {
	dir := rulesModule(t)
	got := fern(t, dir, "list", "--count", "group,tag", "-p", "saved:plain")
	want := "group  !it  !linux  far  it  linux  tests    time\n" +
		"a        ·       ·    1   ·      ·      8  0.60 s\n" +
		"b        1       1    ·   1      1      5  0.40 s\n" +
		"all                                    13  0:01.0, of which 0:01.0 estimated\n"
	if got.stdout != want {
		t.Errorf("counted\n%s\nwant\n%s%s", got.stdout, want, got.stderr)
	}
	got = fern(t, dir, "list", "--count", "suite", "--json")
	if !strings.Contains(got.stdout, `"suite":"u","tests":14}`) {
		t.Errorf("counted %s%s", got.stdout, got.stderr)
	}
	for _, by := range []string{"colour", "tag,tag", "tag,group,suite"} {
		if got := fern(t, dir, "list", "--count", by); got.status != 2 || !strings.Contains(got.stderr, "--count: tests") {
			t.Errorf("--count %s: status %d: %s", by, got.status, got.stderr)
		}
	}
	var held []string
	for _, test := range listJSON(t, dir, "-p", "at:a/a_test.go:10 or rule:expect-fail or id:u:b#TestFar or (linux new)") {
		held = append(held, test.Name)
	}
	if !slices.Equal(held, []string{"TestAfterBad", "TestSurprise", "TestOwed", "TestFar", "TestHere"}) {
		t.Errorf("held %v", held)
	}
}

// TestNothingFound says what was looked for, where, and the likeliest reason; a
// suite that is empty beside others is reported and does not keep them.
func TestNothingFound(t *testing.T) {
	script := "#!/bin/sh\n"
	for name, c := range map[string]struct {
		files  map[string]string
		status int
		words  []string
	}{
		"no project":     {map[string]string{"x.py": ""}, 2, []string{"has no fern.toml, is not part of a Go module"}},
		"no test file":   {map[string]string{"go.mod": "module x\n", "x.go": "package x\n"}, 2, []string{"looked below", "1 Go files", "none ends in _test.go"}},
		"list is silent": {map[string]string{"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"./list\"\nrun = \"./{name}\"\n", "list": script}, 2, []string{"printed nothing on its standard output"}},
		"list fails":     {map[string]string{"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"./list\"\nrun = \"./{name}\"\n", "list": script + "echo no water >&2; exit 3\n"}, 2, []string{"exit status 3: no water"}},
		"no such list":   {map[string]string{"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"./lsit\"\nrun = \"./{name}\"\n"}, 2, []string{"is not there: look into list in fern.toml"}},
		"one of two": {map[string]string{"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"./list\"\nrun = \"./{name}\"\n[[suite]]\nname = \"g\"\nkind = \"go\"\n", "list": script,
			"go.mod": "module x\n", "x_test.go": "package x\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {}\n"}, 0, []string{"note: no tests in suite c", "printed nothing"}},
	} {
		dir := t.TempDir()
		testfiles.Write(t, dir, c.files)
		if _, ok := c.files["list"]; ok {
			if err := os.Chmod(filepath.Join(dir, "list"), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		got := fern(t, dir, "list")
		if got.status != c.status {
			t.Errorf("%s: status %d", name, got.status)
		}
		for _, words := range c.words {
			if !strings.Contains(got.stderr, words) {
				t.Errorf("%s: it does not say %q: %s", name, words, got.stderr)
			}
		}
	}
}

func TestDrawWeave(t *testing.T) {
	dir := rulesModule(t)
	got := fern(t, dir, "draw", "weave", "-p", "far or in:b", "-o", "weave.svg")
	data, err := os.ReadFile(filepath.Join(dir, "weave.svg"))
	for _, words := range []string{"pick: far or in:b; 7 of 14 tests", ">1/8<", ">linux<"} {
		if got.status != 0 || err != nil || !strings.Contains(string(data), words) {
			t.Errorf("status %d, %v: the drawing does not say %q\n%s", got.status, err, words, got.stderr)
		}
	}
	for args, words := range map[string]string{"weave -p nowhere": "no test carries", "timeline -p far": "--pick is for the other charts", "pie": "the charts are curve, history, matrix, shards, slow, timeline, trend, weave", "timeline": "latest run"} {
		if got := fern(t, dir, append(append([]string{"draw"}, strings.Fields(args)...), "-o", "x.svg")...); got.status != 2 || !strings.Contains(got.stderr, words) {
			t.Errorf("draw %s: status %d: %s", args, got.status, got.stderr)
		}
	}
}
