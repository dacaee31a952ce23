package golang

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/adapter/golang/testlog"
	"fernrelay/internal/process"
	"fernrelay/internal/testfiles"
)

// module writes a module and gives its adapter and its tests by group#name.
func module(t testing.TB, config Config, files map[string]string) (*Adapter, map[string]catalog.Test) {
	t.Helper()
	dir := t.TempDir()
	if files["go.mod"] == "" {
		files["go.mod"] = "module example.org/made\n\ngo 1.26\n"
	}
	testfiles.Write(t, dir, files)
	config.Suite, config.Root, config.Dir, config.Store = "u", dir, dir, filepath.Join(dir, ".store")
	a, err := New(config)
	if err != nil {
		t.Fatal(err)
	}
	found, err := a.Discover(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	byName := map[string]catalog.Test{}
	for _, test := range found.Tests {
		byName[strings.TrimPrefix(test.ID, "u:")] = test
	}
	return a, byName
}

func choose(t testing.TB, byName map[string]catalog.Test, names ...string) []catalog.Test {
	t.Helper()
	var tests []catalog.Test
	for _, name := range names {
		test, ok := byName[name]
		if !ok {
			t.Fatalf("%s was not found among %v", name, byName)
		}
		tests = append(tests, test)
	}
	return tests
}

func open(t testing.TB, a *Adapter, tests []catalog.Test) adapter.Session {
	t.Helper()
	var pointers []*catalog.Test
	for i := range tests {
		pointers = append(pointers, &tests[i])
	}
	if err := a.Prepare(context.Background(), pointers, func(string) {}); err != nil {
		t.Fatal(err)
	}
	s, err := a.Open(context.Background(), process.Slot{Number: 1, Temp: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestFlagsConstraintsAndNames runs packages with one base name, a test behind a
// constraint, a TestMain, and seeds in front of a test, with build flags and
// arguments of the suite.
func TestFlagsConstraintsAndNames(t *testing.T) {
	a, found := module(t, Config{BuildFlags: []string{"-tags=special"}, Args: []string{"-short", "-test.parallel=3"}}, map[string]string{
		"x/same/a_test.go": `package same_test

import ("flag"; "os"; "testing")

var began bool

func TestMain(m *testing.M) { began = true; flag.Parse(); os.Exit(m.Run()) }

func TestArguments(t *testing.T) {
	parallel := flag.Lookup("test.parallel").Value.String()
	if !testing.Short() || parallel != "3" || !began { t.Fatal(testing.Short(), parallel, began) }
}

func FuzzFirst(f *testing.F) { f.Add(1); f.Fuzz(func(t *testing.T, n int) {}) }
`,
		"y/same/b_test.go":        "package same\n\nimport \"testing\"\n\nfunc TestOther(t *testing.T) { if built != \"specially\" { t.Fatal(built) } }\n",
		"y/same/special.go":       "//go:build special\n\npackage same\n\nvar built = \"specially\"\n",
		"y/same/plain.go":         "//go:build !special\n\npackage same\n\nvar built = \"plainly\"\n",
		"y/same/it_test.go":       "//go:build it && !never\n\npackage same\n\nimport \"testing\"\n\nfunc TestIntegration(t *testing.T) {}\n",
		"y/same/windows_test.go":  "//go:build windows\n\npackage same\n\nimport \"testing\"\n\nfunc TestElsewhere(t *testing.T) {}\n",
		"y/same/ignored_test.go":  "//go:build ignore\n\npackage same\n\nimport \"testing\"\n\nfunc TestIgnored(t *testing.T) {}\n",
		"vendor/z/z_test.go":      "package z\n\nimport \"testing\"\n\nfunc TestVendored(t *testing.T) {}\n",
		"y/testdata/t_test.go":    "package t\n\nimport \"testing\"\n\nfunc TestData(t *testing.T) {}\n",
		"nested/go.mod":           "module example.org/nested\n",
		"nested/n_test.go":        "package n\n\nimport \"testing\"\n\nfunc TestNested(t *testing.T) {}\n",
		"half/broken_off_test.go": "package half\n\nimport \"testing\"\n\nfunc TestWhole(t *testing.T) {}\n\nfunc TestHalf(t *testing.T) {\n",
	})
	var names []string
	for name := range found {
		names = append(names, name)
	}
	slices.Sort(names)
	want := []string{"half#TestHalf", "half#TestWhole", "x/same#FuzzFirst", "x/same#TestArguments", "y/same#TestElsewhere", "y/same#TestIntegration", "y/same#TestOther"}
	if !slices.Equal(names, want) {
		t.Fatalf("found %v, want %v", names, want)
	}
	if tags := found["y/same#TestIntegration"].Tags; !slices.Equal(tags, []string{"!never", "it"}) {
		t.Errorf("the constraint gives the tags %v", tags)
	}
	tests := choose(t, found, "x/same#FuzzFirst", "x/same#TestArguments", "y/same#TestIntegration", "y/same#TestOther", "half#TestWhole")
	session := open(t, a, tests)
	ran := run.New()
	if err := session.Run(context.Background(), tests, ran.Apply); err != nil {
		t.Fatal(err)
	}
	for i, test := range tests {
		r, o := ran.Results[i], run.Passed
		if test.Group == "half" {
			o = run.Lost
		}
		if r.ID != test.ID || r.Outcome != o {
			t.Errorf("%d: %s %s (%s), want %s %s", i, r.ID, r.Outcome, r.Message, test.ID, o)
		}
	}
}

// TestPackagesThatDoNotBuild holds that each of them is one entry with its own words, whatever keeps it from being built, also
// without a test that can be read; that its tests are lost; and that the others run.
func TestPackagesThatDoNotBuild(t *testing.T) {
	header := "\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {}\n"
	a, found := module(t, Config{}, map[string]string{
		"good/x_test.go":      "package good" + header,
		"absent/x_test.go":    "package absent" + header,
		"absent/y_test.go":    "package absent\n\nimport _ \"example.com/not/there\"\n",
		"syntax/x_test.go":    "package syntax" + header + "func {\n",
		"names/x_test.go":     "package one" + header,
		"names/y.go":          "package two\n",
		"cycle/x_test.go":     "package cycle" + header,
		"cycle/y_test.go":     "package cycle\n\nimport _ \"example.org/made/cycle\"\n",
		"upon/x_test.go":      "package upon" + header,
		"upon/y.go":           "package upon\n\nimport _ \"example.org/made/wrong\"\n",
		"wrong/wrong.go":      "package wrong\n\nvar x int = \"\"\n",
		"beside/x_test.go":    "package beside" + header,
		"beside/z/x_test.go":  "package z" + header,
		"conflict/x_test.go":  "<<<<<<< HEAD\npackage conflict" + header + "=======\n",
		"empty/x_test.go":     "",
		"empty/x.go":          "package empty\n",
		"wide/x_test.go":      "\xff\xfep\x00a\x00",
		"hidden/x_test.go":    "package hidden\n\nimport \"testing\"\n\nfunc f( {\nfunc TestHidden(t *testing.T) {}\n",
		"signature/x.go":      "package signature\n",
		"signature/x_test.go": "package signature\n\nimport \"testing\"\n\nfunc TestMore(t *testing.T, n int) {}\n",
		"leaves/x_test.go":    "package leaves\n\nimport (\"os\"; \"testing\")\n\nfunc TestMain(m *testing.M) { os.Exit(3) }\n",
		"starts/x_test.go":    "package starts\n\nfunc init() { panic(\"at the start\") }\n",
		"without/x_test.go":   "package without\n\nvar x int = \"\"\nvar y = nothing\n",
		"uses/x_test.go":      "package uses\n\nimport _ \"example.org/made/wrong\"\n",
		"plain/x.go":          "package plain\n",
		"plain/x_test.go":     "package plain\n",
		"elsewhere/x.go":      "//go:build ignore\n\npackage elsewhere\n\nvar x int = \"\"\n",
		"tagged/x_test.go":    "//go:build it\n\npackage tagged" + header,
		"vetted/x.go":         "package vetted\n\nimport \"fmt\"\n\nfunc F() { fmt.Printf(\"%d\", \"x\") }\n",
	})
	words := map[string]string{"absent": "example.com/not/there", "syntax": "x_test.go:6", "names": "found packages", "cycle": "import cycle",
		"upon": "wrong.go:3", "good": "", "beside": "", "beside/z": ""}
	var tests []catalog.Test
	for group := range words {
		tests = append(tests, choose(t, found, group+"#TestX")...)
	}
	bare := map[string]string{"conflict#build": "expected 'package', found '<<'", "empty#build": "found 'EOF'", "wide#build": "UTF-16", "hidden#build": "x_test.go:5", "signature#build": "wrong signature for TestMore",
		"leaves#TestMain": "exit status 3", "starts#process": "at the start", "without#build": "undefined: nothing", "uses#build": "wrong.go:3", "wrong#build": "wrong.go:3", "vetted#build": "wrong type string"}
	again, err := a.Discover(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	ran := run.New()
	session := open(t, a, tests)
	picked := make([]*catalog.Test, len(tests))
	for i := range tests {
		picked[i] = &tests[i]
	}
	entries, err := a.Build(t.Context(), picked, again.Bare, func(string) {})
	if err != nil {
		t.Fatal(err)
	}
	if err := session.Run(context.Background(), tests, ran.Apply); err != nil {
		t.Fatal(err)
	}
	for group, said := range words {
		r, want := ran.Result("u:"+group+"#TestX"), run.Lost
		if said == "" {
			want = run.Passed
		} else {
			bare[group+"#build"] = said
		}
		if r.Outcome != want || strings.Count(r.Message, ":") == 0 && said != "" {
			t.Errorf("%s: %s, %s", group, r.Outcome, r.Message)
		}
	}
	for _, e := range entries {
		name := strings.TrimPrefix(e.ID, "u:")
		if said, known := bare[name]; !known || e.Outcome != run.Errored || !strings.Contains(e.Message+e.Output, said) {
			t.Errorf("the entry %s is %s: %s\n%s\nwant %q", e.ID, e.Outcome, e.Message, e.Output, said)
		}
		delete(bare, name)
	}
	if len(bare) > 0 {
		t.Errorf("there is no entry for %v", bare)
	}
}

// TestStaleBinary holds that a package that no longer compiles is not run from
// its old binary, and that a mended one is built again.
func TestStaleBinary(t *testing.T) {
	a, found := module(t, Config{}, map[string]string{"p/p_test.go": "package p\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {}\n"})
	tests := choose(t, found, "p#TestX")
	file := filepath.Join(a.Dir, "p", "p.go")
	for i, step := range []struct {
		source string
		want   run.Outcome
	}{{"package p\n", run.Passed}, {"package p\n\nvar x int = \"\"\n", run.Lost}, {"package p\n\nvar x int\n", run.Passed}} {
		if err := os.WriteFile(file, []byte(step.source), 0o644); err != nil {
			t.Fatal(err)
		}
		run := run.New()
		if err := open(t, a, tests).Run(context.Background(), tests, run.Apply); err != nil {
			t.Fatal(err)
		}
		if got := run.Results[0]; got.Outcome != step.want {
			t.Errorf("step %d: %s (%s), want %s", i, got.Outcome, got.Message, step.want)
		}
	}
}

// TestBinaryNames builds packages in folders with names that the toolchain reads as versions, or nearly, and others of the same
// names, in modules whose paths end in each of them.
func TestBinaryNames(t *testing.T) {
	folders := []string{".", "v0", "v1", "v2", "v10", "v01", "v1beta1", "main", "v", "a-b", "a.b", "a.v2", "api/v1", "api/v2", "other/v1", "other/v2", "api", "v1/v2", "v2/v1", "x/v0", "x/api"}
	for _, ending := range []string{"made", "v2", "v10", "v1beta1", "main", "a.b"} {
		t.Run(ending, func(t *testing.T) {
			t.Parallel()
			files := map[string]string{"go.mod": "module example.org/" + ending + "\n\ngo 1.24\n"}
			folders := folders
			if ending != "made" {
				folders = []string{".", "v1"} // only the first has the name of the module
			}
			for _, folder := range folders {
				name := map[bool]string{true: "main", false: "p"}[folder == "main"]
				files[folder+"/x_test.go"] = fmt.Sprintf("package %s\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) { t.Log(\"in %s.\") }\n", name, folder)
			}
			a, found := module(t, Config{}, files)
			var tests []catalog.Test
			for _, folder := range folders {
				tests = append(tests, choose(t, found, folder+"#TestX")...)
			}
			ran := run.New()
			session := open(t, a, tests)
			for _, test := range tests {
				if err := session.Run(t.Context(), []catalog.Test{test}, ran.Apply); err != nil {
					t.Fatal(err)
				}
				if r := ran.Result(test.ID); r.Outcome != run.Passed || !strings.Contains(string(r.Output), "in "+test.Group+".") {
					t.Errorf("%s %s: %s\n%s", test.ID, r.Outcome, r.Message, r.Output)
				}
			}
		})
	}
}

const stateful = `package deep

import (
	"os"
	"sync"
	"testing"
	"time"

	"example.org/made/clock"
)

type node struct {
	name string
	next *node
	kids map[string][]*node
	any  any
	mu   sync.Mutex
	done chan int
	call func()
}

func quiet() {}
func loud()  {}

var (
	ring    = func() *node { n := &node{name: "a"}; n.next = n; n.call = quiet; n.kids = map[string][]*node{"x": {n}}; return n }()
	large   = make([]int, 300000)
	wide    = map[int]string{}
	started = time.Now()
	timeout = time.Second
	nothing *node
	_       = 1
)

func init() { for i := range 5000 { wide[i] = "v" } }

func TestNothing(t *testing.T) {}

func TestSpoil(t *testing.T) {
	ring.kids["x"][0].call = loud
	large[20000] = 1
	wide[4999] = "w"
	timeout = time.Minute
	clock.Advance()
	os.Setenv("MADE_UP", "yes")
	os.Chdir(os.TempDir())
}

func TestVictim(t *testing.T) {}

func ExampleVictim() {
	// Output:
}
`

// TestProbe holds which state is reported to have changed: deep in a ring, in a large
// slice and map, in another package, in the environment and the working folder,
// and what differs between fresh runs is distinguished by the caller.
func TestProbe(t *testing.T) {
	a, found := module(t, Config{Limits: process.Limits{Test: time.Minute}}, map[string]string{
		"deep/deep_test.go": stateful,
		"clock/clock.go":    "package clock\n\nvar offset int\n\nfunc Advance() { offset++ }\n",
	})
	for _, victim := range []string{"deep#TestVictim", "deep#ExampleVictim"} {
		probe := func(names ...string) []hunt.Value {
			tests := choose(t, found, append(names, victim)...)
			values, err := open(t, a, tests).Probe(context.Background(), tests, nil)
			if err != nil {
				t.Fatal(err)
			}
			return values
		}
		var changed []string
		for _, c := range hunt.Compare(probe(), probe("deep#TestSpoil")) {
			changed = append(changed, c.Name)
		}
		want := []string{"clock.offset", "deep.large", "deep.ring", "deep.started", "deep.timeout", "deep.wide", "working folder", "MADE_UP"}
		slices.Sort(changed)
		slices.Sort(want)
		if !slices.Equal(changed, want) {
			t.Errorf("%s: changed is %v, want %v", victim, changed, want)
		}
		for _, c := range hunt.Compare(probe(), probe("deep#TestNothing")) {
			if c.Name != "deep.started" {
				t.Errorf("%s: a test that does nothing changed %+v", victim, c)
			}
		}
	}
}

// TestForgottenListener names, every time, a listener that nothing refers to any more, which the collector would close.
func TestForgottenListener(t *testing.T) {
	a, found := module(t, Config{Limits: process.Limits{Test: time.Minute}}, map[string]string{"serve/serve_test.go": `package serve

import (
	"net"
	"testing"
)

var sink []byte

func TestServes(t *testing.T) {
	if _, err := net.Listen("tcp", "127.0.0.1:0"); err != nil {
		t.Fatal(err)
	}
}

func TestWorks(t *testing.T) {
	for range 2000 {
		sink = make([]byte, 64<<10)
	}
}

func TestVictim(t *testing.T) {}
`})
	all := choose(t, found, "serve#TestServes", "serve#TestWorks", "serve#TestVictim")
	s := open(t, a, all)
	for range 10 {
		values, err := s.Probe(context.Background(), all, nil)
		if err != nil {
			t.Fatal(err)
		}
		at := slices.IndexFunc(values, func(v hunt.Value) bool { return v.Kind == hunt.Port })
		if at < 0 || !strings.HasPrefix(values[at].Name, "127.0.0.1:") || values[at].Text != "a listener, opened by TestServes" || values[at].File != "serve/serve_test.go" || values[at].Line != 10 {
			t.Fatalf("the port is not named among %+v", values)
		}
	}
}

// TestLeftOpen names what a test leaves beside variables, and puts back, one by one, what
// another turns on.
func TestLeftOpen(t *testing.T) {
	a, found := module(t, Config{Limits: process.Limits{Test: time.Minute}}, map[string]string{"open/open_test.go": `package open

import ("net"; "os"; "os/signal"; "path/filepath"; "syscall"; "testing")

type ring struct{ next *ring; names map[string][]any }

var held = func() *ring { r := &ring{names: map[string][]any{"a": {1, "x"}}}; r.next = r; return r }()

var start, _ = os.Getwd()

func TestSpoils(t *testing.T) {
	held.next.names["a"][1] = "y"
	held.next.names["b"] = nil
	os.Setenv("MADE_UP", "on")
	os.Chdir("/")
	os.WriteFile(filepath.Join(os.TempDir(), "left"), []byte("x"), 0o644)
	os.WriteFile(filepath.Join(start, "beside"), nil, 0o644)
	signal.Ignore(syscall.SIGHUP)
	l, _ := net.Listen("tcp", "127.0.0.1:0")
	go func() { l.Accept() }()
	t.Cleanup(func() {})
}

func TestVariable(t *testing.T) { if held.names["a"][1] != "x" || held.next != held || len(held.names) != 1 { t.Error(held) } }
func TestEnvironment(t *testing.T) { if os.Getenv("MADE_UP") != "" { t.Error("set") } }
func TestFolder(t *testing.T) { if dir, _ := os.Getwd(); dir != start { t.Error(dir) } }
func TestTemporary(t *testing.T) { if _, err := os.Stat(filepath.Join(os.TempDir(), "left")); err == nil { t.Error("there") } }
func TestBeside(t *testing.T) { if _, err := os.Stat(filepath.Join(start, "beside")); err == nil { t.Error("there") } }
`})
	all := choose(t, found, "open#TestSpoils", "open#TestVariable")
	s := open(t, a, all)
	states := make([][]hunt.Value, 2)
	for i, tests := range [][]catalog.Test{all[1:], all} {
		var err error
		if states[i], err = s.Probe(context.Background(), tests, nil); err != nil {
			t.Fatal(err)
		}
	}
	changed := map[string]hunt.Change{}
	for _, c := range hunt.Compare(states[0], states[1]) {
		name := c.Name
		if c.Kind == hunt.Port || c.Kind == hunt.Goroutine {
			name = c.Kind // of which the number, and the line, may be another
		}
		changed[name] = c
	}
	for victim, name := range map[string]string{"TestVariable": "open.held", "TestEnvironment": "MADE_UP", "TestFolder": "working folder", "TestTemporary": "$TMPDIR/left", "TestBeside": "beside"} {
		for what, want := range map[string]run.Outcome{name: run.Passed, "hangup": run.Failed} {
			var outcome run.Outcome
			err := s.Restore(context.Background(), choose(t, found, "open#TestSpoils", "open#"+victim), changed[what], func(e run.Event) {
				if e.Event == run.Finished {
					outcome = e.Outcome
				}
			})
			if err != nil || outcome != want {
				t.Errorf("with %q put back %s is %s, %v", what, victim, outcome, err)
			}
		}
	}
	if len(changed) != 8 || changed[hunt.Port].After != "a listener, opened by TestSpoils" || changed[hunt.Port].File != "open/open_test.go" || changed[hunt.Port].Line != 11 || changed[hunt.Goroutine].After != "1 running" || changed["open.held"].File != "open/open_test.go" || changed["open.held"].Line != 7 {
		t.Errorf("changed is %+v", changed)
	}
}

// log is a listener that writes down what it hears, output joined.
type log struct{ lines []string }

func (l *log) add(format string, args ...any) {
	l.lines = append(l.lines, fmt.Sprintf(format, args...))
}

func (l *log) Ended(name string) bool             { return name != "TestForged" }
func (l *log) Started(i int)                      { l.add("started %d", i) }
func (l *log) Reached(i int)                      { l.add("reached %d", i) }
func (l *log) Paused(name string)                 { l.add("paused %s", name) }
func (l *log) Continued(name string)              { l.add("continued %s", name) }
func (l *log) Step(n, step string, o run.Outcome) { l.add("step %s %s %s", n, step, o) }
func (l *log) Finished(n string, o run.Outcome, _ bool) {
	l.add("finished %s %s", n, o)
}
func (l *log) Output(name string, text []byte) {
	prefix := "output " + name + ": "
	if n := len(l.lines); n > 0 && strings.HasPrefix(l.lines[n-1], prefix) {
		l.lines[n-1] += string(text)
		return
	}
	l.add("%s%s", prefix, text)
}

const reported = "before\n\x16=== RUN   TestA\n\x16S3 started 5\nhello\n\x16=== RUN   TestA/s\n\x16--- PASS: TestA/s (0.00s)\n\x16=== NAME  TestA\nno newline" +
	"\x16S3 ended 5\n\x16--- FAIL: TestA (0.01s)\ngot:\n1\n\x16=== RUN   TestB\n=== RUN   TestFake\n--- PASS: TestFake (0.00s)\n\x16--- PASS: TestForged (0.00s)\n\x16=== PAUSE TestB\n" +
	"\x16=== CONT  TestB\n\x16--- SKIP: TestB (0.00s)\n\x16=== RUN   FernRelayExample\n\x16=== RUN   ExampleX\n\x16--- PASS: ExampleX (0.00s)\n" +
	"\x16=== NAME  \n\x16--- PASS: FernRelayExample (0.00s)\n\x16=== NAME  \n\x16PASS\n"

func heardFrom(pieces ...string) string {
	l := &log{}
	v := &testlog.Reader{Listener: l, Secret: "S3"}
	for _, piece := range pieces {
		if n, err := v.Write([]byte(piece)); n != len(piece) || err != nil {
			panic(err)
		}
	}
	v.Close()
	return strings.Join(l.lines, "|")
}

func TestVerbose(t *testing.T) {
	want := "output : before\n|started 5|output TestA: hello\n|step TestA s passed|output TestA: no newline|reached 5|output TestA: got:\n1\n|finished TestA failed|" +
		"output TestB: === RUN   TestFake\n--- PASS: TestFake (0.00s)\n--- PASS: TestForged (0.00s)\n|paused TestB|continued TestB|finished TestB skipped|" +
		"finished ExampleX passed"
	got := strings.ReplaceAll(heardFrom(reported), "no newlinegot", "no newline|output TestA: got")
	if got != want {
		t.Errorf("heard\n%s\nwant\n%s", got, want)
	}
}

// FuzzVerbose holds that it does not matter in which pieces the output comes.
func FuzzVerbose(f *testing.F) {
	f.Add(reported, 7)
	f.Add("\x16\x16=== RUN   A\n\x16--- PASS: A (0s)", 1)
	f.Fuzz(func(t *testing.T, text string, size int) {
		if size < 1 || len(text) > 10000 {
			return
		}
		var pieces []string
		for chunk := range slices.Chunk([]byte(text), size) {
			pieces = append(pieces, string(chunk))
		}
		if whole, split := heardFrom(text), heardFrom(pieces...); whole != split {
			t.Errorf("in one piece\n%q\nin pieces of %d\n%q", whole, size, split)
		}
	})
}

// TestStepsAndIsolate holds that a step that failed has its own words and place, and
// that a process holds one test where that is asked for.
func TestStepsAndIsolate(t *testing.T) {
	files := map[string]string{"p/p_test.go": `package p

import (
	"fmt"
	"testing"
)

var spoiled bool

func TestSpoils(t *testing.T) { spoiled = true }

func TestVictim(t *testing.T) {
	for i := range 4 {
		t.Run(fmt.Sprint("bed ", i), func(t *testing.T) {
			fmt.Println("watering", i)
			if i%2 == 1 {
				t.Errorf("bed %d: got 1, want 2", i)
			}
		})
	}
	if spoiled {
		t.Skip("spoiled")
	}
}
`}
	for _, isolate := range []catalog.Level{catalog.TestLevel, catalog.GroupLevel} {
		a, found := module(t, Config{Limits: process.Limits{Test: time.Minute}, Isolate: isolate}, files)
		tests := choose(t, found, "p#TestSpoils", "p#TestVictim")
		r := run.New()
		if err := open(t, a, tests).Run(context.Background(), tests, r.Apply); err != nil {
			t.Fatal(err)
		}
		victim := r.Result("u:p#TestVictim")
		if victim.Outcome != run.Failed || len(victim.Steps) != 4 || strings.Contains(string(victim.Output), "spoiled") == (isolate == catalog.TestLevel) {
			t.Errorf("isolate = %s: %s with %d steps, which printed %q", isolate, victim.Outcome, len(victim.Steps), victim.Output)
		}
		for i, s := range victim.Steps {
			message, line := "", 0
			if i%2 == 1 {
				message, line = fmt.Sprintf("bed %d: got 1, want 2", i), 17
			}
			if s.Name != fmt.Sprint("bed_", i) || s.Message != message || s.Line != line {
				t.Errorf("the step is %+v, want %q at %d", s, message, line)
			}
		}
	}
}

// TestForgedResults holds that no test makes an outcome by what it prints: not its own, not another's.
func TestForgedResults(t *testing.T) {
	a, found := module(t, Config{NoVet: true, Limits: process.Limits{Test: time.Minute}}, map[string]string{"p/p_test.go": `package p

import (
	"fmt"
	"os"
	"testing"
)

const pass = "\n\x16--- PASS: %s (0.00s)\n\x16=== RUN   TestNext\n\x16=== NAME  TestNext\n"

func TestForge(t *testing.T) {
	fmt.Printf(pass, "TestForge")
	fmt.Printf(pass, "TestNext")
	fmt.Printf(pass, "ExampleForge")
	t.Fail()
}

func TestNext(t *testing.T) { t.Error("wrong") }

func TestSkips(t *testing.T) { fmt.Printf(pass, "TestSkips"); t.Skip("no pump") }

func TestPanics(t *testing.T) {
	t.Cleanup(func() { fmt.Printf(pass, "TestPanics") })
	var m map[string]int
	m["x"] = 1
}

func TestCleanup(t *testing.T) { t.Cleanup(func() { t.Error("late") }) }

func TestStep(t *testing.T) {
	t.Run("s", func(t *testing.T) { t.Parallel(); t.Error("wrong") })
	fmt.Printf(pass, "TestStep")
}

func TestClosed(t *testing.T) { os.Stdout.Close() }

func ExampleForge() {
	fmt.Fprintf(os.Stderr, pass, "ExampleForge")
	fmt.Println("one")
	// Output: two
}
`})
	want := map[string]run.Outcome{"p#TestForge": run.Failed, "p#TestNext": run.Failed, "p#TestSkips": run.Skipped,
		"p#TestPanics": run.Errored, "p#TestCleanup": run.Failed, "p#TestStep": run.Failed, "p#TestClosed": run.Passed, "p#ExampleForge": run.Failed}
	for _, order := range [][]string{
		{"p#TestForge", "p#TestNext", "p#TestSkips", "p#TestPanics", "p#TestCleanup", "p#TestStep", "p#ExampleForge"},
		{"p#ExampleForge", "p#TestStep", "p#TestPanics", "p#TestForge", "p#TestClosed"},
	} {
		run := run.New()
		if err := open(t, a, choose(t, found, order...)).Run(context.Background(), choose(t, found, order...), run.Apply); err != nil {
			t.Fatal(err)
		}
		for _, name := range order {
			if r := run.Result("u:" + name); r == nil || r.Outcome != want[name] {
				t.Errorf("%s: %+v, want %s", name, r, want[name])
			}
		}
		if len(run.Results) != len(order) {
			t.Errorf("%d results, want %d", len(run.Results), len(order))
		}
	}
}

// TestSilentProcess holds that a package that hangs in its initialization, or in TestMain before or
// after its tests, ends with an outcome that says so and shows where.
func TestSilentProcess(t *testing.T) {
	files := map[string]string{}
	for name, text := range map[string]string{
		"starts": "func init() { time.Sleep(time.Hour) }",
		"before": "func TestMain(m *testing.M) { time.Sleep(time.Hour) }",
		"after":  "func TestMain(m *testing.M) { m.Run(); time.Sleep(time.Hour) }",
		"dies":   "func TestMain(m *testing.M) { m.Run(); fmt.Println(\"cannot drop the database\"); os.Exit(7) }",
	} {
		files[name+"/x_test.go"] = "package " + name + "\n\nimport (\n\t\"fmt\"\n\t\"os\"\n\t\"testing\"\n\t\"time\"\n)\n\nvar _ = fmt.Sprint(os.Args, time.Now)\n\n" +
			text + "\n\nfunc TestX(t *testing.T) {}\n"
	}
	a, found := module(t, Config{NoVet: true, Limits: process.Limits{Test: time.Minute, Idle: time.Second}}, files)
	for name, want := range map[string]string{
		"starts": "u:starts#TestX timed-out the test binary was still running 1s before its first test, and killed, in the initialization of its packages or in TestMain at starts/x_test.go:12",
		"before": "u:before#TestX timed-out the test binary was still running 1s before its first test, and killed, in the initialization of its packages or in TestMain at before/x_test.go:12",
		"after":  "u:after#TestX passed  at :0|u:after#TestMain timed-out the test binary was still running 1s after its last test, and killed at after/x_test.go:12",
		"dies":   "u:dies#TestX passed  at :0|u:dies#TestMain errored no test failed, and then the process ended with exit status 7: cannot drop the database at :0",
	} {
		tests := choose(t, found, name+"#TestX")
		ran := run.New()
		if err := open(t, a, tests).Run(context.Background(), tests, ran.Apply); err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, r := range ran.Results {
			got = append(got, fmt.Sprintf("%s %s %s at %s:%d", r.ID, r.Outcome, r.Message, r.File, r.Line))
			if r.Outcome == run.TimedOut && !strings.Contains(string(r.Output), "goroutine 1 ") {
				t.Errorf("%s: no stacks in %q", r.ID, r.Output)
			}
		}
		if all := strings.Join(got, "|"); all != want {
			t.Errorf("%s:\n%s, want\n%s", name, all, want)
		}
	}
}
