// Package run defines the outcomes of tests, the events that report a run, and the run that they add up to.
//
//	r := run.New()
//	for e := range events {
//		r.Apply(e)
//	}
//	for _, result := range r.Troubled() {
//		fmt.Println(result.ID, result.Outcome, result.Message)
//	}
//	os.Exit(r.ExitStatus())
//
// Adapters, screens and files all use the one [Event] type. [Event], [Result] and [Step] embed the one
// [Failure], so what one format reads another can write. [Merge] combines the reports of several machines.
package run

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Outcome is the outcome of one test in one run.
type Outcome string

// The outcomes. Owed is a failure that was expected, Surprise a pass although a failure was expected, Lost a
// picked test without an outcome.
const (
	Passed   Outcome = "passed"
	Failed   Outcome = "failed"
	Errored  Outcome = "errored"
	TimedOut Outcome = "timed-out"
	Skipped  Outcome = "skipped"
	Owed     Outcome = "owed"
	Surprise Outcome = "surprise"
	Lost     Outcome = "lost"
)

// Outcomes lists all outcomes in the order in which reports print them.
var Outcomes = []Outcome{Passed, Failed, Errored, TimedOut, Skipped, Owed, Surprise, Lost}

// OutcomeNamed returns the outcome with a name. It does not keep the text alive that the name is cut
// out of. It returns an unknown name as it is.
func OutcomeNamed(name string) Outcome {
	if i := slices.Index(Outcomes, Outcome(name)); i >= 0 {
		return Outcomes[i]
	}
	return Outcome(name)
}

// Beyond is counted in place of the outcome of an entry: see [Event.Entry].
const Beyond Outcome = "beyond"

// The names of entries, as if they were tests of their group: for what a process did beyond its tests, and for a build that
// failed. In Go, the entry of a process that has a TestMain has that name.
const (
	ProcessEntry = "process"
	BuildEntry   = "build"
)

var shapes = map[Outcome]string{
	Passed: "▪", Failed: "▲", Errored: "◆", TimedOut: "▼", Skipped: "▫", Owed: "△", Surprise: "◇", Lost: "∅",
}

// Shape is the outcome's sign on screens and in drawings; "·" for none yet.
func (o Outcome) Shape() string {
	if s, ok := shapes[o]; ok {
		return s
	}
	return "·"
}

// Bad reports whether the outcome makes a run fail.
func (o Outcome) Bad() bool { return o == Failed || o == Errored || o == TimedOut }

// Evidence reports what the outcome is evidence of: that its test was bad, that it was well, or nothing, as for a
// skipped or lost test.
func (o Outcome) Evidence() (bad, something bool) {
	return o.Bad(), o != "" && o != Skipped && o != Lost
}

// rank orders outcomes by which one counts if a test has several: a failure more than a pass, and a pass more than
// none.
var rank = []Outcome{Failed, Errored, TimedOut, Surprise, Owed, Passed, Skipped, Lost}

// Worse reports whether the outcome counts rather than another one of the same test.
func (o Outcome) Worse(than Outcome) bool {
	return than == "" && o != "" || slices.Index(rank, o) < slices.Index(rank, than)
}

// CountBad counts those that make a run fail, entries included.
func CountBad(counts map[Outcome]int) int {
	bad := counts[Beyond]
	for o, n := range counts {
		if o.Bad() {
			bad += n
		}
	}
	return bad
}

// CountTests counts the tests that have an outcome, without entries.
func CountTests(counts map[Outcome]int) int {
	n := 0
	for o, count := range counts {
		if o != Beyond {
			n += count
		}
	}
	return n
}

// Kind is what an event reports.
type Kind string

// The kinds of event. A run begins with RunBegins and closes with RunEnds.
const (
	RunBegins Kind = "run"
	Started   Kind = "started"
	StepDone  Kind = "step"
	Output    Kind = "output"
	Measured  Kind = "measured" // what a process used
	Finished  Kind = "finished"
	Found     Kind = "finding" // what a hunt after the tests found
	RunEnds   Kind = "end"

	ServiceReady Kind = "service"
)

// Reported reports whether the event lines of reports have events of the kind.
func (k Kind) Reported() bool { return k != Measured && k != ServiceReady }

// Format names the event lines that "run --events" writes.
const Format = "fern-events/1"

// A Failure says what went wrong and where. The zero Failure means nothing did. For skipped tests, its Message is
// the reason.
type Failure struct {
	Message  string `json:"message,omitempty"`
	File     string `json:"file,omitempty"` // relative to the project, slash-separated
	Line     int    `json:"line,omitempty"`
	Expected string `json:"expected,omitempty"`
	Actual   string `json:"actual,omitempty"`
}

