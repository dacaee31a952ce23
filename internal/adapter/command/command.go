// Package command finds and runs the tests of any program: one command lists them, another runs them, as many in a
// process as its placeholders say: one with {name}, those of a file with {file}, otherwise a whole batch. The
// results are the exit status, or in an open format on the standard output or in {report}.
//
//	list = "./list-checks"      # a name a line, or JSON lines
//	run = "./check --only {name}"
package command

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/format"
	"fernrelay/internal/process"
)

// Config is what a suite behind commands needs to know.
type Config struct {
	Suite   string
	Dir     string   // the suite's folder, absolute: in which the commands run
	Below   string   // the suite's folder as seen from the project, with slashes
	List    []string // the command that lists the tests, with its arguments
	Run     []string // the command that runs them, with placeholders
	Results string   // Exit, or a format that has a reader; Exit if empty
	process.Limits
	Isolate catalog.Level  // what one process holds: a test, all of a worker, or else what the placeholders of Run say
	Stdin   bool           // the program reads the names of the tests from its standard input, one a line
	Group   *regexp.Regexp // its first group cuts the group of a test from a name that comes without one; nil for the folder
}

// Placeholders are what the words of Run may contain, each between braces. Those in many become one word per test
// or file, and must be words of their own.
var (
	Placeholders = []string{"name", "names", "names-file", "file", "files", "report", "slot", "space", "tmp", "port"}
	many         = []string{"{names}", "{files}"}
)

// Adapter finds and runs the tests of one suite.
type Adapter struct {
	Config
	names  func() *catalog.Names // of the tests that were found
	barren atomic.Int32          // tests in a row that ended their process alone, before any outcome
}

// New returns the adapter. The error says what is wrong with the command's placeholders.
func New(config Config) (*Adapter, error) {
	if config.Results == "" && config.holds("{report}") {
		return nil, errors.New(`run has {report}, and nothing says what the program writes there: add results = "junit", or tap, gojson or events`)
	}
	config.Results = cmp.Or(config.Results, format.Exit)
	if config.Results == format.Exit && !config.holds("{name}") {
		return nil, errors.New("run has no {name}, but an exit status is the result of one test: add {name}, or set results to another format")
	}
	if unnamed := (&Adapter{Config: config}).Unit() != ""; unnamed && config.Isolate == catalog.TestLevel {
		return nil, errors.New(`run has none of {name}, {names} and {names-file}, so that no test can have a process of its own: add one of them, or remove isolate = "test"`)
	}
	for _, word := range config.Run {
		if slices.ContainsFunc(many, func(m string) bool { return strings.Contains(word, m) && word != m }) {
			return nil, fmt.Errorf("run has %q: {names} and {files} must be words of their own", word)
		}
		for _, name := range process.Placeholders(word) {
			if !slices.Contains(Placeholders, name) {
				return nil, fmt.Errorf("run has the placeholder {%s}: there are {%s}; write {{%s}} for the text {%s}", name, strings.Join(Placeholders, "} {"), name, name)
			}
		}
	}
	return &Adapter{Config: config}, config.checkLiving()
}

// holds reports whether the run command has a placeholder.
func (c *Config) holds(placeholder string) bool {
	name := strings.Trim(placeholder, "{}")
	return slices.ContainsFunc(c.Run, func(word string) bool { return slices.Contains(process.Placeholders(word), name) })
}

// shells are programs that run a script given with -c.
var shells = []string{"sh", "bash", "dash", "zsh", "ksh", "busybox"}

// shellNote warns of a name that becomes a part of a shell script: whoever names a test could run
// commands with it.
func (a *Adapter) shellNote() string {
	for i, word := range a.Config.Run {
		if i < 2 || !strings.HasPrefix(a.Config.Run[i-1], "-") || !strings.HasSuffix(a.Config.Run[i-1], "c") || !strings.Contains(word, "{name}") && !strings.Contains(word, "{file}") {
			continue
		}
		if slices.ContainsFunc(a.Config.Run[:i-1], func(word string) bool { return slices.Contains(shells, path.Base(word)) }) {
			return fmt.Sprintf("suite %s: run = %q puts a test's name into a shell script, where it can act as a command: pass it as an argument, as in sh -c 'check \"$1\"' sh {name}",
				a.Suite, strings.Join(a.Config.Run, " "))
		}
	}
	return ""
}

// Bounds of what a list command prints, in bytes.
const (
	maxLine = 1 << 20
	maxList = 64 << 20
)

// Touched knows only the files of tests, which are not its concern.
func (a *Adapter) Touched([]string) (func(*catalog.Test) string, error) {
	return func(*catalog.Test) string { return "" }, nil
}

// Prepare prepares nothing: the program may have changed since, and gets another chance.
func (a *Adapter) Prepare(context.Context, []*catalog.Test, func(string)) error {
	a.barren.Store(0)
	return nil
}

// Scope is the test if each has a process of its own, the suite if a process runs batch after batch, else the group.
func (a *Adapter) Scope() catalog.Level {
	switch {
	case a.alone():
		return catalog.TestLevel
	case a.lives():
		return catalog.SuiteLevel
	}
	return catalog.GroupLevel
}

// Unit returns what one process runs at least: a test, if the run command takes names.
func (a *Adapter) Unit() catalog.Level {
	switch {
	case a.Stdin || a.holds("{name}") || a.holds("{names}") || a.holds("{names-file}"):
		return ""
	case a.holds("{file}") || a.holds("{files}"):
		return catalog.FileLevel
	}
	return catalog.SuiteLevel
}

// alone reports whether each test has a process of its own.
func (a *Adapter) alone() bool { return a.holds("{name}") || a.Isolate == catalog.TestLevel }

