package host

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/cause"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/process"
)

// TestMain lets the test binary be the host as well, as a real second process.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "be-a-host" {
		beHost(os.Args[2:])
		return
	}
	os.Exit(m.Run())
}

// beHost is a host whose tests do what their names say.
func beHost(traits []string) {
	state := 0
	send := func(m Message) {
		m.Version = "2.0"
		line, _ := json.Marshal(m)
		fmt.Println(string(line))
	}
	note := func(method string, n Note) {
		params, _ := json.Marshal(n)
		send(Message{Method: method, Params: params})
	}
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		var m Message
		_ = json.Unmarshal(lines.Bytes(), &m)
		answer := Message{ID: m.ID, Result: json.RawMessage("{}")}
		switch m.Method {
		case MethodHello:
			answer.Result = json.RawMessage(`{"protocol":"fern-host/1","name":"made up"}`)
			if slices.Contains(traits, "of-another-time") {
				answer.Result = json.RawMessage(`{"protocol":"fern-host/9"}`)
			}
			if slices.Contains(traits, "that-can-nothing") {
				answer.Result = json.RawMessage(`{"protocol":"fern-host/1","can":[]}`)
			}
			if slices.Contains(traits, "that-knows-imports") {
				answer.Result = json.RawMessage(`{"protocol":"fern-host/1","can":["imports","side-by-side"]}`)
			}
			if slices.Contains(traits, "slow-to-start") {
				time.Sleep(time.Hour)
			}
		case MethodDiscover:
			answer.Result = json.RawMessage(`{"tests":[{"group":"g","name":"a b","tags":["x"],"file":"f.py","line":3,"timeout":0.5},{"group":"g","name":"rule","rules":{"skip":"why"},"uses":["data/x.csv"]}],"broken":[{"group":"b","file":"b.py","line":2,"message":"no"}]}`)
		case MethodImports:
			answer.Result = json.RawMessage(`{"imports":{"f.py":["one.py"],"one.py":["sub/two.py","f.py"],"b.py":["gone.py"]}}`)
		case MethodReset:
			state = 0
			if slices.Contains(traits, "without-reset") {
				answer.Result, answer.Error = nil, &Error{Message: "no such method"}
			}
		case MethodState:
			answer.Result = json.RawMessage(fmt.Sprintf(`{"values":[{"kind":"variable","name":"state","value":"%d"}]}`, state))
		case MethodRun:
			var params RunParams
			_ = json.Unmarshal(m.Params, &params)
			for _, t := range params.Tests {
				beTest(t.TestName, &state, note)
			}
		}
		send(answer)
		if m.Method == MethodBye {
			return
		}
	}
}

func beTest(t TestName, state *int, note func(string, Note)) {
	if t.Name == "silent" {
		return
	}
	note(NoteStarted, Note{TestName: t})
	switch t.Name {
	case "dies":
		fmt.Fprintln(os.Stderr, "famous last words")
		os.Exit(3)
	case "hangs":
		time.Sleep(time.Hour)
	case "prints":
		fmt.Println("not a message")
		fmt.Println(`{"also":"not"}`)
		fmt.Fprintln(os.Stderr, "to the side")
		time.Sleep(50 * time.Millisecond) // the two streams are not ordered
	case "spoils":
		*state++
	case "one line":
		_, _ = os.Stdout.Write(bytes.Repeat([]byte("x"), maxLine+1))
	case "deep":
		note(NoteOutput, Note{Text: "of no test\n"})
		note(NoteFinished, Note{TestName: t, Outcome: run.Errored, Class: "KeyError", Failure: run.Failure{Message: "'west'"}, Frames: []cause.Frame{{File: "one.py", Line: 4, Function: "fill"}, {File: "f.py", Line: 3}}})
		return
	case "steps":
		note(NoteStep, Note{TestName: t, Step: "first", Outcome: run.Passed, Seconds: 0.1})
		note(NoteStep, Note{TestName: t, Step: "second", Failure: run.Failure{Message: "dry", File: "f.py", Line: 9}, Outcome: run.Failed})
	}
	n := Note{TestName: t, Outcome: run.Passed, Seconds: 0.25}
	switch {
	case t.Name == "fails" || t.Name == "victim" && *state > 0:
		n.Outcome, n.Message, n.File, n.Line, n.Expected, n.Actual = run.Failed, "no", "f.py", 7, "1", "2"
	case t.Name == "invents":
		n.Outcome = "splendid"
	}
	note(NoteFinished, n)
}

