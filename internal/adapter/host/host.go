// Package host finds and runs the tests of programs that speak the test-host protocol, which gives any language
// exact order in one process.
//
//	a := host.New(host.Config{Suite: "devices", Dir: dir, Command: []string{"./test-host"}})
//	found, err := a.Discover(ctx)
//
// A session is one process of the program, which runs everything for its worker, so that state may leak from any
// test to any later one. A fresh process replaces one that ends during a test.
package host

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"sync"

	"fernrelay/core/catalog"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/process"
)

// Config is what a suite behind a test host needs to know.
type Config struct {
	Suite   string
	Dir     string   // the suite's folder, absolute: in which the program runs
	Below   string   // the suite's folder as seen from the project, with slashes
	Command []string // the program and its arguments
	process.Limits
	Isolate catalog.Level // what one process holds: a test, a group, or else all of a worker
}

// Adapter finds and runs the tests of one host.
type Adapter struct {
	Config
	broken  map[string][]Broken                 // by group: the files that could not be read
	uses    map[string][]string                 // by ID of a test: the files that it reads; absolute paths
	imports func() (map[string][]string, error) // by file: those that it imports; absolute paths
	sources map[string]string                   // contents to use instead of those of files
}

// New makes the adapter.
func New(config Config) *Adapter {
	a := &Adapter{Config: config}
	a.imports = sync.OnceValues(a.askImports)
	return a
}

// Scope is the suite, as one process runs all that its worker is given, unless each
// holds less.
func (a *Adapter) Scope() catalog.Level { return cmp.Or(a.Isolate, catalog.SuiteLevel) }

// together counts the tests at the front that one process may hold.
func (a *Adapter) together(tests []catalog.Test) int {
	tests = tests[:adapter.Shared(tests)]
	switch a.Isolate {
	case catalog.TestLevel:
		return 1
	case catalog.GroupLevel:
		for i := range tests {
			if tests[i].Group != tests[0].Group {
				return i
			}
		}
	}
	return len(tests)
}

// Prepare has nothing to do.
func (a *Adapter) Prepare(context.Context, []*catalog.Test, func(string)) error { return nil }

// Build prepares nothing. It returns an entry for each of the groups with a file that the host could not read.
func (a *Adapter) Build(_ context.Context, _ []*catalog.Test, bare []string, _ func(string)) (entries []adapter.Entry, err error) {
	for _, group := range bare {
		for _, b := range a.broken[group] {
			e := run.Event{ID: catalog.ID(a.Suite, group, run.BuildEntry), Outcome: run.Errored, Failure: run.Failure{Message: b.Message, File: a.projectFile(b.File), Line: b.Line}}
			entries = append(entries, adapter.Entry{Event: e})
		}
	}
	return entries, nil
}

// Open makes a session. Its process begins with the first run.
func (a *Adapter) Open(_ context.Context, slot process.Slot) (adapter.Session, error) {
	return &session{adapter: a, slot: slot}, nil
}

func (a *Adapter) projectFile(file string) string {
	if file == "" {
		return ""
	}
	return path.Join(a.Below, file)
}

// session is one process of the host, or none.
type session struct {
	adapter *Adapter
	slot    process.Slot

	mu      sync.Mutex // guards the five below against other goroutines
	cmd     *process.Process
	running string // the ID of the test that runs
	batch   *adapter.Recorder
	stray   []byte // what was printed while none ran
	killed  bool   // the process was killed by us

	group    string // of the latest test that the process was asked to run
	isolated bool   // it has the process for itself
	stdin    io.WriteCloser
	printed  *process.Pipe  // its standard output
	sources  []io.Reader    // of that and of its channel
	lines    *bufio.Scanner // of its messages
	secret   string         // begins each message; empty for those on the standard output
	stderr   *process.Tail
	hello    HelloResult
	beside   *process.Pipe // what it prints beside its messages
	calls    int
	beyond   []string // what it reported that no outcome of its tests shows
	ended    <-chan struct{}
	ending   string // how it ended, readable once ended is closed
}

// tailLimit bounds the kept part of what a host prints beside its messages, in bytes.
const tailLimit = 4 << 10

// maxLine bounds one message of a host, in bytes.
const maxLine = 16 << 20

// Reset asks the process for a fresh state, and replaces it if it cannot provide one.
func (s *session) Reset(ctx context.Context) error {
	if s.cmd == nil {
		return nil
	}
	defer context.AfterFunc(ctx, s.kill)()
	if !s.can(CanReset) || s.ask(s.adapter.Handshake, MethodReset, struct{}{}, nil) != nil {
		s.end()
	}
	return ctx.Err()
}

