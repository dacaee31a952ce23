package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"encoding/xml"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/process"
	"fernrelay/internal/testfiles"
)

// program is the built binary that all tests here drive.
var program string

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "be-a-host" {
		beHost()
		return
	}
	dir, err := os.MkdirTemp("", "fern-relay-test-")
	if err != nil {
		panic(err)
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "fern-relay")
	if out, err := exec.Command("go", "build", "-o", program, ".").CombinedOutput(); err != nil {
		panic(fmt.Sprintf("%v\n%s", err, out))
	}
	runMoreSideBySide()
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// runMoreSideBySide lets twice as many tests run side by side as usual, as they wait for other processes most of the time.
func runMoreSideBySide() {
	flag.Parse()
	if f := flag.Lookup("test.parallel"); f.Value.String() == f.DefValue {
		_ = f.Value.Set(strconv.Itoa(2 * runtime.GOMAXPROCS(0))) // a number is no error
	}
}

// result is what came of a command.
type result struct {
	stdout, stderr string
	status         int
}

func command(dir string, args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	return cmd
}

func fern(t *testing.T, dir string, args ...string) result {
	t.Helper()
	return finish(t, command(dir, args...))
}

// git runs git in a folder and returns what it prints.
func git(t *testing.T, dir string, args ...string) string {
	t.Helper()
	cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=gardener", "-c", "user.email=gardener@glasshouse.example"}, args...)...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

func finish(t *testing.T, cmd *exec.Cmd) result {
	t.Helper()
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	err := cmd.Run()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		t.Fatal(err)
	}
	return result{stdout.String(), stderr.String(), cmd.ProcessState.ExitCode()}
}

func readEvents(t *testing.T, file string) []run.Event {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var events []run.Event
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		var e run.Event
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			t.Fatalf("%s: %v", lines.Text(), err)
		}
		events = append(events, e)
	}
	return events
}

func outcomes(events []run.Event) map[string]run.Outcome {
	found := map[string]run.Outcome{}
	for _, e := range events {
		if e.Event == run.Finished {
			found[e.ID] = e.Outcome
		}
	}
	return found
}

// trouble copies the module of troubles that the Go adapter is tested on.
func trouble(t *testing.T, config string) string {
	t.Helper()
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS("../../internal/adapter/golang/testdata/trouble")); err != nil {
		t.Fatal(err)
	}
	testfiles.Write(t, dir, map[string]string{"fern.toml": config})
	return dir
}

const goSuite = "[[suite]]\nname = \"unit\"\nkind = \"go\"\nvet = false\ntimeout = \"3s\"\n"

