package golang

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
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