// Open makes a session. It keeps no process from batch to batch unless the suite's live.
func (a *Adapter) Open(_ context.Context, slot process.Slot) (adapter.Session, error) {
	return &session{adapter: a, slot: slot}, nil
}

type session struct {
	adapter *Adapter
	slot    process.Slot
	living  *living // nil for none
}

// Run runs the tests, as many in a process as the command says.
func (s *session) Run(ctx context.Context, tests []catalog.Test, sink run.Sink) error {
	batch := adapter.NewRecorder(tests, s.slot.Limits(s.adapter.Limits), sink)
	d := &division{}
	for next := batch.Next(); len(next) > 0; next = batch.Next() {
		share := next
		if s.adapter.Unit() == "" {
			front := d.front(next)
			share = s.share(front[:batch.Settled(front)])
		}
		run := s.process
		if s.adapter.lives() && len(d.parts) == 0 && share[0].Rules().Isolate == "" {
			run = s.feed
		}
		if err := run(ctx, share, batch, d, sink); err != nil {
			return err
		}
	}
	d.report(tests[0].Suite, tests[0].Group, sink)
	return nil
}

// process runs some tests in one process.
func (s *session) process(ctx context.Context, tests []catalog.Test, batch *adapter.Recorder, d *division, sink run.Sink) error {
	files, remove, err := s.files(tests)
	if err != nil {
		return err
	}
	defer remove()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	words := s.words(tests, files)
	cmd := process.Command(ctx, s.adapter.Dir, s.slot, words[0], words[1:]...)
	if s.adapter.Stdin {
		cmd.Stdin = strings.NewReader(process.NameLines(names(tests)))
	}
	reported := newResults(tests, s.adapter.names(), batch)
	reported.timed = s.adapter.alone()
	wait := s.attach(ctx, cmd, reported, files["report"])
	if !begin(ctx, cmd, reported, batch) {
		_ = wait() // nothing was printed
		return ctx.Err()
	}
	err = cmd.Wait()
	silent := batch.Exited()
	fault := wait()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	reported.settle()
	used := cmd.Usage()
	end := ending{cmd.ProcessState.ExitCode(), process.Ending(err), silent, fault, batch.Expired(), used.Wall}
	s.ended(reported, end, d)
	reported.reportBeyond(sink, end)
	sink(used.Event(s.only(tests)))
	return nil
}

// attach connects the output of a process, and reads its results from there, or from a report once it has ended. wait waits for the end of
// what the process printed, and returns what is wrong with its results.
func (s *session) attach(ctx context.Context, cmd *process.Process, reported *results, report string) (wait func() error) {
	output := &printed{results: reported}
	cmd.Stdout, cmd.Stderr = output, output
	reports, _ := format.Named(s.adapter.Results) // none for an exit status
	switch {
	case reports.Read == nil:
		return func() error { return nil }
	case report != "":
		return func() error {
			if ctx.Err() != nil {
				return nil // the report is not whole
			}
			return readReport(report, reports.Read, reported.take)
		}
	}
	stdout, read := piped(reports.Read, reported.take)
	cmd.Stdout = stdout
	return func() error {
		_ = stdout.Close() // so that the reader gets to the end
		return read()
	}
}

// begin starts a process, which the batch kills if it takes too long. It reports whether the process runs; the results of one that
// cannot be started say why.
func begin(ctx context.Context, cmd *process.Process, reported *results, batch *adapter.Recorder) bool {
	ready := make(chan struct{})
	batch.Begin(func() {
		<-ready
		_ = cmd.Kill()
	})
	err := reported.start(cmd.Start)
	close(ready)
	if err == nil {
		return true
	}
	if ctx.Err() == nil {
		reported.close("it cannot be started: "+err.Error(), 1, nil)
	}
	batch.Exited()
	return false
}

// only returns the ID of the test of a process that never runs others, "" for a process of a batch.
func (s *session) only(tests []catalog.Test) string {
	if s.adapter.alone() {
		return tests[0].ID
	}
	return ""
}

// piped returns what a process writes its results to, and a function that waits until they are read and returns
// what is wrong with them.
func piped(read func(io.Reader, run.Sink) error, sink run.Sink) (io.WriteCloser, func() error) {
	out, in := io.Pipe()
	fault := make(chan error, 1)
	go func() {
		err := read(out, sink)
		_, _ = io.Copy(io.Discard, out) // so that the process is never kept waiting
		fault <- err
	}()
	return in, func() error { return <-fault }
}

// printed takes what a process prints beside its results: it is the output of the
// test that is taken to run.
type printed struct{ results *results }

func (p *printed) Write(data []byte) (int, error) {
	r := p.results
	r.mu.Lock()
	defer r.mu.Unlock()
	_, _ = r.said.Write(data)
	if len(r.open) > 0 {
		r.batch.Output(r.open[0], data)
	}
	return len(data), nil
}

// saidKept is how much of what a process printed last is kept, in bytes.
const saidKept = 4 << 10

// messageLimit bounds what a message takes from what was printed, in bytes.
const messageLimit = 2 << 10

// Probe reports that a program of any kind cannot report its state.
func (s *session) Probe(context.Context, []catalog.Test, []string) ([]hunt.Value, error) {
	return nil, errNoState
}

var errNoState = errors.New("the tests are programs, which do not report their state")

// Restore reports that a program of any kind cannot restore its state.
func (s *session) Restore(context.Context, []catalog.Test, hunt.Change, run.Sink) error {
	return errNoState
}

// Reset ends the process that would run the next batch, too.
func (s *session) Reset(context.Context) error { return s.endLiving() }

// Close ends the process that runs batch after batch.
func (s *session) Close() error { return s.endLiving() }
