package command

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/format"
	"fernrelay/internal/process"
)

// program is how the made program behaves that this test binary becomes.
type program struct {
	Results string            // the format of its results
	Late    bool              // it reports all results at its end
	Ways    map[string]string // what a test does that does not pass: fails, exits, quits (with status 0), signals or hangs
	Pair    [2]string         // tests of which the second aborts after the first
	Log     string            // a file that gets a line of names for each process
}

const programVariable = "FERN_RELAY_TEST_PROGRAM"

func TestMain(m *testing.M) {
	if text := os.Getenv(programVariable); text != "" {
		var p program
		if err := json.Unmarshal([]byte(text), &p); err != nil {
			panic(err)
		}
		p.run(os.Args[1], os.Args[2:])
	}
	os.Exit(m.Run())
}

// run runs the tests as a simple program of this kind would.
func (p *program) run(report string, names []string) {
	if len(names) == 1 && strings.HasPrefix(names[0], "@") {
		data, _ := os.ReadFile(names[0][1:])
		names = strings.Fields(string(data))
	} else if len(names) == 0 {
		data, _ := io.ReadAll(os.Stdin)
		names = strings.Fields(string(data))
	}
	log, _ := os.OpenFile(p.Log, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	fmt.Fprintln(log, len(names))
	var out io.Writer = os.Stdout
	var late strings.Builder
	if p.Late {
		out = &late
	}
	if p.Results == "tap" {
		fmt.Fprintf(out, "1..%d\n", len(names))
	}
	failed, paired := 0, false
	for i, name := range names {
		if p.Results == "gojson" {
			fmt.Fprintf(out, "{\"Action\":\"run\",\"Package\":\"p\",\"Test\":%q}\n", name)
		}
		way := p.Ways[name]
		if paired = paired || name == p.Pair[0]; paired && name == p.Pair[1] {
			way = "signals"
		}
		switch way {
		case "fails":
			failed = 1
		case "exits":
			os.Exit(3)
		case "quits":
			os.Exit(0)
		case "signals":
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		case "hangs":
			time.Sleep(time.Hour)
		}
		switch ok := way != "fails"; p.Results {
		case "tap":
			fmt.Fprintf(out, "%s %d - %s\n", map[bool]string{true: "ok", false: "not ok"}[ok], i+1, name)
		case "gojson":
			fmt.Fprintf(out, "{\"Action\":%q,\"Package\":\"p\",\"Test\":%q}\n", map[bool]string{true: "pass", false: "fail"}[ok], name)
		case "junit":
			fmt.Fprintf(out, "<testcase name=%q>%s</testcase>", name, map[bool]string{false: "<failure/>"}[ok])
		}
	}
	if p.Results == "junit" {
		_ = os.WriteFile(report, []byte("<testsuite>"+late.String()+"</testsuite>"), 0o600)
	} else {
		fmt.Print(late.String())
	}
	os.Exit(failed)
}

// runProgram runs tests with the made program, which gets the names in one of the ways: args, file or stdin. It returns the run and how
// many tests each process ran.
func runProgram(t *testing.T, p program, tests []catalog.Test, way string, limit time.Duration) (*run.Run, []int) {
	t.Helper()
	p.Log = filepath.Join(t.TempDir(), "log")
	text, err := json.Marshal(p)
	if err != nil {
		t.Fatal(err)
	}
	report := "-"
	if p.Results == "junit" {
		report = "{report}"
	}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	words := append([]string{self, report}, map[string][]string{"args": {"{names}"}, "file": {"@{names-file}"}, "stdin": nil}[way]...)
	a, err := New(Config{Suite: "c", Dir: t.TempDir(), List: []string{"true"}, Run: words, Results: p.Results, Stdin: way == "stdin", Limits: process.Limits{Test: limit}})
	if err != nil {
		t.Fatal(err)
	}
	a.names = catalog.NamesOf(tests)
	s, err := a.Open(t.Context(), process.Slot{Number: 1, Temp: t.TempDir(), Env: []string{programVariable + "=" + string(text)}})
	if err != nil {
		t.Fatal(err)
	}
	r := run.New()
	if err := s.Run(context.Background(), tests, r.Apply); err != nil {
		t.Fatal(err)
	}
	log, err := os.Open(p.Log)
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	var sizes []int
	for lines := bufio.NewScanner(log); lines.Scan(); {
		var n int
		_, _ = fmt.Sscan(lines.Text(), &n)
		sizes = append(sizes, n)
	}
	return r, sizes
}

func madeTests(n int) []catalog.Test {
	tests := make([]catalog.Test, n)
	for i := range tests {
		name := fmt.Sprintf("t%04d", i)
		tests[i] = catalog.Test{ID: catalog.ID("c", "g", name), Suite: "c", Group: "g", Name: name, Expected: 0.01}
	}
	return tests
}

// TestDivision runs programs of all formats with tests that fail or end their process at random. Whatever those do, every other test has
// its own outcome, each that ends its process is named, nothing is reported beyond them, and the processes are few.
func TestDivision(t *testing.T) {
	formats := map[string]program{"tap": {Results: "tap"}, "tap at the end": {Results: "tap", Late: true}, "junit": {Results: "junit", Late: true}, "gojson": {Results: format.Formats[2].Name}}
	for name, p := range formats {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			random := rand.New(rand.NewPCG(31, uint64(len(name))))
			for range 8 {
				tests := madeTests(2 + random.IntN(60))
				p.Ways = map[string]string{}
				killers := 0
				for range random.IntN(6) {
					way := []string{"fails", "fails", "exits", "quits", "signals"}[random.IntN(5)]
					name := tests[random.IntN(len(tests))].Name
					if p.Ways[name] == "" && way != "fails" {
						killers++
					}
					if p.Ways[name] == "" {
						p.Ways[name] = way
					}
				}
				r, sizes := runProgram(t, p, tests, []string{"args", "file", "stdin"}[random.IntN(3)], time.Minute)
				for _, test := range tests {
					want := map[string]run.Outcome{"": run.Passed, "fails": run.Failed}[p.Ways[test.Name]]
					if want == "" {
						want = run.Errored
					}
					if res := r.Result(test.ID); res == nil || res.Outcome != want {
						t.Errorf("%s, which %q, is %s in %v: %s", test.Name, p.Ways[test.Name], res.Outcome, p.Ways, res.Message)
					}
				}
				if beyond := r.Result(catalog.ID("c", "g", run.ProcessEntry)); beyond != nil {
					t.Errorf("reported beyond the tests: %s %s", beyond.Outcome, beyond.Message)
				}
				if most := 1 + killers*14; len(sizes) > most {
					t.Errorf("%d tests of which %d end their process take %d processes: %v", len(tests), killers, len(sizes), sizes)
				}
			}
		})
	}
}

