package run

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Step is the result of a part of a test that the test reports by name.
type Step struct {
	Name    string  `json:"name"`
	Outcome Outcome `json:"outcome"`
	Seconds float64 `json:"seconds"`
	Failure
}

// Result is everything known about one test in one run, while it runs and after.
type Result struct {
	ID             string
	Outcome        Outcome // empty while it runs
	Seconds        float64
	Worker, Batch  int // from 1; 0 if it never started. In a run of several machines, workers are counted across all of them
	Started, Ended time.Time
	Flaky          bool    // it passed, and was bad in a try before
	Entry          bool    // it is no test but what a process did beyond its tests, or a build that failed
	several        bool    // the run has more than one result of it
	Slowed         float64 // how many times as long it took as alone, because others used the processors; 0 if not known
	Share          float64 // processors that it keeps busy when it runs alone; 0 if not known
	Failure
	Steps   []Step
	Finding *Finding // of a hunt in the run; nil if it was not hunted
	Output  []byte   // the head and the tail, at most outputLimit bytes together
}

// outputLimit bounds the output kept of one test, in bytes; the first half is
// kept as head, of the rest the newest.
const outputLimit = 64 << 10

const outputCut = "\n… output left out here …\n"

// Run is the fold of a run's events.
type Run struct {
	Results        []*Result // in the order in which they started, or finished without a start
	Counts         map[Outcome]int
	Started, Ended time.Time
	About
	Note       string  // what went wrong beside the tests
	Idle       bool    // nothing ran, and not because of rules alone
	Places     []Place // by worker, of a run of several machines; empty for a run of one
	Services   []Service
	Crossing   string // of the matrix, as in store=redis,season=winter, where several are written together; else empty
	byID       map[string]*Result
	Work       float64            // seconds of all results, as each takes alone
	Starts     float64            // seconds that processes took beside their tests, as if each had been alone
	Begun      map[string]float64 // of those, the latest by suite:group
	unmeasured map[int][]*Result  // by batch
	batches    int                // the greatest number of a batch
	several    []string           // IDs of tests with more than one result
}

// Service is a service that was started for a run, and the seconds until it was ready.
type Service struct {
	Name  string  `json:"name"`
	Ready float64 `json:"ready_s"`
	Env   string  `json:"-"` // that its tests find it in, as NAME=value, a line each
}

// Place is where a worker of a run of several machines is.
type Place struct {
	Machine string `json:"machine"`
	Worker  int    `json:"worker"` // on its machine, from 1
}

// Label names the place as charts do: "worker 2", or "moss 2" for a worker of a machine.
func (p Place) Label() string { return cmp.Or(p.Machine, "worker") + " " + strconv.Itoa(p.Worker) }

// WorkerOf returns the number of an event's worker in the run, from 1, and 0 if it has none. Workers of several machines
// get their numbers in the order in which the run sees them.
func (r *Run) WorkerOf(e Event) int {
	if e.Machine == "" || e.Worker == 0 {
		return e.Worker
	}
	place := Place{e.Machine, e.Worker}
	at := slices.Index(r.Places, place)
	if at < 0 {
		at = len(r.Places)
		r.Places = append(r.Places, place)
	}
	return at + 1
}

// PlaceOf returns where a worker of the run is: on no named machine if it is a run of one.
func (r *Run) PlaceOf(worker int) Place {
	if worker < 1 || worker > len(r.Places) {
		return Place{Worker: worker}
	}
	return r.Places[worker-1]
}

// On puts the workers of a run that names no machine on one.
func (r *Run) On(machine string) {
	if r.Places != nil {
		return
	}
	for _, res := range r.Results {
		res.Worker = r.WorkerOf(Event{Machine: machine, Worker: res.Worker})
	}
}

// Alone returns the seconds that the test takes when no other uses the processors.
func (res *Result) Alone() float64 { return res.Seconds / max(1, res.Slowed) }

// New makes an empty run.
func New() *Run { return sized(0) }

// sized makes an empty run with room for a number of results.
func sized(results int) *Run {
	return &Run{Counts: map[Outcome]int{}, Results: make([]*Result, 0, results), byID: make(map[string]*Result, results), unmeasured: map[int][]*Result{}}
}

// Of returns a run of tests that have ended, in the order in which they began. It takes the results over.
func Of(results []Result) *Run {
	r := sized(len(results))
	for i := range results {
		res := &results[i]
		r.Results, r.byID[res.ID] = append(r.Results, res), res
		r.Counts[res.counted()]++
		r.Work += res.Alone()
		r.batches = max(r.batches, res.Batch)
	}
	return r
}

