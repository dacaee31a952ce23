package golang

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/outcome"
	"fernrelay/internal/adapter"
)

// session runs batches of a suite in processes that end with each batch.
type session struct {
	adapter *Adapter
	slot    adapter.Slot
}

// Run runs the tests package by package, each package in one process as long as
// nothing ends it before its time.
func (s *session) Run(ctx context.Context, tests []catalog.Test, sink outcome.Sink) error {
	batch := adapter.NewBatch(tests, s.slot.TestLimit(s.adapter.Timeout), sink)
	for {
		next := batch.Next()
		if len(next) == 0 {
			return nil
		}
		next = next[:s.adapter.together(next)]
		v := s.adapter.variantOf(&next[0])
		binary, built := s.adapter.binaries[v]
		if !built {
			s.adapter.notBuilt(batch, next, s.adapter.failures[v])
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
	if a.Isolate == adapter.PerTest {
		return 1
	}
	first := a.variantOf(&tests[0])
	seeds, names := false, map[string]bool{}
	for i := range tests {
		name := a.targets[tests[i].ID].function
		if a.variantOf(&tests[i]) != first || seeds && tests[i].Kind == catalog.KindTest || names[name] {
			return i
		}
		names[name] = true
		seeds = seeds || tests[i].Kind == catalog.KindFuzz
	}
	return len(tests)
}

// process runs one test binary once over the tests.
func (s *session) process(ctx context.Context, binary, group string, tests []catalog.Test, batch *adapter.Batch, sink outcome.Sink) error {
	cmd, clean, err := s.command(ctx, binary, group, tests)
	if err != nil {
		return err
	}
	defer clean()
	heard := newBooks(s.adapter, group, tests, batch)
	output := &verbose{listener: heard}
	cmd.Stdout, cmd.Stderr = output, output
	ready := make(chan struct{})
	batch.Begin(func() {
		<-ready
		_ = adapter.KillGroup(cmd)
	})
	err = cmd.Start()
	close(ready)
	if err != nil {
		return fmt.Errorf("cannot start the test binary of %s: %w", group, err)
	}
	err = cmd.Wait()
	_ = adapter.KillGroup(cmd) // what the process left behind in its group
	output.Close()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	ending := adapter.Ending(err)
	batch.Ended(ending, func(words string) (string, string, int) { return s.adapter.failure(group, words) })
	switch {
	case !batch.Began():
		heard.neverBegan(ending, cmd.ProcessState.Success())
	case !cmd.ProcessState.Success() && heard.nothingFailed():
		sink(outcome.Event{Event: outcome.Finished, ID: catalog.ID(s.adapter.Suite, group, "TestMain"), Outcome: outcome.Errored,
			Seconds: outcome.Took(0), Message: "no test failed, and then the process ended with " + ending})
	}
	return nil
}

// command prepares the run of a binary over the tests, in the package's folder
// as the toolchain does it. clean takes away the file with the order.
func (s *session) command(ctx context.Context, binary, group string, tests []catalog.Test) (cmd *exec.Cmd, clean func(), err error) {
	order, err := os.CreateTemp(s.slot.Temp, "order-*")
	if err != nil {
		return nil, nil, err
	}
	clean = func() { _ = os.Remove(order.Name()) }
	_, err = order.WriteString(s.adapter.order(tests))
	if err := errors.Join(err, order.Close()); err != nil {
		clean()
		return nil, nil, err
	}
	args := append([]string{"-test.v=test2json", "-test.paniconexit0", "-test.timeout=0"}, s.adapter.binaryArgs()...)
	cmd = adapter.Command(ctx, filepath.Join(s.adapter.Dir, filepath.FromSlash(group)), s.slot, binary, args...)
	cmd.Env = append(cmd.Env, "FERN_RELAY_ORDER="+order.Name())
	return cmd, clean, nil
}

// order writes the order of one process, as the generated file reads it: a test
// a line, behind it those of the same process that it needs.
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
		for _, id := range t.Marks.Needs {
			if needed, ok := names[id]; ok {
				out.WriteString(" " + needed)
			}
		}
		out.WriteByte('\n')
	}
	return out.String()
}

// secondOfName follows the name of a test that another of the same name stands
// before, in the package while it stands in the external tests.
const secondOfName = "~2"

// Reset has nothing to do: every batch begins a process of its own.
func (s *session) Reset(context.Context) error { return nil }

