package golang

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/adapter/golang/testlog"
	"fernrelay/internal/owned"
	"fernrelay/internal/process"
)

// session runs batches of a suite in processes that end with each batch.
type session struct {
	adapter *Adapter
	slot    process.Slot
}

// Run runs the tests package by package, each package in one process as long as
// nothing ends it before its time.
func (s *session) Run(ctx context.Context, tests []catalog.Test, sink run.Sink) error {
	batch := adapter.NewRecorder(tests, s.slot.Limits(s.adapter.Limits), sink)
	for {
		next := batch.Next()
		if len(next) == 0 {
			return nil
		}
		next = next[:s.adapter.together(next)]
		v := s.adapter.variantOf(&next[0])
		binary, built := s.adapter.binaries[v]
		if !built {
			s.adapter.loseUnbuilt(batch, next, s.adapter.failures[v])
			continue
		}
		if err := s.process(ctx, binary, v.group, next, batch, sink); err != nil {
			return err
		}
	}
}

// together counts the tests at the front that one process can run in their
// order: of one build of one package, no test behind a fuzz seed, as the testing
// package runs seeds last, and no two of one name.
func (a *Adapter) together(tests []catalog.Test) int {
	if a.Isolate == catalog.TestLevel || len(tests[0].Asks().Steps) > 0 {
		return 1
	}
	first := a.variantOf(&tests[0])
	seeds, names := false, map[string]bool{}
	tests = tests[:adapter.Shared(tests)]
	for i := range tests {
		name := a.targets[tests[i].ID].function
		if a.variantOf(&tests[i]) != first || seeds && tests[i].Kind == catalog.KindTest || names[name] || len(tests[i].Asks().Steps) > 0 {
			return i
		}
		names[name] = true
		seeds = seeds || tests[i].Kind == catalog.KindFuzz
	}
	return len(tests)
}

// process runs one test binary once over the tests.
func (s *session) process(ctx context.Context, binary, group string, tests []catalog.Test, batch *adapter.Recorder, sink run.Sink) error {
	heard := newResultReader(s.adapter, group, tests, batch)
	cmd, clean, err := s.command(ctx, binary, group, tests, heard)
	if err != nil {
		return err
	}
	defer clean()
	output := &testlog.Reader{Listener: heard, Secret: heard.secret}
	cmd.Stdout, cmd.Stderr = output, output
	ready := make(chan struct{})
	batch.Begin(func() {
		<-ready
		cmd.Dump()
	})
	err = cmd.Start()
	close(ready)
	if err != nil {
		batch.Exited()
		heard.results.Close()
		return fmt.Errorf("cannot start the test binary of %s: %w", group, err)
	}
	copied := heard.results.Copy()
	err = cmd.Wait()
	silent := batch.Exited()
	heard.results.Stop(0, copied)
	output.Close()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	heard.finishRest()
	defer func() { sink(cmd.Usage().Event("")) }()
	ending := process.Ending(err)
	batch.Ended(ending, func(words string) (string, string, int) { return s.adapter.failure(group, words) })
	if !batch.Began() {
		_, unread := os.Stat(valueOf(cmd.Env, orderVariable))
		heard.neverBegan(ending, silent, cmd.ProcessState.Success(), unread != nil || isOrdered(binary))
		return nil
	}
	heard.beyond(sink, ending, silent, cmd.ProcessState.ExitCode())
	return nil
}

// command prepares the run of a binary over the tests, in the package's folder
// as the toolchain does it. clean takes away the file with the order.
func (s *session) command(ctx context.Context, binary, group string, tests []catalog.Test, heard *resultReader) (cmd *process.Process, clean func(), err error) {
	if heard.results, err = process.NewPipe(&heard.reported); err != nil {
		return nil, nil, err
	}
	order, err := os.CreateTemp(s.slot.Temp, "order-*")
	if err != nil {
		heard.results.Close()
		return nil, nil, err
	}
	clean = func() { _ = errors.Join(owned.RemoveFile(order), order.Close()) } // else with the folder
	if _, err := order.WriteString(heard.secret + "\n" + s.adapter.order(tests)); err != nil {
		heard.results.Close()
		clean()
		return nil, nil, err
	}
	args := append([]string{"-test.v=test2json", "-test.paniconexit0", "-test.timeout=0"}, s.adapter.binaryArgs()...)
	if tests[0].Asks().Serial {
		args = append(args, "-test.parallel=1")
	}
	if steps := tests[0].Asks().Steps; len(steps) > 0 {
		args = append(args, "-test.run="+runPattern(s.adapter.targets[tests[0].ID].function, steps))
	}
	cmd = s.adapter.binaryCommand(ctx, s.slot, binary, group, args)
	cmd.Env = append(cmd.Env, orderVariable+"="+order.Name())
	cmd.ExtraFiles = []*os.File{heard.results.End} // descriptor 3
	return cmd, clean, nil
}