// counted returns the outcome as which the result is counted.
func (res *Result) counted() Outcome {
	if res.Entry && res.Outcome.Bad() {
		return Beyond
	}
	return res.Outcome
}

// Tests counts the tests of the run, without entries.
func (r *Run) Tests() int {
	n := 0
	for _, res := range r.Results {
		if !res.Entry {
			n++
		}
	}
	return n
}

// Entries returns the results that are no tests.
func (r *Run) Entries() []*Result {
	var entries []*Result
	for _, res := range r.Results {
		if res.Entry {
			entries = append(entries, res)
		}
	}
	return entries
}

// Unbuilt reports whether a result is that of a test that is lost because the build of its group failed. The run says so
// by an entry.
func (r *Run) Unbuilt(res *Result) bool {
	if res.Outcome != Lost {
		return false
	}
	place, _, _ := strings.Cut(res.ID, "#")
	entry := r.byID[place+"#"+BuildEntry]
	return entry != nil && entry.Entry
}

// Result returns the result of a test, nil if there is none.
func (r *Run) Result(id string) *Result { return r.byID[id] }

// Done counts the tests that have an outcome.
func (r *Run) Done() int { return CountTests(r.Counts) }

// Apply folds one event into the run.
func (r *Run) Apply(e Event) {
	switch e.Event {
	case RunBegins:
		r.Started, r.About = e.At, e.today()
	case RunEnds:
		r.Ended, r.Note = e.At, e.Message
	case Started:
		res := r.at(e)
		res.Started = e.At
	case StepDone:
		res := r.at(e)
		res.Steps = append(res.Steps, Step{Name: e.Step, Outcome: e.Outcome, Seconds: seconds(e), Failure: e.Failure})
	case Output:
		r.at(e).Keep(e.Text)
	case Finished:
		r.finish(e)
	case Found:
		if res := r.byID[e.ID]; res != nil {
			res.Finding = e.Finding
		}
	case Measured:
		r.measure(e)
	case ServiceReady:
		r.Services = append(r.Services, Service{e.Service, seconds(e), e.Text})
	}
}

// measure notes what a process used for the tests of its batch that have ended and are not measured yet, or for one.
func (r *Run) measure(e Event) {
	if e.Used == nil {
		return
	}
	measured := r.unmeasured[e.Batch]
	if res := r.byID[e.ID]; res != nil {
		measured = []*Result{res}
	}
	if e.ID == "" && len(measured) > 0 && e.Seconds != nil {
		r.begun(measured, *e.Seconds, max(1, e.Used.Slowed))
	}
	for _, res := range measured {
		r.Work -= res.Alone()
		res.Slowed, res.Share = e.Used.Slowed, e.Used.Share
		r.Work += res.Alone()
	}
	delete(r.unmeasured, e.Batch)
}

// begun notes how much of a process's time was beside the tests that it ran: before the first, between them and after the last.
// Of tests that a program reports at its end, only their own times say how long they ran. slowed is how many times as long the process
// took as alone.
func (r *Run) begun(tests []*Result, seconds, slowed float64) {
	first, last := tests[0].Started, tests[0].Ended
	own := 0.0
	for _, t := range tests {
		own += t.Seconds
		if t.Started.Before(first) {
			first = t.Started
		}
		if t.Ended.After(last) {
			last = t.Ended
		}
	}
	beside := max(0, seconds-min(own, last.Sub(first).Seconds())) / slowed
	place, _, _ := strings.Cut(tests[0].ID, "#")
	if r.Begun == nil {
		r.Begun = map[string]float64{}
	}
	r.Starts += beside
	r.Begun[place] = beside
}

// finish takes a result of a test. Of several the worst counts.
func (r *Run) finish(e Event) {
	res := r.at(e)
	if res.Outcome != "" {
		if res.Outcome != Lost && e.Outcome != Lost && !res.several {
			res.several, r.several = true, append(r.several, e.ID)
		}
		if owes := e.Again == Surprise && e.Outcome == Owed; !e.Outcome.Worse(res.Outcome) && !owes {
			return // a test that failed after all owes its failure
		}
		r.Counts[res.counted()]--
	}
	res.Entry = e.Entry
	r.Work -= res.Alone() // of an earlier outcome
	res.Outcome, res.Seconds, res.Ended = e.Outcome, seconds(e), e.At
	r.Counts[res.counted()]++
	r.Work += res.Alone()
	res.Failure, res.Flaky = e.Failure, e.Flaky
	if res.Started.IsZero() {
		res.Started = e.At
	}
	if e.Worker != 0 {
		r.unmeasured[e.Batch] = append(r.unmeasured[e.Batch], res)
	}
}

