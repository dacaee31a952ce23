package golang

import (
	"crypto/rand"
	"strconv"
	"strings"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/adapter/golang/testlog"
	"fernrelay/internal/process"
)

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
//
// A test could write such a line itself. It does not know the secret: the generated file reads it, with the order, from a file
// that it removes before the first test. The first verdict of a test counts. A line that is no report is no error, as anybody
// in the process may write to the descriptor.
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

func (b *resultReader) Paused(name string) { b.batch.Paused(b.id(name)) }

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