// Run runs the tests in order in the session's process.
func (s *session) Run(ctx context.Context, tests []catalog.Test, sink run.Sink) error {
	defer context.AfterFunc(ctx, s.kill)()
	batch := adapter.NewRecorder(tests, s.slot.Limits(s.adapter.Limits), sink)
	for {
		next := batch.Next()
		if len(next) == 0 {
			return nil
		}
		next = next[:s.adapter.together(next[:batch.Settled(next)])]
		s.alone(&next[0], sink)
		fresh := s.cmd == nil
		if err := s.begin(ctx); err != nil {
			return err
		}
		before := s.cmd.Usage()
		err := s.runOnce(ctx, next, batch)
		sink(s.cmd.Usage().Since(before).Event(""))
		if why := s.takeBeyond(); why != "" {
			s.reportBeyond(sink, run.Errored, why)
		}
		silent := batch.Exited()
		if err == nil {
			continue
		}
		tooLong := errors.Is(s.lines.Err(), bufio.ErrTooLong)
		ending := s.end()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if tooLong {
			ending = fmt.Sprintf("it printed a line of more than %d MB, and was killed", maxLine>>20)
		}
		done := batch.Done(next)                                       // before the end is that of a test
		batch.Ended(ending, func(words string) (string, string, int) { // its own words, or else the last that are known
			return process.LastLines(cmp.Or(strings.TrimSpace(words), s.stderr.String()), tailLimit), "", 0
		})
		switch {
		case silent == adapter.BeforeTests:
			return fmt.Errorf("the test host of suite %s was asked to run and was %s%s", s.adapter.Suite, batch.Silent(silent), s.lastWords())
		case !batch.Began() && fresh:
			return fmt.Errorf("the test host of suite %s ended before its first test: %s%s", s.adapter.Suite, ending, s.lastWords())
		case silent == adapter.AfterTests:
			s.reportBeyond(sink, run.TimedOut, "the test host was "+batch.Silent(silent)+": it did not answer "+MethodRun)
		case done:
			s.reportBeyond(sink, run.Errored, "after its last test the test host ended with "+ending)
		}
	}
}

// can reports whether the host has an ability; also if it does not say.
func (s *session) can(ability string) bool {
	return s.hello.Can == nil || slices.Contains(s.hello.Can, ability)
}

// reportBeyond reports what the process did beyond its tests.
func (s *session) reportBeyond(sink run.Sink, o run.Outcome, message string) {
	id := catalog.ID(s.adapter.Suite, s.group, run.ProcessEntry)
	adapter.ReportBeyond(sink, run.Event{ID: id, Outcome: o, Failure: run.Failure{Message: message}}, s.stderr.String())
}

// mostBeyond bounds what is kept of what a process reports beyond its tests.
const mostBeyond = 10

// noteBeyond keeps what no outcome of a test shows until it is reported.
func (s *session) noteBeyond(why string) {
	if len(s.beyond) < mostBeyond {
		s.beyond = append(s.beyond, why)
	}
}

// takeBeyond returns what was kept since the last time, "" if there is nothing.
func (s *session) takeBeyond() string {
	why := strings.Join(s.beyond, "; ")
	s.beyond = nil
	return why
}

// alone ends the process if what comes next must not be in it.
func (s *session) alone(next *catalog.Test, sink run.Sink) {
	isolated := next.Rules().Isolate != ""
	if isolated || s.isolated || s.adapter.Isolate == catalog.TestLevel || s.adapter.Isolate == catalog.GroupLevel && s.group != next.Group {
		if err := s.Close(); err != nil {
			s.reportBeyond(sink, run.Errored, err.Error())
		}
	}
	s.group, s.isolated = next.Group, isolated
}

// runOnce asks the process to run the tests. Tests about which a host that answers says nothing are errored; an
// error means that the process is gone.
func (s *session) runOnce(ctx context.Context, tests []catalog.Test, batch *adapter.Recorder) error {
	if tests = s.withoutSteps(tests, batch); len(tests) == 0 {
		return nil
	}
	batch.Begin(s.kill)
	s.attend(batch)
	defer s.attend(nil)
	err := s.call(MethodRun, runParams(tests), nil, func(method string, note Note) { s.notified(batch, method, note) })
	var refused *Error
	if err != nil && !errors.As(err, &refused) {
		return err
	}
	message := "the test host reported no outcome for it"
	if refused != nil {
		message = "the test host refuses to run it: " + refused.Message
		if batch.Done(tests) {
			s.noteBeyond("the test host answered " + MethodRun + " with an error: " + refused.Message)
		}
	}
	for _, t := range tests {
		if batch.Outcome(t.ID) == "" {
			batch.Finished(run.Event{ID: t.ID, Outcome: run.Errored, Failure: run.Failure{Message: message}})
		}
	}
	return ctx.Err()
}