// mostNamed bounds the tests that a note names.
const mostNamed = 5

// Several names the tests of which the run has more than one result, in words; "" if there are none.
func (r *Run) Several() string {
	n := len(r.several)
	if n == 0 {
		return ""
	}
	words := strings.Join(r.several[:min(n, mostNamed)], ", ")
	if n > mostNamed {
		words += fmt.Sprintf(" and %d more", n-mostNamed)
	}
	if n == 1 {
		return "1 test has several results, of which the worst counts: " + words
	}
	return fmt.Sprintf("%d tests have several results, of which the worst counts: %s", n, words)
}

// AddNote adds a line to what went wrong beside the tests, unless it is empty.
func (r *Run) AddNote(text string) { r.Note = strings.TrimSpace(r.Note + "\n" + text) }

func (r *Run) at(e Event) *Result {
	res := r.byID[e.ID]
	if res == nil {
		res = &Result{ID: e.ID}
		r.byID[e.ID] = res
		r.Results = append(r.Results, res)
	}
	if e.Worker != 0 {
		res.Worker, res.Batch = r.WorkerOf(e), e.Batch
		r.batches = max(r.batches, e.Batch)
	}
	return res
}

// Keep adds what the test printed to the output that is kept of it.
func (res *Result) Keep(text string) {
	res.Output = append(res.Output, text...)
	if len(res.Output) <= outputLimit {
		return
	}
	head := res.Output[:outputLimit/2]
	tail := res.Output[len(res.Output)-outputLimit/4:]
	res.Output = slices.Concat(head, []byte(outputCut), tail)
}

// Troubled returns the results that make the run fail: builds first, then the others in the order in which they ended.
func (r *Run) Troubled() []*Result {
	var bad []*Result
	for _, res := range r.Results {
		if res.Outcome.Bad() {
			bad = append(bad, res)
		}
	}
	slices.SortStableFunc(bad, func(a, b *Result) int {
		switch {
		case a.IsBuild() != b.IsBuild() && a.IsBuild():
			return -1
		case a.IsBuild() != b.IsBuild():
			return 1
		}
		return a.Ended.Compare(b.Ended)
	})
	return bad
}

// IsBuild reports whether the result is the entry of a build that failed.
func (res *Result) IsBuild() bool { return res.Entry && strings.HasSuffix(res.ID, "#"+BuildEntry) }

// Flaky lists the results that passed and were bad in a try before.
func (r *Run) Flaky() []*Result {
	var flaky []*Result
	for _, res := range r.Results {
		if res.Flaky {
			flaky = append(flaky, res)
		}
	}
	return flaky
}

// Summary returns the counts in words: "70 passed, 1 failed". Tests that passed in a later try only do not count
// as passed.
func (r *Run) Summary() string {
	flaky := len(r.Flaky())
	var parts []string
	for _, o := range Outcomes {
		n := r.Counts[o]
		if o == Passed {
			n -= flaky
		}
		if n > 0 {
			parts = append(parts, strconv.Itoa(n)+" "+string(o))
		}
		if o == Passed && flaky > 0 {
			parts = append(parts, strconv.Itoa(flaky)+" flaky")
		}
	}
	if n := r.Counts[Beyond]; n > 0 {
		parts = append(parts, plural(n, "error")+" beyond the tests")
	}
	if parts == nil {
		return "nothing ran"
	}
	return strings.Join(parts, ", ")
}

// ExitStatus returns the status with which a command ends that did this run: 3 if something is lost or nothing ran
// that should have, 1 if something is bad, 0 if all is well. A test that is lost because a build failed is bad.
func (r *Run) ExitStatus() int {
	if r.Idle || r.Counts[Lost] > 0 && (r.Counts[Beyond] == 0 || slices.ContainsFunc(r.Results, r.isMissing)) {
		return 3
	}
	if CountBad(r.Counts) > 0 {
		return 1
	}
	return 0
}

// isMissing reports whether a test is lost, and not because of a build.
func (r *Run) isMissing(res *Result) bool { return res.Outcome == Lost && !r.Unbuilt(res) }

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprint(n, " ", noun, "s")
}

func seconds(e Event) float64 {
	if e.Seconds == nil {
		return 0
	}
	return *e.Seconds
}
