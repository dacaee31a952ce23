package command

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/process"
	"fernrelay/internal/wording"
)

// results takes the results of one process. If the process runs one test, results with other names are the steps
// of the test, which is as bad as the worst of them.
type results struct {
	batch *adapter.Recorder
	tests []catalog.Test
	here  map[string]*catalog.Test // by ID
	names *catalog.Names           // of all tests of the suite

	mu        sync.Mutex
	open      []string // IDs without an outcome, in order; the first is taken to run
	steps     int      // of the only test
	worst     run.Event
	placed    bool          // a result names a test by its place, so that the places are groups
	elsewhere []run.Event   // outcomes that count unless placed
	stranger  string        // the first name that no test has
	finished  int           // outcomes of names that no test has
	bad       []string      // tests that the results call bad and that are not here, with their messages
	more      int           // of these that are left out
	failed    bool          // a test here is bad
	closed    bool          // close gave outcomes, which say how the process ended
	timed     bool          // the time of the process is that of its only test, whatever it reports
	started   bool          // the process runs, or did
	runs      string        // the ID of the latest test that the process reported to begin; "" once that has an outcome
	said      process.Tail  // what the process printed
	done      chan struct{} // closed once all tests have an outcome, of a process that runs batch after batch; otherwise nil
}

// The bounds of what is kept of results: bad tests of others that are named, and outcomes until the end of the process.
const (
	mostBad       = 10
	mostElsewhere = 100_000
)

func newResults(tests []catalog.Test, names *catalog.Names, batch *adapter.Recorder) *results {
	r := &results{batch: batch, tests: tests, names: names, here: make(map[string]*catalog.Test, len(tests)), said: process.Tail{Limit: saidKept}}
	for i := range tests {
		r.open = append(r.open, tests[i].ID)
		r.here[tests[i].ID] = &tests[i]
	}
	return r
}

// start starts the process, and begins the first test before the process can report anything.
func (r *results) start(process func() error) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := process(); err != nil {
		return err
	}
	r.started = true
	r.begin()
	r.batch.Allow(r.tests[0].ID, timeOfOthers(r.tests))
	return nil
}

// timeOfOthers is how much longer than its first test a process may take before it reports any outcome, as some report all at their
// end: twice what the others should take.
func timeOfOthers(tests []catalog.Test) time.Duration {
	seconds := 0.0
	for i := range tests[1:] {
		seconds += tests[1+i].Expected
	}
	return time.Duration(2 * seconds * float64(time.Second))
}

// unfinished returns the IDs of the tests without an outcome, in order.
func (r *results) unfinished() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.open)
}

// running returns the ID of the test that the process said began, if that has no outcome, or else "".
func (r *results) running() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.runs
}

// begin takes the first test that has no outcome to be the one that runs.
func (r *results) begin() {
	if len(r.open) > 0 {
		r.batch.Started(r.open[0])
	}
}

// take takes an event of the results.
func (r *results) take(e run.Event) {
	if e.Event == run.RunBegins || e.Event == run.RunEnds {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	id, match := r.names.Find(e.ID, e.File)
	t := r.here[id]
	_, name, cut := strings.Cut(e.ID, "#")
	switch {
	case match == catalog.NameElsewhere && t != nil && r.done == nil: // otherwise nothing comes to settle it
		r.postpone(e)
	case t != nil:
		r.placed = r.placed || match == catalog.NamePlace
		r.known(t, e)
	case len(r.tests) == 1 && r.done == nil && match != catalog.NamePlace && !(cut && name == r.tests[0].Name):
		r.step(e)
	default:
		r.strange(e)
	}
}

// known takes an event of a test that is here.
func (r *results) known(t *catalog.Test, e run.Event) {
	switch e.Event {
	case run.Started:
		r.runs = t.ID
		r.batch.Allow(r.tests[0].ID, 0)
		r.batch.Started(t.ID)
	case run.Output:
		r.batch.Output(t.ID, []byte(e.Text))
	case run.StepDone:
		r.batch.Started(t.ID)
		r.batch.Step(t.ID, e)
	case run.Finished:
		e.Own = true
		r.finish(t, e)
	}
}

// postpone keeps an outcome until the process has ended, as only then is it known whether its place is a group.
func (r *results) postpone(e run.Event) {
	switch {
	case e.Event != run.Finished:
	case len(r.elsewhere) == mostElsewhere:
		r.strange(e)
	default:
		r.elsewhere = append(r.elsewhere, e)
	}
}

// settle takes the outcomes that were postponed, and a bad step of the only test although that passed.
func (r *results) settle() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range r.elsewhere {
		id, _ := r.names.Find(e.ID, e.File)
		if r.placed {
			r.strange(e)
		} else {
			e.Own = true
			r.finish(r.here[id], e)
		}
	}
	r.elsewhere = nil
	if len(r.open) == 0 && r.worst.Outcome.Bad() {
		r.finish(&r.tests[0], run.Event{Outcome: run.Failed, Failure: r.worst.Failure})
	}
}

// strange takes an event of a test that is not here.
func (r *results) strange(e run.Event) {
	r.stranger = cmp.Or(r.stranger, e.ID)
	if e.Event != run.Finished {
		return
	}
	if r.finished++; !e.Outcome.Bad() {
		return
	}
	if len(r.bad) == mostBad {
		r.more++
		return
	}
	r.bad = append(r.bad, strings.TrimSuffix(fmt.Sprintf("%s %s: %s", e.ID, e.Outcome, e.Message), ": "))
}