// binaryCommand returns the command that runs a binary in the package's folder and in the environment of the toolchain.
func (a *Adapter) binaryCommand(ctx context.Context, slot process.Slot, binary, group string, args []string) *process.Process {
	dir := filepath.Join(a.Dir, filepath.FromSlash(group))
	cmd := process.Command(ctx, dir, slot, binary, args...)
	if bin := a.bin(); bin != "" { // so that tests which run the toolchain find the same
		cmd.Env = append(cmd.Env, "PATH="+bin+string(os.PathListSeparator)+valueOf(cmd.Env, "PATH"))
	}
	return cmd
}

// runBare runs the binary of a package without tests, and returns an entry if that fails, as in its TestMain or in the
// initialization of its packages.
func (a *Adapter) runBare(ctx context.Context, binary, group string) []adapter.Entry {
	record := process.BeginRecord()
	defer record.Close()
	cmd := a.binaryCommand(ctx, process.Slot{}.WithRecord(record), binary, group, append([]string{"-test.paniconexit0", "-test.timeout=0"}, a.binaryArgs()...))
	said := &process.Tail{Limit: testlog.MaxLine}
	cmd.Stdout, cmd.Stderr = said, said
	var late atomic.Bool
	if limit := a.Limits.Idle; limit > 0 {
		defer time.AfterFunc(limit, func() { late.Store(true); _ = cmd.Kill() }).Stop()
	}
	err := cmd.Run()
	if err == nil || ctx.Err() != nil {
		return nil
	}
	entry := adapter.Entry{Output: said.String()}
	entry.ID, entry.Outcome = catalog.ID(a.Suite, group, a.processEntry(group)), run.Errored
	words, file, line := a.failure(group, entry.Output)
	entry.Message, entry.File, entry.Line = "without a test to run the process ended with "+process.Ending(err), file, line
	if late.Load() {
		entry.Outcome, entry.Message = run.TimedOut, fmt.Sprintf("without a test to run the process was still running after %s, and killed", a.Limits.Idle)
	}
	if words != "" {
		entry.Message += ": " + words
	}
	return []adapter.Entry{entry}
}

// processEntry returns the name of the entry for what the process of a package does beyond its tests.
func (a *Adapter) processEntry(group string) string {
	if p := a.packages[group]; p != nil && slices.ContainsFunc(p.files, func(f *testFile) bool { return f.Main && f.here }) {
		return "TestMain"
	}
	return run.ProcessEntry
}

// orderVariable names the variable with the path of the file that has the order of a process, which removes it.
const orderVariable = "FERN_RELAY_ORDER"

// isOrdered reports whether a binary holds the generated file.
func isOrdered(binary string) bool {
	content, err := os.ReadFile(binary)
	return err == nil && bytes.Contains(content, []byte(orderVariable))
}

// runPattern returns the pattern that selects steps of a test: alternatives, each with an expression for each level.
func runPattern(test string, steps []string) string {
	var alternatives []string
	for _, step := range steps {
		levels := strings.Split(test+"/"+step, "/")
		for i := range levels {
			levels[i] = "^" + regexp.QuoteMeta(levels[i]) + "$"
		}
		alternatives = append(alternatives, strings.Join(levels, "/"))
	}
	return strings.Join(alternatives, "|")
}

// valueOf returns the last value of a variable in an environment.
func valueOf(env []string, name string) string {
	for _, setting := range slices.Backward(env) {
		if value, ok := strings.CutPrefix(setting, name+"="); ok {
			return value
		}
	}
	return ""
}

// order writes the order of one process, as the generated file reads it: a test
// a line, followed by those of the same process that it needs.
func (a *Adapter) order(tests []catalog.Test) string {
	var out strings.Builder
	names := make(map[string]string, len(tests))
	for i := range tests {
		t := &tests[i]
		names[t.ID] = a.targets[t.ID].function
		if a.targets[t.ID].second {
			names[t.ID] += secondOfName
		}
		out.WriteString(names[t.ID])
		for _, id := range t.Rules().Needs {
			if needed, ok := names[id]; ok {
				out.WriteString(" " + needed)
			}
		}
		out.WriteByte('\n')
	}
	return out.String()
}

// secondOfName follows the name of an external test if a test in the package has the same name.
const secondOfName = "~2"

// Reset has nothing to do: every batch begins a process of its own.
func (s *session) Reset(context.Context) error { return nil }