func newAdapter(t *testing.T, traits ...string) *Adapter {
	t.Helper()
	return New(Config{Suite: "s", Dir: t.TempDir(), Below: "sub", Limits: process.Limits{Test: time.Minute},
		Command: append([]string{os.Args[0], "be-a-host"}, traits...)})
}

func tests(names ...string) []catalog.Test {
	var out []catalog.Test
	for _, name := range names {
		out = append(out, catalog.Test{ID: catalog.ID("s", "g", name), Suite: "s", Group: "g", Name: name})
	}
	return out
}

func open(t *testing.T, a *Adapter) adapter.Session {
	t.Helper()
	s, err := a.Open(context.Background(), process.Slot{Number: 1, Temp: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// play runs tests and returns the run that they add up to.
func play(t *testing.T, s adapter.Session, names ...string) *run.Run {
	t.Helper()
	r := run.New()
	if err := s.Run(context.Background(), tests(names...), r.Apply); err != nil {
		t.Fatal(err)
	}
	return r
}

func TestRun(t *testing.T) {
	a := newAdapter(t)
	a.Limits.Test = 2 * time.Second
	r := play(t, open(t, a), "first", "fails", "dies", "prints", "silent", "hangs", "invents", "last")
	for name, want := range map[string]run.Outcome{
		"first": run.Passed, "fails": run.Failed, "dies": run.Errored, "prints": run.Passed, "silent": run.Errored,
		"hangs": run.TimedOut, "invents": run.Errored, "last": run.Passed,
	} {
		if got := r.Result("s:g#" + name); got == nil || got.Outcome != want {
			t.Errorf("%s: %+v, want %s", name, got, want)
		}
	}
	if f := r.Result("s:g#fails"); f.File != "sub/f.py" || f.Line != 7 || f.Expected != "1" || f.Seconds != 0.25 {
		t.Errorf("the failure came as %+v", f)
	}
	for name, words := range map[string]string{"dies": "exit status 3; its last words: famous last words", "silent": "reported no outcome", "hangs": "timed out at 2s", "invents": "splendid"} {
		if m := r.Result("s:g#" + name).Message; !strings.Contains(m, words) {
			t.Errorf("%s says %q", name, m)
		}
	}
	for _, words := range []string{"not a message", `{"also":"not"}`, "to the side"} {
		if out := string(r.Result("s:g#prints").Output); !strings.Contains(out, words) {
			t.Errorf("%q is not in what was printed: %q", words, out)
		}
	}
}

// TestStateOfASession holds that state leaks from run to run, and that Reset and
// Probe begin afresh, with and without the host's help.
func TestStateOfASession(t *testing.T) {
	for _, traits := range [][]string{nil, {"without-reset"}} {
		s := open(t, newAdapter(t, traits...))
		play(t, s, "spoils")
		if r := play(t, s, "victim"); r.Counts[run.Failed] != 1 {
			t.Errorf("%v: the state did not leak", traits)
		}
		if err := s.Reset(context.Background()); err != nil {
			t.Fatal(err)
		}
		if r := play(t, s, "victim"); r.Counts[run.Passed] != 1 {
			t.Errorf("%v: the state outlived the reset", traits)
		}
		for order, want := range map[string]string{"victim": "0", "spoils spoils victim": "2"} {
			values, err := s.Probe(context.Background(), tests(strings.Fields(order)...), nil)
			if err != nil || len(values) != 1 || values[0].Text != want {
				t.Errorf("%v: %s begins with %v, %v; want %s", traits, order, values, err, want)
			}
		}
	}
}

// TestSteps holds what is reported of the parts of a test.
func TestSteps(t *testing.T) {
	steps := play(t, open(t, newAdapter(t)), "steps").Result("s:g#steps").Steps
	if len(steps) != 2 || steps[0].Name != "first" || steps[0].Seconds != 0.1 || steps[1].Message != "dry" || steps[1].File != "sub/f.py" || steps[1].Line != 9 {
		t.Errorf("the steps are %+v", steps)
	}
}

// TestAbilities holds that a host is not asked for what it cannot do, and that the message says so.
func TestAbilities(t *testing.T) {
	a := newAdapter(t, "that-can-nothing")
	s := open(t, a)
	play(t, s, "spoils")
	if err := s.Reset(t.Context()); err != nil || play(t, s, "victim").Counts[run.Passed] != 1 {
		t.Errorf("the state outlived the process, which cannot be reset: %v", err)
	}
	part := tests("steps")
	part[0].Ask(func(asked *catalog.Asked) { asked.Steps = []string{"first"} })
	r := run.New()
	if err := s.Run(t.Context(), part, r.Apply); err != nil || !strings.Contains(r.Result("s:g#steps").Message, "cannot run single steps") {
		t.Errorf("a step alone: %v, %+v", err, r.Result("s:g#steps"))
	}
	if _, err := s.Probe(t.Context(), part, nil); err == nil || !strings.Contains(err.Error(), "cannot report its state") {
		t.Errorf("the state: %v", err)
	}
	if err := s.Restore(t.Context(), part, hunt.Change{}, r.Apply); err == nil {
		t.Error("a piece of state is restored")
	}
	if _, err := a.Repairs(t.Context(), &part[0], nil, false); err == nil || !strings.Contains(err.Error(), "proposes no repairs") {
		t.Errorf("repairs: %v", err)
	}
	found, err := a.Discover(t.Context())
	if err != nil || len(found.Tests) != 2 || !slices.Equal(found.Tests[0].Rules().Holds, []string{"the process of s"}) {
		t.Errorf("its tests may run side by side: %+v, %v", found.Tests, err)
	}
	slow := newAdapter(t, "slow-to-start")
	slow.Limits.Start = 100 * time.Millisecond
	if _, err := slow.Discover(t.Context()); err == nil || !strings.Contains(err.Error(), "did not answer hello within 100ms") {
		t.Errorf("a slow start: %v", err)
	}
}

// TestErrorOfClass holds that the class and the frames of an error are in its message and in the test's output, as output of no test is
// in that of the test that runs.
func TestErrorOfClass(t *testing.T) {
	deep := play(t, open(t, newAdapter(t)), "deep").Result("s:g#deep")
	if want := "of no test\n    at fill (sub/one.py:4)\n    at <anonymous> (sub/f.py:3)\n"; deep.Message != "KeyError: 'west'" || string(deep.Output) != want {
		t.Errorf("the message is %q, the output %q", deep.Message, deep.Output)
	}
}

// TestTouched holds which tests a change touches: those whose file imports what changed, over any number of files, or that read it.
func TestTouched(t *testing.T) {
	a := newAdapter(t, "that-knows-imports")
	found, err := a.Discover(t.Context())
	if err != nil || found.Tests[0].Limit != 500*time.Millisecond {
		t.Fatalf("%v, %+v", err, found.Tests)
	}
	broken := catalog.Test{ID: "s:b#build", Suite: "s", Group: "b", Name: "build"}
	for changed, want := range map[string]string{"sub/two.py": "sub/sub/two.py changed||", "one.py": "sub/one.py changed||", "data/x.csv": "|sub/data/x.csv changed|", "other.py": "||", "gone.py": "||sub/gone.py changed", "b.py": "||sub/b.py changed"} {
		touched, err := a.Touched([]string{filepath.Join(a.Dir, changed)})
		if err != nil {
			t.Fatal(err)
		}
		if got := touched(&found.Tests[0]) + "|" + touched(&found.Tests[1]) + "|" + touched(&broken); got != want {
			t.Errorf("%s touches %q, want %q", changed, got, want)
		}
	}
}

// TestEndlessLine ends a host that prints a line without end where a message is
// expected; the tests behind it run all the same.
func TestEndlessLine(t *testing.T) {
	r := play(t, open(t, newAdapter(t)), "first", "one line", "last")
	if got := r.Result("s:g#one line"); got.Outcome != run.Errored || !strings.Contains(got.Message, "it printed a line of more than 16 MB") {
		t.Errorf("is %s: %s", got.Outcome, got.Message)
	}
	if r.Counts[run.Passed] != 2 {
		t.Errorf("the run is %s", r.Summary())
	}
}

// TestIsolate holds what one process holds.
func TestIsolate(t *testing.T) {
	for isolate, want := range map[catalog.Level]run.Outcome{catalog.TestLevel: run.Passed, catalog.GroupLevel: run.Failed, catalog.SuiteLevel: run.Failed} {
		a := newAdapter(t)
		a.Isolate = isolate
		if r := play(t, open(t, a), "spoils", "victim").Result("s:g#victim"); r.Outcome != want {
			t.Errorf("isolate = %s: the victim %s, want %s", isolate, r.Outcome, want)
		}
	}
}

func TestCancel(t *testing.T) {
	s := open(t, newAdapter(t))
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(200*time.Millisecond, cancel)
	began := time.Now()
	err := s.Run(ctx, tests("first", "hangs"), func(run.Event) {})
	if err == nil || time.Since(began) > 30*time.Second {
		t.Errorf("it ended after %s with %v", time.Since(began), err)
	}
}

func TestDiscover(t *testing.T) {
	found, err := newAdapter(t).Discover(context.Background())
	if err != nil || len(found.Tests) != 2 || found.Tests[0].ID != "s:g#a b" || found.Tests[0].File != "sub/f.py" || found.Tests[0].Kind != catalog.KindTest || found.Tests[1].Rules().Skip != "why" {
		t.Errorf("found %+v, %v", found, err)
	}
	if _, err := newAdapter(t, "of-another-time").Discover(context.Background()); err == nil || !strings.Contains(err.Error(), "fern-host/9") {
		t.Errorf("another protocol: %v", err)
	}
	a := New(Config{Suite: "s", Dir: t.TempDir(), Command: []string{"/no/such/program"}})
	if _, err := a.Discover(context.Background()); err == nil || !strings.Contains(err.Error(), "/no/such/program") {
		t.Errorf("no program: %v", err)
	}
}

// TestNeeds skips a test whose need did not pass, also where that died, and runs
// the others in the same process.
func TestNeeds(t *testing.T) {
	batch := tests("first", "fails", "wants fails", "wants first", "dies", "wants dies", "wants wants")
	for i, need := range map[int]string{2: "fails", 3: "first", 5: "dies", 6: "wants dies"} {
		batch[i].AddRules(catalog.Rules{Needs: []string{catalog.ID("s", "g", need)}}, "")
	}
	run := run.New()
	if err := open(t, newAdapter(t)).Run(context.Background(), batch, run.Apply); err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"passed", "failed no", "skipped needs s:g#fails, which did not pass (failed)", "passed", "errored", "skipped needs s:g#dies, which did not pass (errored)", "skipped needs s:g#wants dies, which did not pass (skipped)"} {
		r := run.Result(batch[i].ID)
		if got := string(r.Outcome) + " " + r.Message; !strings.HasPrefix(got, want) {
			t.Errorf("%s: %s, want %s", r.ID, got, want)
		}
	}
}

// FuzzMessages holds that no output of a host breaks a run: every test has at most one outcome.
func FuzzMessages(f *testing.F) {
	f.Add(`{"jsonrpc":"2.0","method":"started","params":{"group":"g","name":"a"}}` + "\n" + `{"jsonrpc":"2.0","method":"finished","params":{"group":"g","name":"a","outcome":"passed","seconds":1e300,"line":-4}}` + "\n" + `{"jsonrpc":"2.0","id":1,"result":{}}`)
	f.Add("no message\n{\"jsonrpc\":\"2.0\",\"method\":\"output\",\"params\":{\"text\":\"\\u001b\"}}\n{\"jsonrpc\":\"2.0\",\"id\":1,\"error\":{\"message\":\"no\"}}\n")
	f.Fuzz(func(t *testing.T, text string) {
		beside, err := process.NewPipe(io.Discard)
		if err != nil {
			t.Fatal(err)
		}
		defer beside.Close()
		s := &session{adapter: New(Config{Suite: "s"}), stdin: nopCloser{io.Discard}, lines: bufio.NewScanner(strings.NewReader(text)), beside: beside}
		s.lines.Buffer(nil, maxLine)
		tests := []catalog.Test{{ID: "s:g#a", Suite: "s", Group: "g", Name: "a"}, {ID: "s:g#b", Suite: "s", Group: "g", Name: "b"}}
		outcomes := map[string]int{}
		batch := adapter.NewRecorder(tests, process.Limits{}, func(e run.Event) {
			if e.Event == run.Finished {
				outcomes[e.ID]++
			}
		})
		_ = s.runOnce(t.Context(), tests, batch)
		batch.Exited()
		for id, n := range outcomes {
			if n > 1 {
				t.Errorf("%s has %d outcomes", id, n)
			}
		}
	})
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }
