// Package adapter is the one interface to the kinds of suite, and the bookkeeping that they share.
//
// An adapter finds tests and opens sessions; a session runs tests in the given order and reports events:
//
//	found, err := a.Discover(ctx)
//	err = a.Prepare(ctx, tests, progress)
//	session, err := a.Open(ctx, slot)
//	err = session.Run(ctx, found.Tests, sink)
//
// A session keeps a [Recorder] of the tests that its processes run. Adapters know nothing of workers: a [process.Slot] is all they get.
package adapter

import (
	"context"
	"fmt"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/process"
)

// Shared counts the tests at the front that may share a process: only the first if it has the rule isolate, or else
// those before the next that has it.
func Shared(tests []catalog.Test) int {
	for i := range tests {
		if tests[i].Rules().Isolate != "" {
			return max(i, 1)
		}
	}
	return len(tests)
}

// Outsider is a Session that also knows the state of what the tests import from elsewhere.
type Outsider interface {
	// ProbeOutside is as Session.Probe, with that state, and says in words what it looked at and what it left out.
	ProbeOutside(ctx context.Context, tests []catalog.Test, detailed []string) (values []hunt.Value, looked string, err error)
}

// Looker is a Session that says what its state looks at, as not all see the same.
type Looker interface {
	// Looks returns that in words, once a probe has run; "" if it is not known.
	Looks() string
}

// Sharer is an Adapter that knows from the sources which tests may affect each other.
type Sharer interface {
	// Shares returns for each test of a group the set of those, by index, that may depend on what it changes; nil if that
	// is not known.
	Shares(group []catalog.Test) []catalog.Set
}

// Undivided is an Adapter that may not be able to run some tests without others.
type Undivided interface {
	// Unit returns the least that runs at once: a file, the suite, or "" if single tests can run.
	Unit() catalog.Level
}

// Editable is an Adapter that can run its tests with another source.
type Editable interface {
	// WithSources returns an adapter that uses other contents of some files, by their absolute paths, and builds in a store of its own.
	WithSources(store string, contents map[string][]byte) (Adapter, error)
}

// Sourced is an Adapter that knows the Go source of its tests.
type Sourced interface {
	Editable
	// Source returns the name of a test's function and the flags of its build; "" for a test without one.
	Source(t *catalog.Test) (function string, flags []string)
}

// Repairer is an Adapter that proposes repairs of a test that leaves state behind.
type Repairer interface {
	Editable
	// Repairs returns contents of the test's file, the most natural first, with which it restores each changed piece of state, or else
	// sets up what others leave. What cannot be restored or set up is an error that says why.
	Repairs(ctx context.Context, t *catalog.Test, changed []hunt.Change, set bool) (contents [][]byte, err error)
}

// Varied is an Adapter whose tests depend on the flags and the environment of their build.
type Varied interface {
	Adapter
	// Elsewhere returns an adapter that builds with other flags and another environment, in a store of its own.
	Elsewhere(store string, flags, env []string) (Varied, error)
	// Constrain says in a test whether a build of this adapter meets its build constraint.
	Constrain(t *catalog.Test)
}

// Builder is an Adapter whose groups are built.
type Builder interface {
	// Build is Prepare. It also builds groups without tests to run, by their names, and runs what else these have. It returns
	// an entry for each group that fails; the tests of a group that is not built are lost.
	Build(ctx context.Context, tests []*catalog.Test, bare []string, progress func(what string)) ([]Entry, error)
}

// Entry is what a build, or a process beyond its tests, did: see [run.Event].
type Entry struct {
	run.Event        // its ID, Outcome and Failure
	Output    string // everything that was printed
}

// Found is what an adapter finds.
type Found struct {
	Tests   []catalog.Test // in declared order
	Bare    []string       // groups without tests, or whose tests cannot all be read, that are built with the others
	Notes   []string       // what is wrong and is ignored, with the place
	Nothing string         // if there are no tests: what was searched, where, and the likeliest reason

	named map[string]*naming // by ID: what Add received about it, until Close
	twice []string           // IDs that Add received more than once, in the order in which it did
}

// naming counts how often a program names a test.
type naming struct{ index, times int }