func TestRunOnTrouble(t *testing.T) {
	t.Parallel()
	dir := trouble(t, "[project]\nconstrained = true\n\n"+goSuite)
	events, report := filepath.Join(dir, "events.jsonl"), filepath.Join(dir, "junit.xml")
	got := fern(t, dir, "run", "--workers", "2", "--events", events, "--junit", report)
	if got.status != 1 {
		t.Fatalf("status %d, want 1\n%s%s", got.status, got.stdout, got.stderr)
	}
	want := map[string]run.Outcome{
		"beside#TestTagged": "passed", "beside#TestOwed": "owed", "beside#TestUnwanted": "skipped", "beside#Example": "passed",
		"broken#TestNever": "lost", "broken#TestNeither": "lost", "broken#build": "errored",
		"crash#TestFirst": "passed", "crash#TestPanics": "errored", "crash#TestBetween": "passed", "crash#TestExits": "errored",
		"crash#TestExitsWell": "errored", "crash#TestKilled": "errored", "crash#TestHangs": "timed-out", "crash#TestWrong": "failed",
		"crash#TestSkips": "skipped", "crash#TestLast": "passed", "crash#FuzzSeeds": "passed", "crash#ExampleWrong": "failed",
		"mainly#TestReady": "passed", "mainly#TestLater": "skipped", "mainly#TestMain": "errored",
		"order#TestA": "passed", "order#TestB": "passed", "order#TestC": "passed", "order#ExampleTrue": "passed", "order/order#TestA": "passed",
		"parallel#TestOne": "passed", "parallel#TestLeaves": "errored", "parallel#TestTwo": "passed",
		"refused#TestNotReached": "errored", "refused#TestNorThis": "errored",
		"state#TestQuiet": "passed", "state#TestRaises": "passed", "state#TestOther": "passed", "state#TestReads": "failed",
		"tagged#TestPlain": "passed", "tagged#TestIntegration": "passed",
	}
	described := readEvents(t, events)
	found := outcomes(described)
	for id, o := range want {
		if found["unit:"+id] != o {
			t.Errorf("%s: %s, want %s", id, found["unit:"+id], o)
		}
	}
	if len(found) != len(want) {
		t.Errorf("%d outcomes, want %d", len(found), len(want))
	}
	if first, last := described[0], described[len(described)-1]; first.Event != "run" || first.Format != "fern-events/1" || last.Event != "end" || last.Counts["timed-out"] != 1 {
		t.Errorf("the events begin with %+v and end with %+v", first, last)
	}
	checkFailures(t, described)
	for _, words := range []string{"undefined: undefinedHere", "2 lost: unit:broken does not compile", "exit status 3", "about to leave", "no database here", "timed out at 3s"} {
		if !strings.Contains(got.stdout, words) {
			t.Errorf("the report does not say %q:\n%s", words, got.stdout)
		}
	}
	checkJUnit(t, report, len(want))
}

// checkFailures holds places and messages of failures.
func checkFailures(t *testing.T, described []run.Event) {
	t.Helper()
	for _, want := range []run.Event{
		{ID: "unit:crash#TestWrong", Failure: run.Failure{File: "crash/crash_test.go", Line: 35, Expected: "4", Actual: "3"}},
		{ID: "unit:crash#TestPanics", Failure: run.Failure{File: "crash/crash_test.go", Line: 14}},
		{ID: "unit:crash#ExampleWrong", Failure: run.Failure{File: "crash/crash_test.go", Line: 42, Expected: "right"}},
		{ID: "unit:broken#TestNever", Failure: run.Failure{File: "broken/broken_test.go", Line: 5}},
	} {
		i := slices.IndexFunc(described, func(e run.Event) bool { return e.Event == run.Finished && e.ID == want.ID })
		got := described[i]
		if got.File != want.File || got.Line != want.Line || got.Expected != want.Expected || got.Actual != want.Actual {
			t.Errorf("%s: at %s:%d expected %q actual %q; want %s:%d %q %q", want.ID, got.File, got.Line, got.Expected, got.Actual,
				want.File, want.Line, want.Expected, want.Actual)
		}
	}
}