// Close has nothing to do: no process outlives Run.
func (s *session) Close() error { return nil }

// books hears what one process tells and enters it into the batch.
type books struct {
	adapter  *Adapter
	group    string
	tests    []catalog.Test
	batch    *adapter.Batch
	byName   map[string]*catalog.Test
	stepFrom map[string]begin // of each test, where its last step ended
	said     map[string]int   // bytes of output of each test
	early    []byte           // what was printed before the first test
	done     int
	failed   bool
}

func newBooks(a *Adapter, group string, tests []catalog.Test, batch *adapter.Batch) *books {
	b := &books{adapter: a, group: group, tests: tests, batch: batch, byName: make(map[string]*catalog.Test, len(tests)),
		stepFrom: map[string]begin{}, said: map[string]int{}}
	for i := range tests {
		b.byName[a.targets[tests[i].ID].function] = &tests[i]
	}
	return b
}

// id gives the ID of a test by what its binary calls it.
func (b *books) id(name string) string {
	if t := b.byName[name]; t != nil {
		return t.ID
	}
	return catalog.ID(b.adapter.Suite, b.group, name)
}

func (b *books) started(name string)   { b.batch.Started(b.id(name)) }
func (b *books) paused(name string)    { b.batch.Paused(b.id(name)) }
func (b *books) continued(name string) { b.batch.Continued(b.id(name)) }

func (b *books) step(name, step string, o outcome.Outcome) {
	id := b.id(name)
	from := b.stepFrom[name]
	b.stepFrom[name] = begin{b.batch.Spent(id), b.said[name]}
	e := outcome.Event{Step: step, Outcome: o, Seconds: outcome.Took((b.stepFrom[name].spent - from.spent).Seconds())}
	if o.Bad() {
		words := b.batch.Words(id)
		e.Message, e.File, e.Line = b.adapter.failure(b.group, words[max(0, len(words)-(b.said[name]-from.said)):])
	}
	b.batch.Step(id, e)
}

// begin is where a step began: after how long, and after how many bytes of output.
type begin struct {
	spent time.Duration
	said  int
}

func (b *books) output(name, text string) {
	if name != "" {
		b.said[name] += len(text)
		b.batch.Output(b.id(name), text)
		return
	}
	if len(b.early)+len(text) <= maxLine {
		b.early = append(b.early, text...)
	}
}

func (b *books) finished(name string, o outcome.Outcome, last bool) {
	test := b.byName[name]
	if test == nil {
		return
	}
	b.done++
	b.failed = b.failed || o == outcome.Failed
	e := outcome.Event{ID: test.ID, Outcome: o}
	words := b.batch.Words(test.ID)
	switch o {
	case outcome.Failed:
		if last && panicLine(strings.Split(words, "\n")) >= 0 {
			e.Outcome = outcome.Errored // its panic ended the process
		}
		e.Message, e.File, e.Line = b.adapter.failure(b.group, words)
		e.Expected, e.Actual = outcome.Compared(strings.TrimSpace(e.Message))
		if e.Expected == "" {
			e.Expected, e.Actual = outcome.Compared(words)
		}
		if e.File == "" {
			e.File, e.Line = test.File, test.Line
		}
	case outcome.Skipped:
		e.Message, _, _ = b.adapter.failure(b.group, words)
	}
	b.batch.Finished(e)
}

// nothingFailed reports whether all tests of the process came to their end, and well.
func (b *books) nothingFailed() bool { return b.done == len(b.tests) && !b.failed }

// neverBegan gives an outcome to tests whose process ended before it began any.
func (b *books) neverBegan(ending string, success bool) {
	o, message := outcome.Errored, "the test binary ended before its first test: "+ending
	if success {
		o, message = outcome.Skipped, "the test binary ended without running its tests, as a TestMain may decide"
	}
	said, file, line := b.adapter.failure(b.group, string(b.early))
	if file == "" {
		said, _, _ = strings.Cut(strings.TrimSpace(string(b.early)), "\n")
	}
	if said != "" {
		message += ": " + said
	}
	for i, t := range b.tests {
		b.batch.Started(t.ID)
		if i == 0 {
			b.batch.Output(t.ID, string(b.early))
		}
		b.batch.Finished(outcome.Event{ID: t.ID, Outcome: o, Message: message, File: file, Line: line, Seconds: outcome.Took(0)})
	}
}