// mostTests bounds the tests that a program may name.
const mostTests = 1_000_000

// Add adds a test that a program names, with its tags and rules. The error says what
// is wrong with the name. After the last test, call Close.
func (f *Found) Add(t catalog.Test, tags []string, rules catalog.Rules, from string) error {
	if t.Name == "" || strings.ContainsAny(t.Group+t.Name, "\n\x00") {
		return fmt.Errorf("it names a test %q of group %q: a name must not be empty and must fit on a line", t.Name, t.Group)
	}
	t.ID = catalog.ID(t.Suite, t.Group, t.Name)
	if f.Repeated(t.ID) {
		return nil
	}
	if f.named == nil {
		f.named = map[string]*naming{}
	}
	if len(f.Tests) == mostTests {
		return fmt.Errorf("it names more than %d tests: make several suites of it", mostTests)
	}
	for _, tag := range tags {
		t.AddTag(tag, from)
	}
	t.AddRules(rules, from)
	f.named[t.ID] = &naming{len(f.Tests), 1}
	f.Tests = append(f.Tests, t)
	return nil
}

// Repeated reports whether Add received a test of this ID before, and counts that it is named again.
func (f *Found) Repeated(id string) bool {
	known := f.named[id]
	if known == nil {
		return false
	}
	if known.times++; known.times == 2 {
		f.twice = append(f.twice, id)
	}
	return true
}

// Close adds a skipped test for each name that Add received more than once, which says so, because only one test
// can be run by a name. The added name is one that no other test has.
func (f *Found) Close(from string) {
	for _, id := range f.twice {
		known := f.named[id]
		t := f.Tests[known.index]
		t.SkipReason = fmt.Sprintf("%s lists %d tests with this name, and only the first can run: rename the others", from, known.times)
		f.Notes = append(f.Notes, id+": "+t.SkipReason)
		name := t.Name
		for n := 2; f.named[t.ID] != nil; n++ {
			t.Name = fmt.Sprint(name, "~", n)
			t.ID = catalog.ID(t.Suite, t.Group, t.Name)
		}
		f.named[t.ID] = &naming{len(f.Tests), 1}
		f.Tests = append(f.Tests, t)
	}
	f.named, f.twice = nil, nil
}

// Adapter finds and runs the tests of one suite.
type Adapter interface {
	// Discover finds the suite's tests.
	Discover(ctx context.Context) (Found, error)
	// Touched returns a function that says how a change to files, given by their absolute paths, touches a test, as in
	// "clock/clock.go changed"; "" if it does not. A test's own file is not its concern.
	Touched(files []string) (func(*catalog.Test) string, error)
	// Prepare prepares once for all sessions what the tests need. A failure of one group only is reported when
	// that group runs. Prepare calls progress, from any goroutine, with words for what it does.
	Prepare(ctx context.Context, tests []*catalog.Test, progress func(what string)) error
	// Open makes a place to run tests in.
	Open(ctx context.Context, slot process.Slot) (Session, error)
	// Scope returns what one process of this suite holds, and so how far the state that a test leaves can reach: one test, which
	// leaves it outside of the process; tests of one group; or, for the suite, all that a worker runs, batch after batch.
	Scope() catalog.Level
}

// Session is a place to run tests, with state that may leak from test to test.
type Session interface {
	// Run runs the tests in order and sends the events of each to the sink: started, steps, output, finished.
	// Every test is finished when Run returns nil; an error means that ctx ended or that the session is useless.
	Run(ctx context.Context, tests []catalog.Test, sink run.Sink) error
	// Probe runs the tests in order in a fresh state and returns the state in which the last of them began, if it can with the parts
	// of the variables that detailed names.
	Probe(ctx context.Context, tests []catalog.Test, detailed []string) ([]hunt.Value, error)
	// Restore runs the tests in order in a fresh state, like Run, but before the last of them restores one piece
	// of the state to what it was before the first.
	Restore(ctx context.Context, tests []catalog.Test, what hunt.Change, sink run.Sink) error
	// Reset makes the state fresh: what a new process would see.
	Reset(ctx context.Context) error
	// Close ends the session and every process in it.
	Close() error
}