func (r *results) finish(t *catalog.Test, e run.Event) {
	wasOpen := len(r.open) > 0
	r.failed = r.failed || e.Outcome.Bad()
	if r.runs == t.ID {
		r.runs = ""
	}
	if r.started {
		r.batch.Allow(r.tests[0].ID, 0)
		r.batch.Started(t.ID)
	}
	e.ID = t.ID
	if r.timed {
		e.Seconds = nil // measured
	}
	if e.File == "" {
		e.File, e.Line = t.File, t.Line
	}
	r.batch.Finished(e)
	if len(r.open) > 0 && r.open[0] == t.ID { // as nearly always
		r.open = r.open[1:]
	} else {
		r.open = slices.DeleteFunc(r.open, func(id string) bool { return id == t.ID })
	}
	if len(r.open) > 0 {
		r.batch.Rewind(r.open[0]) // it may have been taken to run too early
	}
	if r.started {
		r.begin()
	}
	if wasOpen && len(r.open) == 0 && r.done != nil {
		close(r.done)
	}
}

// step takes the result of a part of the only test.
func (r *results) step(e run.Event) {
	id := r.tests[0].ID
	switch e.Event {
	case run.Output:
		r.batch.Output(id, []byte(e.Text))
	case run.StepDone:
		e.Step = e.ID + "/" + e.Step
		r.batch.Step(id, e)
	case run.Finished:
		r.steps++
		e.Step = e.ID
		r.batch.Step(id, e)
		if e.Outcome.Bad() && !r.worst.Outcome.Bad() {
			if e.Message == "" {
				e.Message = e.ID + " " + string(e.Outcome)
			} else {
				e.Message = e.ID + ": " + e.Message
			}
			r.worst = e
		}
	}
}

// close sets the outcome of every test without a result, once the process has ended well or badly. fault is what
// is wrong with the results.
func (r *results) close(ending string, code int, fault error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.open) == 0 {
		return
	}
	r.closed = true
	if len(r.tests) == 1 && r.steps > 0 {
		r.finish(&r.tests[0], r.whole(ending, code, fault))
		return
	}
	why := "its process reported no outcome for it"
	if fault != nil {
		why += ": " + fault.Error()
	}
	switch {
	case r.stranger != "" && len(r.open) == len(r.tests):
		why += fmt.Sprintf("; none of its results names a test here (%s, the first is %q)", wording.Plural(r.finished, "result"), r.stranger)
	case r.stranger != "":
		why += fmt.Sprintf("; the results name %q, which is no test here", r.stranger)
	}
	if code != 0 {
		why += "; " + ending
	}
	if last := process.LastLines(r.said.String(), messageLimit); last != "" {
		why += ": " + last
	}
	for _, id := range slices.Clone(r.open) {
		r.finish(r.here[id], run.Event{Outcome: run.Errored, Failure: run.Failure{Message: why}})
	}
}

// reportBeyond reports what the process did that no outcome of its tests shows: how it ended, what
// is wrong with its results, and bad tests that are not here.
func (r *results) reportBeyond(sink run.Sink, end ending) {
	r.mu.Lock()
	defer r.mu.Unlock()
	e := run.Event{Outcome: run.Errored, Failure: run.Failure{File: r.tests[0].File}}
	var why []string
	if len(r.bad) > 0 {
		why = append(why, "its results name tests that are not known here or not picked: "+strings.Join(r.bad, "; "))
	}
	if r.more > 0 {
		why = append(why, fmt.Sprintf("and %d more", r.more))
	}
	if len(r.open) == 0 && !r.closed {
		if end.fault != nil {
			why = append(why, end.fault.Error())
		}
		switch {
		case end.silent == adapter.AfterTests:
			e.Outcome = run.TimedOut
			why = append(why, "the process was "+r.batch.Silent(end.silent))
		case end.code < 0 || end.code > 0 && !r.failed:
			why = append(why, "after its last test the process ended with "+end.words)
		}
	}
	if why == nil {
		return
	}
	said := r.said.String()
	if last := process.LastLines(said, messageLimit); last != "" {
		why = append(why, last)
	}
	e.ID, e.Message = catalog.ID(r.tests[0].Suite, r.tests[0].Group, run.ProcessEntry), strings.Join(why, "; ")
	adapter.ReportBeyond(sink, e, said)
}

// whole returns the outcome of the only test, from its steps.
func (r *results) whole(ending string, code int, fault error) run.Event {
	e := run.Event{Outcome: run.Passed}
	switch {
	case r.worst.Outcome.Bad():
		e = run.Event{Outcome: run.Failed, Failure: r.worst.Failure}
		if fault != nil {
			e.Message += "; " + fault.Error()
		}
	case fault != nil:
		e.Outcome, e.Message = run.Errored, fault.Error()
	case code != 0:
		e.Outcome, e.Message = run.Errored, "everything that it reported passed, but it ended with "+ending
	}
	return e
}

// readReport reads the results that a process wrote to a file, or to the files of
// a folder.
func readReport(name string, read func(io.Reader, run.Sink) error, sink run.Sink) error {
	info, err := os.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return errors.New("it wrote no report")
	}
	if err != nil {
		return err
	}
	files := []string{name}
	if info.IsDir() {
		entries, err := os.ReadDir(name)
		if err != nil {
			return err
		}
		files = nil
		for _, entry := range entries {
			files = append(files, filepath.Join(name, entry.Name()))
		}
	}
	var faults []error
	for _, file := range files {
		in, err := os.Open(file)
		if err != nil {
			return err
		}
		if err := read(in, sink); err != nil {
			faults = append(faults, fmt.Errorf("%s: %w", filepath.Base(file), err))
		}
		in.Close()
	}
	return errors.Join(faults...)
}