// Where returns the place where it went wrong: a file with its line if that is known, "" if nothing is.
func (f *Failure) Where() string {
	if f.File == "" || f.Line == 0 {
		return f.File
	}
	return fmt.Sprintf("%s:%d", f.File, f.Line)
}

// Event is one thing that happened in a run, and a line of "run --events".
type Event struct {
	Event   Kind            `json:"event"`
	Format  string          `json:"format,omitempty"` // of a RunBegins
	At      time.Time       `json:"at"`
	Machine string          `json:"machine,omitempty"` // of a run of several machines
	Worker  int             `json:"worker,omitempty"`  // from 1, on its machine
	Batch   int             `json:"batch,omitempty"`   // from 1
	ID      string          `json:"id,omitempty"`
	Step    string          `json:"step,omitempty"` // of a StepDone: its name within the test
	Text    string          `json:"text,omitempty"` // of an Output; of a ServiceReady its environment, as NAME=value, a line each
	Bulk    []byte          `json:"-"`              // of an Output of a test that prints a lot, in place of Text; valid until the sink returns
	Outcome Outcome         `json:"outcome,omitempty"`
	Seconds *float64        `json:"seconds,omitempty"` // of a Finished and a StepDone
	Flaky   bool            `json:"flaky,omitempty"`   // of a Finished that passed: it was bad in a try before
	Entry   bool            `json:"entry,omitempty"`   // of a Finished: what a process did beyond its tests, or a build that failed, which is no test
	Again   Outcome         `json:"again,omitempty"`   // of a Finished of a test that has an outcome: that one, which this replaces as worse
	Own     bool            `json:"-"`                 // of a Finished that is errored: the test itself reports the error, it did not crash
	Failure                 // of a Finished and a StepDone; of a RunEnds its Message is what went wrong beside the tests
	Used    *Used           `json:"used,omitempty"`    // of a Measured
	Counts  map[Outcome]int `json:"counts,omitempty"`  // of a RunEnds
	Service string          `json:"service,omitempty"` // of a ServiceReady: its name; Seconds is how long it took to start
	About                   // of a RunBegins
	Finding *Finding        `json:"finding,omitempty"` // of a Found
}

// Finding is what a hunt in a run found out about a test that failed.
type Finding struct {
	Verdict  string     `json:"verdict"`
	Words    string     `json:"words"` // a sentence
	Culprits [][]string `json:"culprits,omitempty"`
	Order    []string   `json:"order,omitempty"`  // the shortest order that shows the failure
	Remedy   string     `json:"remedy,omitempty"` // the state that the culprits leave, and where to restore it; empty if that is not known
	See      string     `json:"see,omitempty"`    // the command that shows it in the project's folder; empty for none
}

// Headline is the first that a report says of the failure: what the hunt found, and what to do.
func (f *Finding) Headline() string {
	if f.Remedy == "" {
		return f.Words
	}
	return strings.TrimSuffix(f.Words, ".") + ". " + f.Remedy
}

// Used is what a process used while it ran a test, or the tests of its batch if the event names none.
type Used struct {
	Processor float64 `json:"processor_s"` // seconds of a processor, by all of its processes
	Stalled   float64 `json:"stalled_s"`   // seconds in which it waited for a processor; below 0 if the system does not say
	Thread    float64 `json:"thread_s"`    // seconds of a processor by the thread that used most, as far as that is known
	Threads   float64 `json:"threads_s"`   // seconds of a processor by all threads of the process itself, as far as that is known
	Delayed   float64 `json:"delayed_s"`   // seconds in which those waited for a processor
	Slowed    float64 `json:"slowed"`      // how many times as long it took as it takes alone
	Share     float64 `json:"share"`       // processors that it keeps busy when it runs alone
}

// Planned says which part of which plan a run is. Shards that were planned alike, from the same tests with the
// same times, have the same fingerprints.
type Planned struct {
	Shard   int    `json:"shard"` // from 1
	Of      int    `json:"of"`
	Plan    string `json:"plan"`
	Catalog string `json:"catalog"`
	Timings string `json:"timings"`
	Pick    string `json:"pick,omitempty"` // of the tests that the plan is of

	Conditions map[string]bool `json:"conditions,omitempty"` // of the rule only-if, and whether each is met
}

// Sink takes events one after another.
type Sink func(Event)

// Took makes the Seconds of an event.
func Took(seconds float64) *float64 { return &seconds }
