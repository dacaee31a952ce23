// Package testhost is the demo's test host: it registers tests and shared state
// and serves them over the test-host protocol.
//
//	func init() {
//		testhost.Test("opens_at_dawn", "quick valve", func(t *testhost.T) {
//			t.Equal("valve 2", valves.State(2), "open")
//		})
//	}
package testhost

import (
	"fmt"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter/host"
)

// root rules the part of a source path above the demo project's folder.
const root = "internal/demo/glasshouse/"

type test struct {
	host.Test
	body func(*T)
}

// registered returns the tests. Each is put together only when the host serves it, as all commands of the program register the
// tests.
var registered []func() test

// Option changes how a test is declared.
type Option func(*catalog.Rules)

// Skip rules a test that is not to run.
func Skip(reason string) Option { return func(m *catalog.Rules) { m.Skip = reason } }

// ExpectFail rules a test that is known to fail.
func ExpectFail(reason string) Option { return func(m *catalog.Rules) { m.ExpectFail = reason } }

// Test registers a test under the place of its caller: its group is the caller's folder, with the file's name if
// that differs.
func Test(name, tags string, body func(*T), options ...Option) {
	var pc [1]uintptr
	runtime.Callers(2, pc[:])
	registered = append(registered, func() test {
		frame, _ := runtime.CallersFrames(pc[:]).Next()
		return declare(within(frame.File), frame.Line, name, tags, body, options)
	})
}

func declare(file string, line int, name, tags string, body func(*T), options []Option) test {
	group := path.Dir(file)
	if base := strings.TrimSuffix(path.Base(file), ".go"); base != path.Base(group) {
		group += "/" + base
	}
	declared := host.Test{TestName: host.TestName{Group: group, Name: name}, File: file, Line: line, Tags: strings.Fields(tags)}
	for _, option := range options {
		option(&declared.Rules)
	}
	return test{declared, body}
}

// caller returns the place of a caller inside the demo project.
func caller(skip int) (file string, line int) {
	_, file, line, _ = runtime.Caller(skip)
	return within(file), line
}

// within returns a file's path within the demo project.
func within(file string) string {
	_, file, _ = strings.Cut(file, root)
	return file
}

// variable is a piece of shared state.
type variable struct {
	name  string
	file  string
	line  int
	text  func() string
	reset func()
}

var variables []variable

// Variable declares a package variable by its name, so that the host can report and restore it.
func Variable[V any](name string, initial func() V) *V {
	pointer := new(V)
	*pointer = initial()
	file, line := caller(2)
	variables = append(variables, variable{
		name:  name,
		file:  file,
		line:  line,
		text:  func() string { return fmt.Sprint(*pointer) },
		reset: func() { *pointer = initial() },
	})
	return pointer
}

// Mended reports whether the demo's switch is on, with which a culprit restores what it changed.
func Mended() bool { return os.Getenv("GLASS_MENDED") == "on" }

// T is a running test.
type T struct {
	test     *test
	notify   func(method string, note host.Note)
	temp     string
	cleanups []func()
	note     host.Note // of its end
	steps    []string  // the only ones that run; empty for all
	inside   bool      // of one of those
}

// stop ends a test's body early.
type stop struct{}

// Temp is a folder that all tests of the process share.
func (t *T) Temp() string { return t.temp }

// Wait lets the time pass that a device takes. Those on the bus answer sooner if its line is fast.
func (t *T) Wait(d time.Duration) {
	if slices.Contains(t.test.Tags, "bus") && os.Getenv("GLASS_BUS") == "38400" {
		d = d * 2 / 3
	}
	time.Sleep(d)
}

// Cleanup restores something when the test has ended.
func (t *T) Cleanup(f func()) { t.cleanups = append(t.cleanups, f) }

// Log prints a line.
func (t *T) Log(args ...any) {
	t.notify(host.NoteOutput, host.Note{TestName: t.test.TestName, Text: fmt.Sprintln(args...)})
}

// Equal fails the test if the two do not look the same.
func (t *T) Equal(what string, got, want any) {
	actual, expected := fmt.Sprint(got), fmt.Sprint(want)
	if actual == expected {
		return
	}
	t.fail(fmt.Sprintf("%s: got %s, want %s", what, actual, expected))
	t.note.Expected, t.note.Actual = expected, actual
	panic(stop{})
}

// Check fails the test if there is an error.
func (t *T) Check(err error) {
	if err != nil {
		t.fail(err.Error())
		panic(stop{})
	}
}

// Fatalf fails the test with a message and ends it.
func (t *T) Fatalf(format string, args ...any) {
	t.fail(fmt.Sprintf(format, args...))
	panic(stop{})
}

func (t *T) fail(message string) {
	t.note.Outcome, t.note.Message = run.Failed, message
	t.note.File, t.note.Line = caller(3)
	t.Log(fmt.Sprintf("%s:%d: %s", path.Base(t.note.File), t.note.Line, message))
}

// Step runs a part of the test under a name of its own.
func (t *T) Step(name string, body func()) {
	if len(t.steps) > 0 && !t.inside && !slices.Contains(t.steps, name) {
		return
	}
	defer func(inside bool) { t.inside = inside }(t.inside)
	t.inside = true
	began := time.Now()
	o := run.Failed
	defer func() {
		note := host.Note{TestName: t.test.TestName, Step: name, Outcome: o, Seconds: time.Since(began).Seconds()}
		if o == run.Failed {
			note.Message, note.File, note.Line = t.note.Message, t.note.File, t.note.Line
		}
		t.notify(host.NoteStep, note)
	}()
	body()
	o = run.Passed
}

// runTest runs one test, or only some steps of it, and reports it.
func runTest(tt *test, temp string, steps []string, notify func(method string, note host.Note)) {
	t := &T{test: tt, notify: notify, temp: temp, steps: steps, note: host.Note{TestName: tt.TestName, Outcome: run.Passed}}
	notify(host.NoteStarted, host.Note{TestName: tt.TestName})
	began := time.Now()
	t.guarded(func() { tt.body(t) })
	for _, f := range slices.Backward(t.cleanups) {
		t.guarded(f)
	}
	t.note.Seconds = time.Since(began).Seconds()
	notify(host.NoteFinished, t.note)
}

// guarded turns a panic into the outcome of the test.
func (t *T) guarded(f func()) {
	defer func() {
		problem := recover()
		if _, stopped := problem.(stop); problem == nil || stopped {
			return
		}
		t.note.Outcome, t.note.Message = run.Errored, fmt.Sprint("panic: ", problem)
		t.note.File, t.note.Line = t.test.File, t.test.Line
	}()
	f()
}