// Close has nothing to do: no process outlives Run.
func (s *session) Close() error { return nil }

// resultReader enters into the batch what one process reports. It takes the ends of tests from a pipe of its own, to
// which only the generated file writes. The testing package's results count only after a line that no test can
// print, and can make an outcome worse, never better.
type resultReader struct {
	adapter  *Adapter
	group    string
	tests    []catalog.Test
	batch    *adapter.Recorder
	byName   map[string]int       // index of the tests
	stepFrom map[string]begin     // of each test, the end of its last step
	failing  map[string]run.Event // of each test, its first step that failed and said why
	said     map[string]int       // bytes of output of each test
	stray    process.Tail         // what was printed outside of tests
	past     []bool               // by index of the tests: what follows was printed after its end
	done     int
	failed   bool
	panicked bool // a test's panic ended the process

	secret   string // begins each line in the pipe
	results  *process.Pipe
	reported process.LineWriter
	mu       sync.Mutex
	verdicts []run.Outcome // by index of the tests; empty for none yet
}

func newResultReader(a *Adapter, group string, tests []catalog.Test, batch *adapter.Recorder) *resultReader {
	b := &resultReader{adapter: a, group: group, tests: tests, batch: batch, byName: make(map[string]int, len(tests)),
		stepFrom: map[string]begin{}, failing: map[string]run.Event{}, said: map[string]int{}, stray: process.Tail{Limit: testlog.MaxLine},
		secret: rand.Text(), past: make([]bool, len(tests)), verdicts: make([]run.Outcome, len(tests))}
	b.reported = process.LineWriter{Limit: testlog.MaxLine, Line: b.report}
	for i := range tests {
		b.byName[a.targets[tests[i].ID].function] = i
	}
	return b
}

// endings are the words of the generated file for the ends of tests. Of an example that has
// returned the testing package says how it ended.
var endings = map[string]run.Outcome{"passed": run.Passed, "failed": run.Failed, "skipped": run.Skipped, "returned": returned}

const returned run.Outcome = "returned"