// withoutSteps returns tests without those of which only steps are to run, if the host cannot do that: these are errored.
func (s *session) withoutSteps(tests []catalog.Test, batch *adapter.Recorder) []catalog.Test {
	if s.can(CanSteps) {
		return tests
	}
	return slices.DeleteFunc(slices.Clone(tests), func(t catalog.Test) bool {
		single := len(t.Asks().Steps) > 0
		if single {
			batch.Finished(run.Event{ID: t.ID, Outcome: run.Errored, Failure: run.Failure{Message: fmt.Sprintf("the test host of suite %s cannot run single steps: run the whole test", s.adapter.Suite)}})
		}
		return single
	})
}

func runParams(tests []catalog.Test) RunParams {
	params := RunParams{Tests: make([]RunTest, len(tests))}
	for i := range tests {
		t := &tests[i]
		params.Tests[i] = RunTest{TestName{t.Group, t.Name}, t.Asks().Steps}
	}
	return params
}

func (s *session) notified(batch *adapter.Recorder, method string, note Note) {
	id := catalog.ID(s.adapter.Suite, note.Group, note.Name)
	note.File = s.adapter.projectFile(note.File)
	switch method {
	case NoteStarted:
		batch.Started(id)
		batch.Output(id, []byte(s.setRunning(id)))
	case NoteStep:
		batch.Step(id, run.Event{Step: note.Step, Outcome: note.Outcome, Seconds: run.Took(note.Seconds), Failure: note.Failure})
	case NoteOutput:
		if note.Name == "" { // of no test
			_, _ = outputOf{s}.Write([]byte(note.Text))
			return
		}
		batch.Output(id, []byte(note.Text))
	case NoteFinished:
		if !batch.Holds(id) {
			s.strange(id, note, "which it was not asked to run")
			return
		}
		batch.Output(id, []byte(s.stack(note)))
		s.beside.Drain()
		if s.secret != "" {
			s.printed.Drain()
		}
		s.setRunning("")
		if !strings.HasPrefix(note.Message, note.Class) {
			note.Message = strings.TrimSuffix(note.Class+": "+note.Message, ": ")
		}
		e := run.Event{ID: id, Outcome: note.Outcome, Own: true, Failure: note.Failure}
		switch note.Outcome {
		case run.Passed, run.Failed, run.Errored, run.Skipped:
		default:
			e.Outcome, e.Message = run.Errored, fmt.Sprintf("the test host reported the unknown outcome %q", note.Outcome)
		}
		if note.Seconds > 0 {
			e.Seconds = run.Took(note.Seconds)
		}
		batch.Finished(e)
	}
}

// mostFrames bounds the frames of an error that are kept.
const mostFrames = 50

// stack returns the frames of an error as the lines of a stack, which causes of failures are found in.
func (s *session) stack(note Note) string {
	var lines strings.Builder
	for _, f := range note.Frames[:min(len(note.Frames), mostFrames)] {
		fmt.Fprintf(&lines, "    at %s (%s:%d)\n", cmp.Or(plain.Line(f.Function), "<anonymous>"), plain.Line(s.adapter.projectFile(f.File)), f.Line)
	}
	return lines.String()
}

// strange keeps the outcome of a test that is not in the present batch, unless it is good.
func (s *session) strange(id string, note Note, which string) {
	if note.Outcome != run.Passed && note.Outcome != run.Skipped {
		s.noteBeyond(strings.TrimSuffix(fmt.Sprintf("the test host reported %s, %s, as %s: %s", id, which, note.Outcome, note.Message), ": "))
	}
}

// attend says which batch stray output goes to.
func (s *session) attend(batch *adapter.Recorder) {
	s.mu.Lock()
	s.batch = batch
	s.mu.Unlock()
}

// setRunning sets the running test, none if empty, and gives it what was printed before: the streams of a process
// are not ordered, so that the output of a test may arrive before its start.
func (s *session) setRunning(id string) (printed string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.running = id
	if id != "" {
		printed, s.stray = string(s.stray), nil
	}
	return printed
}