// TestDivisionFindsHangs kills a program that hangs, whose report is missing then. The others pass, and the one that hangs is named.
func TestDivisionFindsHangs(t *testing.T) {
	for _, p := range []program{{Results: "junit", Late: true}, {Results: "tap"}} {
		p.Ways = map[string]string{"t0011": "hangs"}
		tests := madeTests(24)
		r, sizes := runProgram(t, p, tests, "args", 500*time.Millisecond)
		if hung := r.Result(tests[11].ID); hung.Outcome != run.TimedOut || r.Counts[run.Passed] != 23 || len(sizes) > 14 {
			t.Errorf("%s: %+v, %v in processes of %v", p.Results, hung, r.Counts, sizes)
		}
	}
}

// TestOnlyTogether runs two tests of which the second ends the process only after the first: all pass apart, and the run is not green.
func TestOnlyTogether(t *testing.T) {
	p := program{Results: "junit", Late: true, Pair: [2]string{"t0004", "t0019"}}
	tests := madeTests(32)
	r, _ := runProgram(t, p, tests, "args", time.Minute)
	beyond := r.Result(catalog.ID("c", "g", run.ProcessEntry))
	if r.Counts[run.Passed] != 32 || r.ExitStatus() != 1 || beyond == nil || !strings.Contains(beyond.Message, "the process that ran 32 tests, from g#t0000 to g#t0031, ended with signal 9") {
		t.Errorf("%v, status %d, %+v", r.Counts, r.ExitStatus(), beyond)
	}
	for i := range tests { // in a trial, no other order answers
		tests[i].Ask(func(a *catalog.Asked) { a.Whole = true })
	}
	if r, sizes := runProgram(t, p, tests, "args", time.Minute); r.Counts[run.Errored] != 32 || len(sizes) != 1 {
		t.Errorf("a trial has %v in processes of %v", r.Counts, sizes)
	}
}

// TestProgramThatAlwaysEnds runs a program whose every process ends: it is not started for each of many tests.
func TestProgramThatAlwaysEnds(t *testing.T) {
	tests := madeTests(3000)
	p := program{Results: "junit", Late: true, Ways: map[string]string{}}
	for _, test := range tests {
		p.Ways[test.Name] = "exits"
	}
	r, sizes := runProgram(t, p, tests, "file", time.Minute)
	if r.Counts[run.Errored] != 3000 || len(sizes) > 60 {
		t.Errorf("%v in %d processes: %v", r.Counts, len(sizes), sizes)
	}
}

// TestLongNames runs more names than a program can have arguments.
func TestLongNames(t *testing.T) {
	tests := madeTests(20_000)
	long := strings.Repeat("x", 185)
	for i := range tests {
		tests[i].Name += long
		tests[i].ID = catalog.ID("c", "g", tests[i].Name)
	}
	for way, most := range map[string]int{"args": 80, "file": 1, "stdin": 1} {
		r, sizes := runProgram(t, program{Results: "tap"}, tests, way, time.Minute)
		if r.Counts[run.Passed] != len(tests) || len(sizes) > most {
			t.Errorf("by %s: %v in processes of %v", way, r.Counts, sizes)
		}
		if slices.Max(sizes) < 100 {
			t.Errorf("by %s: processes of %v", way, sizes)
		}
	}
}