// report takes a line of the generated file: the secret, the index of a test, and a word.
func (b *resultReader) report(line string) error {
	words := strings.Fields(line)
	if len(words) != 3 || words[0] != b.secret {
		return nil
	}
	i, err := strconv.Atoi(words[1])
	if err != nil || i < 0 || i >= len(b.tests) {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if o := endings[words[2]]; o != "" && b.verdicts[i] == "" {
		b.verdicts[i] = o
	}
	return nil
}

// verdict returns what the generated file says about a test, "" for nothing yet.
func (b *resultReader) verdict(i int) run.Outcome {
	b.results.Drain()
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.verdicts[i]
}

// id returns the ID of a test by what its binary calls it.
func (b *resultReader) id(name string) string {
	if i, ok := b.byName[name]; ok {
		return b.tests[i].ID
	}
	return catalog.ID(b.adapter.Suite, b.group, name)
}

func (b *resultReader) Paused(name string)    { b.batch.Paused(b.id(name)) }
func (b *resultReader) Continued(name string) { b.batch.Continued(b.id(name)) }

func (b *resultReader) Started(i int) {
	if i >= 0 && i < len(b.tests) {
		b.batch.Started(b.tests[i].ID)
	}
}

func (b *resultReader) Reached(i int) {
	if i >= 0 && i < len(b.tests) {
		b.past[i] = true
	}
}

// Ended reports whether a result of a test can be real, as the test has come to its end.
func (b *resultReader) Ended(name string) bool {
	i, ok := b.byName[name]
	return ok && b.past[i]
}

func (b *resultReader) Step(name, step string, o run.Outcome) {
	id := b.id(name)
	from := b.stepFrom[name]
	b.stepFrom[name] = begin{b.batch.Spent(id), b.said[name]}
	e := run.Event{Step: step, Outcome: o, Seconds: run.Took((b.stepFrom[name].spent - from.spent).Seconds())}
	if o.Bad() {
		words := b.batch.Words(id)
		e.Message, e.File, e.Line = b.adapter.failure(b.group, words[max(0, len(words)-(b.said[name]-from.said)):])
		e.Message, e.Expected, e.Actual = run.Described(strings.TrimSpace(e.Message))
		if _, known := b.failing[name]; !known && e.File != "" { // steps within a step end before it
			b.failing[name] = e
		}
	}
	b.batch.Step(id, e)
}

// begin is where a step began: after how much time, and after how many bytes of output.
type begin struct {
	spent time.Duration
	said  int
}

func (b *resultReader) Output(name string, text []byte) {
	if name == "" {
		_, _ = b.stray.Write(text)
		return
	}
	b.said[name] += len(text)
	b.batch.Output(b.id(name), text)
}

func (b *resultReader) Finished(name string, o run.Outcome, last bool) {
	i, ok := b.byName[name]
	if !ok {
		return
	}
	if v := b.verdict(i); v != "" && v != returned && o != run.Failed {
		o = v
	}
	b.finish(i, o, last)
}

// finishRest takes the outcomes that were reported without a line of the testing package, as of
// tests that closed the standard output.
func (b *resultReader) finishRest() {
	for i, o := range b.verdicts {
		if o != "" && o != returned {
			b.finish(i, o, false)
		}
	}
}

func (b *resultReader) finish(i int, o run.Outcome, last bool) {
	test := &b.tests[i]
	if b.batch.Outcome(test.ID) != "" {
		return
	}
	b.done++
	b.failed = b.failed || o == run.Failed
	e := run.Event{ID: test.ID, Outcome: o}
	words, name := b.batch.Words(test.ID), b.adapter.targets[test.ID].function
	switch o {
	case run.Failed:
		if last && panicLine(strings.Split(words, "\n")) >= 0 {
			e.Outcome, b.panicked = run.Errored, true // the test's panic ended the process
		}
		e.Message, e.File, e.Line = b.adapter.failure(b.group, words)
		if step, ok := b.failing[name]; ok && e.Outcome == run.Failed { // what others logged is not what failed
			e.Failure, words = step.Failure, step.Message
		}
		if e.Expected == "" && e.Actual == "" {
			e.Message, e.Expected, e.Actual = run.Described(strings.TrimSpace(e.Message))
		}
		if e.Expected == "" && e.Actual == "" {
			e.Expected, e.Actual = run.Compared(words)
		}
		if e.File == "" {
			e.File, e.Line = test.File, test.Line
		}
	case run.Skipped:
		e.Message, _, _ = b.adapter.failure(b.group, words)
	}
	b.batch.Finished(e)
}

// beyond reports what went wrong in the process beside its tests: an end that no failure of
// theirs explains.
func (b *resultReader) beyond(sink run.Sink, ending string, silent adapter.Phase, code int) {
	e := run.Event{ID: catalog.ID(b.adapter.Suite, b.group, b.adapter.processEntry(b.group)), Outcome: run.Errored}
	said := b.stray.String()
	switch {
	case silent == adapter.AfterTests:
		e.Outcome, e.Message = run.TimedOut, "the test binary was "+b.batch.Silent(silent)
		_, e.File, e.Line = b.adapter.panicked(strings.Split(said, "\n")) // of the goroutines' stacks
	case silent != "" || b.done < len(b.tests) || code == 0 || code == 1 && b.failed || b.panicked:
		// All is well, or a test is to blame. What TestMain printed belongs to nobody else.
		if said != "" {
			sink(run.Event{Event: run.Output, ID: b.tests[len(b.tests)-1].ID, Text: said})
		}
		return
	default:
		e.Message = "after its tests the process ended with " + ending
		if !b.failed {
			e.Message = "no test failed, and then the process ended with " + ending
		}
		var words string
		if words, e.File, e.Line = b.adapter.failure(b.group, said); words != "" {
			e.Message += ": " + words
		}
	}
	adapter.ReportBeyond(sink, e, said)
}

// neverBegan sets the outcome of tests whose process ended before it began any. ordered reports whether its binary holds the
// generated file.
func (b *resultReader) neverBegan(ending string, silent adapter.Phase, success, ordered bool) {
	o, message := run.Errored, "the test binary ended before its first test: "+ending
	switch {
	case silent != "":
		o, message = run.TimedOut, "the test binary was "+b.batch.Silent(silent)+", in the initialization of its packages or in TestMain"
	case success && !ordered:
		message = "the test binary was built without the file by which Fern Relay orders tests: look for what replaces it, such as -toolexec or -overlay in the build flags"
	case success:
		o, message = run.Skipped, "the test binary ended without running its tests, as a TestMain may decide"
	}
	early := b.stray.String()
	said, file, line := b.adapter.failure(b.group, early)
	switch {
	case silent != "":
		_, file, line = b.adapter.panicked(strings.Split(early, "\n"))
		said = ""
	case file == "":
		said, _, _ = strings.Cut(early, "\n")
	}
	if said != "" {
		message += ": " + said
	}
	for i, t := range b.tests {
		if i == 0 {
			b.batch.Output(t.ID, []byte(early))
		}
		b.batch.Finished(run.Event{ID: t.ID, Outcome: o, Failure: run.Failure{Message: message, File: file, Line: line}, Seconds: run.Took(0)})
	}
}
