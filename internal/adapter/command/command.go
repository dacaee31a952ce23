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
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/format"
	"fernrelay/internal/format/tap"
	"fernrelay/internal/owned"
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
	Isolate catalog.Level  // what one process holds: a test, or else what the placeholders of Run say
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
	return &Adapter{Config: config}, nil
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

// Scope is the test if each has a process of its own, else the group.
func (a *Adapter) Scope() catalog.Level {
	if a.alone() {
		return catalog.TestLevel
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

// Open makes a session, which has no process of its own.
func (a *Adapter) Open(_ context.Context, slot process.Slot) (adapter.Session, error) {
	return &session{a, slot}, nil
}

type session struct {
	adapter *Adapter
	slot    process.Slot
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
		if err := s.process(ctx, share, batch, d, sink); err != nil {
			return err
		}
	}
	d.report(tests[0].Suite, tests[0].Group, sink)
	return nil
}

// share returns how many of the tests the next process runs.
func (s *session) share(tests []catalog.Test) []catalog.Test {
	tests = tests[:adapter.Shared(tests)]
	switch {
	case s.adapter.alone():
		return tests[:1]
	case s.adapter.holds("{file}"): // beside the names
		file := tests[0].File
		tests = slices.DeleteFunc(slices.Clone(tests), func(t catalog.Test) bool { return t.File != file })
	}
	return tests[:s.fitting(tests)]
}

// fitting counts the tests, at least one, whose names and files have room among the arguments of a program.
func (s *session) fitting(tests []catalog.Test) int {
	names, files := s.adapter.holds("{names}"), s.adapter.holds("{files}")
	if !names && !files {
		return len(tests)
	}
	room := process.ArgumentRoom(slices.Concat(os.Environ(), s.slot.Env, s.adapter.Config.Run))
	for i := range tests {
		if names {
			room -= process.ArgumentSize(tests[i].Name)
		}
		if file := s.file(&tests[i]); files && file != "" && (i == 0 || tests[i].File != tests[i-1].File) {
			room -= process.ArgumentSize(file)
		}
		if room < 0 {
			return max(1, i)
		}
	}
	return len(tests)
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

// ending is how a process ended.
type ending struct {
	code   int // below 0 for a signal
	words  string
	silent adapter.Phase // in which it was killed, as none of its tests ran
	fault  error         // what is wrong with its results
	late   bool          // it was killed, as the time of a test was up
	wall   time.Duration // that it took
}

// bad reports whether tests may have no outcome because of how the process ended. One that gave up says that more of it is
// of no use.
func (e ending) bad() bool {
	return (e.code != 0 || e.fault != nil || e.silent != "") && !errors.Is(e.fault, tap.ErrBailedOut)
}

// said returns how it ended, in words.
func (e ending) said() string {
	switch {
	case e.late:
		return "a time limit, after " + e.wall.Round(time.Millisecond).String()
	case e.code == 0 && e.fault != nil:
		return "exit status 0, but " + e.fault.Error()
	}
	return e.words
}

// ended sets the outcome of every test of a process that has ended, except those that get another process after one that ended
// badly: those after the test that is known to have run, or else all without an outcome, in parts.
func (s *session) ended(reported *results, end ending, d *division) {
	open, tests := reported.unfinished(), reported.tests
	s.adapter.noteBarren(end.bad() && len(tests) == 1, len(open) < len(tests))
	switch {
	case s.adapter.Results == format.Exit && end.code >= 0:
		exited(reported, end)
	case s.adapter.Unit() != "" || len(open) == 0 || !end.bad():
		reported.close(end.words, end.code, end.fault)
	case end.code < 0 && len(tests) == 1 || reported.runsOne():
		d.blame(open)
		reported.batch.Ended(end.said(), func(words string) (string, string, int) {
			return process.LastLines(words, messageLimit), tests[0].File, tests[0].Line
		})
	case len(tests) == 1 || tests[0].Asks().Whole || s.adapter.barren.Load() >= mostBarren:
		d.blame(open)
		reported.close(end.said(), end.code, end.fault)
	default:
		d.divide(&badEnding{tests: open, words: end.said(), late: end.late, wall: end.wall}, len(open) > 1 && len(open) < len(tests))
		return
	}
	d.ran(tests, end.wall)
}

// noteBarren notes whether a test ended its process alone, or any test had an outcome.
func (a *Adapter) noteBarren(alone, outcomes bool) {
	if outcomes {
		a.barren.Store(0)
	} else if alone {
		a.barren.Add(1)
	}
}

// exited sets the outcome of the only test of a process by its exit status.
func exited(reported *results, end ending) {
	t := &reported.tests[0]
	e := run.Event{Outcome: run.Passed}
	if end.code > 0 {
		last := process.LastLines(reported.batch.Words(t.ID), messageLimit)
		e.Outcome, e.Message = run.Failed, strings.TrimSuffix(end.words+": "+last, ": ")
		e.Expected, e.Actual = run.Compared(last)
	}
	reported.mu.Lock()
	defer reported.mu.Unlock()
	reported.finish(t, e)
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

// files makes the files that a process of tests writes and reads, by their placeholders, each with a path of its own, so that nobody
// reads the report of an earlier process. remove removes them.
func (s *session) files(tests []catalog.Test) (paths map[string]string, remove func(), err error) {
	if !s.adapter.holds("{report}") && !s.adapter.holds("{names-file}") {
		return nil, func() {}, nil
	}
	folder, err := owned.MakeFolder(s.slot.Temp)
	if err != nil {
		return nil, nil, err
	}
	remove = func() { _ = folder.Remove() } // else with the slot
	paths = map[string]string{"names-file": filepath.Join(folder.Path(), "names")}
	if s.adapter.holds("{report}") {
		paths["report"] = filepath.Join(folder.Path(), "report")
	}
	if err := os.WriteFile(paths["names-file"], []byte(process.NameLines(names(tests))), 0o600); err != nil {
		remove()
		return nil, nil, fmt.Errorf("the names of the tests cannot be written: %w", err)
	}
	return paths, remove, nil
}

// names returns the names of tests, in order.
func names(tests []catalog.Test) []string {
	names := make([]string, len(tests))
	for i := range tests {
		names[i] = tests[i].Name
	}
	return names
}

// words is the run command for some tests, with the paths of files by their placeholders.
func (s *session) words(tests []catalog.Test, paths map[string]string) []string {
	var files []string
	seen := map[string]bool{}
	for i := range tests {
		if file := s.file(&tests[i]); file != "" && !seen[file] {
			files, seen[file] = append(files, file), true
		}
	}
	values := s.slot.Values()
	maps.Copy(values, paths)
	values["name"], values["file"] = tests[0].Name, s.file(&tests[0])
	var words []string
	for _, word := range s.adapter.Config.Run {
		switch word {
		case "{names}":
			words = append(words, names(tests)...)
		case "{files}":
			words = append(words, files...)
		default:
			words = append(words, process.Fill(word, values))
		}
	}
	return words
}

// file is a test's file as seen from the suite's folder.
func (s *session) file(t *catalog.Test) string {
	file, err := filepath.Rel(filepath.FromSlash(s.adapter.Below), filepath.FromSlash(t.File))
	if err != nil || t.File == "" {
		return t.File
	}
	return file
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

// Reset has nothing to do: every test begins a process of its own.
func (s *session) Reset(context.Context) error { return nil }

// Close has nothing to do: no process outlives Run.
func (s *session) Close() error { return nil }