func checkJUnit(t *testing.T, file string, tests int) {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var all struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Errors   int `xml:"errors,attr"`
		Suites   []struct {
			Name    string `xml:"name,attr"`
			Skipped int    `xml:"skipped,attr"`
			Cases   []struct {
				Class string `xml:"classname,attr"`
				Name  string `xml:"name,attr"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	if err := xml.Unmarshal(data, &all); err != nil {
		t.Fatal(err)
	}
	skipped := 0
	for _, s := range all.Suites {
		skipped += s.Skipped
		for _, c := range s.Cases {
			if s.Name != "unit:"+c.Class {
				t.Errorf("%s stands in suite %s with class %s", c.Name, s.Name, c.Class)
			}
		}
	}
	if all.Tests != tests || all.Failures != 3 || all.Errors != 12 || skipped != 4 {
		t.Errorf("JUnit counts %d tests, %d failures, %d errors, %d skipped; want %d, 3, 12, 4", all.Tests, all.Failures, all.Errors, skipped, tests)
	}
}

func TestOrderIsExact(t *testing.T) {
	dir := trouble(t, goSuite)
	want := []string{"unit:order#TestC", "unit:order#ExampleTrue", "unit:order#TestA", "unit:order#TestB", "unit:state#TestReads", "unit:state#TestRaises"}
	testfiles.Write(t, dir, map[string]string{"order.txt": strings.Join(want, "\n") + "\n"})
	events := filepath.Join(dir, "events.jsonl")
	if got := fern(t, dir, "run", "--workers", "1", "--order-from", "order.txt", "--events", events); got.status != 0 {
		t.Fatalf("status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	var started []string
	batches := map[int]bool{}
	for _, e := range readEvents(t, events) {
		if e.Event == run.Started {
			started = append(started, e.ID)
			batches[e.Batch] = true
		}
	}
	if !slices.Equal(started, want) || len(batches) != 2 {
		t.Errorf("ran %v in %d batches, want %v in 2", started, len(batches), want)
	}
}

func TestHuntNamesTheVariable(t *testing.T) {
	t.Parallel()
	dir := trouble(t, goSuite)
	if got := fern(t, dir, "run", "-p", "in:state"); got.status != 1 {
		t.Fatalf("status %d\n%s", got.status, got.stderr)
	}
	got := fern(t, dir, "hunt", "--json", "--svg", "frond.svg", "--pdf", "frond.pdf")
	var report hunt.Report
	if err := json.Unmarshal([]byte(got.stdout), &report); err != nil || got.status != 0 {
		t.Fatalf("status %d, %v\n%s%s", got.status, err, got.stdout, got.stderr)
	}
	f := report.Victims[0]
	if report.Format != "fern-hunt/1" || len(report.Victims) != 1 || f.ID != "unit:state#TestReads" || f.Verdict != hunt.Polluted ||
		f.Culprits[0][0] != "unit:state#TestRaises" || f.With != (hunt.Times{Runs: 5, Failed: 5}) || f.Without != (hunt.Times{Runs: 5}) {
		t.Errorf("found %+v", report)
	}
	if len(f.Changed) != 1 || f.Changed[0].Name != "state.current" || !strings.Contains(f.Changed[0].After, `"low":[5 2]`) {
		t.Errorf("the state that changed: %+v", f.Changed)
	}
	svg, _ := os.ReadFile(filepath.Join(dir, "frond.svg"))
	pdf, _ := os.ReadFile(filepath.Join(dir, "frond.pdf"))
	for file, text := range map[string]string{"frond.svg": string(svg), "frond.pdf": testfiles.PDFText(t, pdf)} {
		if !strings.Contains(text, "TestReads") || !strings.Contains(text, "TestRaises") {
			t.Errorf("%s names not both tests:\n%.2000s", file, text)
		}
	}
}

func TestListAndSplit(t *testing.T) {
	t.Parallel()
	dir := trouble(t, goSuite+"\n[tags]\nfragile = \"in:crash or name:/Panics$/\"\n")
	got := fern(t, dir, "list", "--json", "-p", "near quick or integration or fragile kind:fuzz")
	var ids []string
	for line := range strings.Lines(got.stdout) {
		var test catalog.Test
		if err := json.Unmarshal([]byte(line), &test); err != nil {
			t.Fatal(err)
		}
		ids = append(ids, fmt.Sprint(test.ID, test.Tags, test.File, test.Line, test.Kind))
	}
	want := []string{
		"unit:beside#TestTagged[frost near quick]beside/beside_test.go11test",
		"unit:crash#FuzzSeeds[fragile]crash/crash_test.go47fuzz",
		"unit:tagged#TestIntegration[integration linux]tagged/tagged_test.go7test",
	}
	if !slices.Equal(ids, want) {
		t.Errorf("listed %q, want %q\n%s", ids, want, got.stderr)
	}

	testfiles.Write(t, dir, map[string]string{"times.csv": "id,seconds,note\na#1,4,x\na#2,3,\nb#1,5,\nc#1,2,\nd#1,2,\n"})
	got = fern(t, dir, "split", "--timings", "times.csv", "--shards", "2", "--json")
	if want := `{"format":"fern-split/1","shards":[{"shard":1,"seconds":9,"tests":["a#1","a#2","d#1"]},{"shard":2,"seconds":7,"tests":["b#1","c#1"]}],"finish_s":9,"floor_s":9,"optimal":true,"spread_s":2,"unknown":0,"fingerprint":"`; !strings.HasPrefix(got.stdout, want) {
		t.Errorf("split gives %s, want %s\n%s", got.stdout, want, got.stderr)
	}
	got = fern(t, dir, "split", "--timings", "times.csv", "--shards", "2", "--together", "test", "--json")
	if !strings.Contains(got.stdout, `"tests":["b#1","a#2"]`) || !strings.Contains(got.stdout, `"finish_s":8,"floor_s":8,"optimal":true`) {
		t.Errorf("split of single tests gives %s", got.stdout)
	}
	covered := map[string]int{}
	for k := 1; k <= 3; k++ {
		fern(t, dir, "run", "-p", "in:order/** or in:tagged", "--shard", fmt.Sprint(k, "/3"), "--events", "shard.jsonl")
		for id := range outcomes(readEvents(t, filepath.Join(dir, "shard.jsonl"))) {
			covered[id]++
		}
		// As on another machine: what one shard learns of times, the next would plan with.
		if err := os.Remove(filepath.Join(dir, ".fern", "ledger.db")); err != nil {
			t.Fatal(err)
		}
	}
	for id, n := range covered {
		if n != 1 {
			t.Errorf("%s ran in %d shards", id, n)
		}
	}
}

func TestBadInput(t *testing.T) {
	empty := t.TempDir()
	dir := trouble(t, goSuite)
	config := func(text string) string {
		d := t.TempDir()
		testfiles.Write(t, d, map[string]string{"fern.toml": text})
		return d
	}
	locked := filepath.Join(t.TempDir(), "locked")
	if err := os.Mkdir(locked, 0); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name  string
		dir   string
		args  []string
		words []string
	}{
		{"no tests", empty, []string{"list"}, []string{"no tests found in", "fern.toml", "Go module"}},
		{"no such folder", empty, []string{"list", "-C", "nowhere"}, []string{"nowhere", "no such file"}},
		{"typo in a key", config("[project]\nname = \"x\"\n[[suite]]\nnmae = \"unit\"\n"), []string{"list"}, []string{"fern.toml:4:1", "nmae", "takes name"}},
		{"not TOML", config("[project\n"), []string{"list"}, []string{"fern.toml:1:"}},
		{"a wrong kind", config("[[suite]]\nname = \"unit\"\nkind = \"gopher\"\n"), []string{"list"}, []string{"fern.toml:3:1", "gopher", "go, command or host"}},
		{"a wrong tag pick", config(goSuite + "[tags]\nx = \"(a\"\n"), []string{"list"}, []string{"fern.toml:7:6", "never closed"}},
		{"a host without run", config("[[suite]]\nname = \"h\"\nkind = \"host\"\n"), []string{"list"}, []string{"no run", "command line"}},
		{"a host that is no host", config("[[suite]]\nname = \"h\"\nkind = \"host\"\nrun = \"echo hello\"\n"), []string{"list"}, []string{"suite h", "hello"}},
		{"unknown field", dir, []string{"list", "-p", "quick nmae:x"}, []string{"column 7", `did you mean "name"`, "quick nmae:x\n      ^"}},
		{"unknown tag", dir, []string{"run", "-p", "qick"}, []string{`did you mean "quick"`}},
		{"an empty pick", dir, []string{"run", "-p", "quick not quick"}, []string{"selects no test"}},
		{"a broken ID", dir, []string{"hunt", "TestNobody"}, []string{"TestNobody", "fern-relay list"}},
		{"an ambiguous ID", dir, []string{"hunt", "TestA"}, []string{"2 IDs", "unit:order#TestA"}},
		{"nothing ran yet", config(goSuite + "\n"), []string{"hunt"}, []string{"go.mod"}},
		{"workers 0", dir, []string{"run", "--workers", "0"}, []string{"--workers is 0"}},
		{"workers as a word", dir, []string{"run", "--workers", "two"}, []string{"two"}},
		{"shard 4/3", dir, []string{"run", "--shard", "4/3"}, []string{"4/3", "K/N"}},
		{"a wrong order", dir, []string{"run", "--order", "sorted"}, []string{"sorted", "shuffled"}},
		{"an order of an earlier version", dir, []string{"run", "--order", "seed:7"}, []string{"--order shuffled --seed 7"}},
		{"a flag of an earlier version", dir, []string{"run", "--trial"}, []string{"--no-record"}},
		{"a seed without shuffling", dir, []string{"run", "--seed", "7"}, []string{"--seed", "shuffled"}},
		{"two orders", dir, []string{"run", "--order", "backwards", "--order-from", "fern.toml"}, []string{"--order-from"}},
		{"an order of unknown tests", dir, []string{"run", "--order-from", "fern.toml"}, []string{"fern.toml:1", "no test"}},
		{"shards 0", dir, []string{"split", "--shards", "0"}, []string{"--shards is 0"}},
		{"a file that cannot be written", dir, []string{"run", "-p", "quick", "--junit", "no/such/folder.xml"}, []string{"no/such/folder.xml"}},
		{"a CSV without header", dir, []string{"split", "--shards", "2", "--timings", "fern.toml"}, []string{"fern.toml: line 1", "id and seconds"}},
		{"a speed with a limit", dir, []string{"split", "--shards", "3", "--limit", "2", "--speed", "1=2"}, []string{"different speed", "limit of 2"}},
		{"a late shard that is none", dir, []string{"split", "--shards", "3", "--late", "4=1s"}, []string{"--late", "from 1 to 3"}},
		{"a pin of nothing", dir, []string{"split", "--shards", "3", "--pin", "nowhere=1"}, []string{"nowhere", "0 units"}},
		{"shards and a time", dir, []string{"split", "--shards", "3", "--within", "2s"}, []string{"--shards and --within"}},
		{"pins without a shard", dir, []string{"run", "--pin", "order=1"}, []string{"--pin", "--shard K/N"}},
		{"wrong timings of a run", dir, []string{"run", "--timings", "fern.toml"}, []string{"fern.toml: line 1"}},
		{"a plan that is none", dir, []string{"split", "--shards", "2", "--steady", "fern.toml"}, []string{"fern.toml is no plan", "split --json"}},
		{"a resource for none", config(goSuite + "[resources]\nbus = 0\n"), []string{"list"}, []string{"fern.toml:7:1", "bus", "from 1"}},
		{"a folder without permission", locked, []string{"list", "-C", locked}, []string{"permission"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			cmd := command(c.dir, c.args...)
			if c.dir == locked {
				needOtherUsers(t)
				cmd.Dir = "/"
				if os.Getuid() == 0 { // root may read everything
					cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
				}
			}
			got := finish(t, cmd)
			if got.status != 2 || got.stdout != "" {
				t.Errorf("status %d, want 2; it printed %q", got.status, got.stdout)
			}
			for _, words := range c.words {
				if !strings.Contains(got.stderr, words) {
					t.Errorf("it does not say %q: %s", words, got.stderr)
				}
			}
		})
	}
}
func waitFor(t *testing.T, what string, reached func() bool) {
	t.Helper()
	for deadline := time.Now().Add(60 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if reached() {
			return
		}
	}
	t.Fatalf("waited in vain for %s", what)
}

// TestExamples holds that each command has two examples that it understands, and a group in the help of all.
func TestExamples(t *testing.T) {
	root := newRoot(&settings{interrupts: &interrupts{}})
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	var each func(cmd *cobra.Command)
	each = func(cmd *cobra.Command) {
		for _, sub := range cmd.Commands() {
			each(sub)
		}
		path := strings.TrimPrefix(cmd.CommandPath(), "fern-relay ")
		if cmd == root || cmd.Hidden || cmd.HasSubCommands() && path != "matrix" || path == "help" || path == "man" || strings.HasPrefix(path, "completion") {
			return
		}
		if len(examples[path]) != 2 {
			t.Errorf("%s has %d examples", path, len(examples[path]))
		}
		if cmd.Parent() == root && cmd.GroupID == "" {
			t.Errorf("%s is in no group", path)
		}
	}
	each(root)
	for path, lines := range examples {
		for _, line := range lines {
			words, err := process.Words(line)
			if err != nil {
				t.Fatal(err)
			}
			root := newRoot(&settings{interrupts: &interrupts{}})
			cmd, rest, err := root.Find(words)
			if err == nil {
				err = cmd.ParseFlags(rest)
			}
			if err == nil {
				err = cmd.ValidateArgs(cmd.Flags().Args())
			}
			if err != nil || cmd.CommandPath() != "fern-relay "+path {
				t.Errorf("%q is for %s: %v", line, cmd.CommandPath(), err)
			}
		}
	}
}

// TestErrorsInPlainWords holds that mistakes on the command line and in fern.toml say what to write, without the insides of
// this program.
func TestErrorsInPlainWords(t *testing.T) {
	t.Parallel()
	suite := "[[suite]]\nname = \"a\"\nkind = \"command\"\nlist = \"echo bed\"\nrun = \"true {name}\"\n[picks]\nquick = \"took<1s\"\n"
	for _, c := range []struct {
		config string
		args   []string
		want   string
	}{
		{"", []string{"lst"}, `there is no command or folder "lst": did you mean list?`},
		{"", []string{"runn", "-p", "x"}, `there is no command or folder "runn": did you mean run`},
		{"", []string{"ledger", "shaki"}, `fern-relay ledger has no command "shaki": did you mean shaky?`},
		{"", []string{"ledger", "show"}, "fern-relay ledger show takes a run: its number, last or last-1; write it as in: fern-relay ledger show RUN"},
		{"", []string{"why"}, "fern-relay why takes the ID of a test, or an ending of it"},
		{"", []string{"list", "frost"}, `fern-relay list takes no argument, and "frost" is one: a pick goes into -p, as in -p "frost"`},
		{"", []string{"run", "--workers", "many"}, `--workers is "many": a whole number is expected`},
		{"", []string{"run", "--timeout", "30"}, `--timeout is "30": a time with its unit is expected, as in 30s or 2m`},
		{"", []string{"run", "--nope"}, "unknown flag: --nope: fern-relay run --help lists the flags"},
		{suite, []string{"list", "-p", "quick"}, `no test carries the tag "quick", but there is a saved pick of that name: write saved:quick`},
		{suite, []string{"run", "."}, "did you mean the place, -p in:.?"},
		{strings.Replace(suite, "[picks]", "timeout = 30\n[picks]", 1), []string{"list"}, `fern.toml:6:11: timeout has a value of type integer: a text in quotes is expected, a time with its unit, as in timeout = "30s"`},
		{suite + "[[rule]]\npick = \"quick\"\nskip = true\n", []string{"list"}, `fern.toml:10:8: skip has a value of type boolean: a text in quotes is expected, which says why`},
		{suite + "[workers]\ncount = \"3\"\n", []string{"list"}, "fern.toml:9:9: count has a value of type string: a whole number is expected"},
		{strings.Replace(suite, "echo bed", "./beds", 1), []string{"list"}, "is no program that this system can run: if it is a script, give it a first line like #!/bin/sh"},
	} {
		dir := t.TempDir()
		if c.config != "" {
			testfiles.Write(t, dir, map[string]string{"fern.toml": c.config, "beds": "echo bed\n"})
			if err := os.Chmod(filepath.Join(dir, "beds"), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		if got := fern(t, dir, c.args...); got.status != 2 || !strings.Contains(got.stderr, c.want) {
			t.Errorf("%q: status %d, %swant %s", c.args, got.status, got.stderr, c.want)
		}
	}
	if got := fern(t, t.TempDir(), "--version"); got.status != 0 || !strings.HasPrefix(got.stdout, "fern-relay ") || !strings.Contains(got.stdout, "go1.") {
		t.Errorf("--version: status %d, %s", got.status, got.stdout)
	}
}

// TestFirstHour goes from a folder without fern.toml to a first run: of scripts, and of a program that writes JUnit XML.
func TestFirstHour(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"checks/sows.sh": "#!/bin/sh\n", "checks/waters.sh": "#!/bin/sh\nexit 1\n",
		"beds": "#!/bin/sh\n[ \"$1\" != list ] || { echo north; echo south; exit; }\nout=$1; shift\n{ echo '<testsuite name=\"beds\">'; for t; do echo \"<testcase name=\\\"$t\\\"/>\"; done; echo '</testsuite>'; } >$out\n"})
	for _, name := range []string{"checks/sows.sh", "checks/waters.sh", "beds"} {
		if err := os.Chmod(filepath.Join(dir, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	got := fern(t, dir, "init", "--print", "--list", "./beds list", "--run", "./beds {report} {names}", "--results", "junit", "--name", "beds")
	if _, err := os.Stat(filepath.Join(dir, "fern.toml")); got.status != 0 || err == nil || !strings.Contains(got.stdout, "# {report}") && !strings.Contains(got.stdout, "{report}") {
		t.Errorf("--print: status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	got = fern(t, dir, "init", "--list", "./beds list", "--run", "./beds {report} {names}", "--results", "junit", "--name", "beds")
	for _, want := range []string{"fern.toml is written: 4 tests", "suite checks: 2 tests, such as checks:.#sows.sh", "suite beds: 2 tests, such as beds:.#north", "next: fern-relay run"} {
		if got.status != 0 || !strings.Contains(got.stdout, want) {
			t.Errorf("init: status %d, %q is missing in\n%s%s", got.status, want, got.stdout, got.stderr)
		}
	}
	if got := fern(t, dir, "run"); got.status != 1 || !strings.Contains(got.stdout, "4 picked: 3 passed, 1 failed") {
		t.Errorf("run: status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, dir, "init"); got.status != 2 || !strings.Contains(got.stderr, "is there already: --print shows") {
		t.Errorf("init again: status %d, %s", got.status, got.stderr)
	}
	if got := fern(t, t.TempDir(), "init"); got.status != 2 || !strings.Contains(got.stderr, "nothing that looks like tests is in") {
		t.Errorf("init of nothing: status %d, %s", got.status, got.stderr)
	}
	if got := fern(t, dir, "doctor"); got.status != 0 || !strings.Contains(got.stdout, "suite checks") {
		t.Errorf("doctor: status %d\n%s", got.status, got.stdout)
	}
	config, err := os.ReadFile(filepath.Join(dir, "fern.toml"))
	if err != nil {
		t.Fatal(err)
	}
	testfiles.Write(t, dir, map[string]string{"fern.toml": string(config) + "\n[[service]]\nname = \"store\"\nstart = \"no-such-server\"\nready = \"true\"\n"})
	got = fern(t, dir, "doctor", "--json")
	var found struct {
		Format   string
		Findings []struct{ What, State, Found, Do string }
	}
	if err := json.Unmarshal([]byte(got.stdout), &found); err != nil || got.status != 1 || found.Format != "fern-doctor/1" {
		t.Fatalf("doctor --json: status %d, %v\n%s", got.status, err, got.stdout)
	}
	if !slices.ContainsFunc(found.Findings, func(f struct{ What, State, Found, Do string }) bool {
		return f.What == "program no-such-server" && f.State == "missing" && f.Do != ""
	}) {
		t.Errorf("doctor does not miss the server: %+v", found.Findings)
	}
}
