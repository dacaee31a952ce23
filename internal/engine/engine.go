// Package engine runs batches of tests on workers. Workers take the next batch
// from one queue; each owns a slot and one session a suite. Every test of a job
// comes to exactly one outcome, lost included.
package engine

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
	"fernrelay/core/outcome"
	"fernrelay/internal/adapter"
)

// Batch is what a worker takes from the queue at once: tests of one suite, in
// the order in which they run.
type Batch struct {
	Suite  string
	Tests  []catalog.Test
	Worker int // the only one that takes it; 0 for whichever is free
}

// Seconds is the expected time of the batch.
func (b Batch) Seconds() float64 {
	sum := 0.0
	for _, t := range b.Tests {
		sum += t.Expected
	}
	return sum
}

// Job is what Run runs.
type Job struct {
	Adapters  map[string]adapter.Adapter // by suite
	Queue     []Batch                    // the first that is free is taken first
	Workers   int                        // at least 1
	Resources map[string]int             // how many batches may hold each at once; 1 where nothing is said
	Setup     adapter.Setup              // of the workers' slots
	StopAfter int                        // after so many bad outcomes nothing new is begun; 0 for never
}

// Queue folds tests into batches. With inOrder the batches stand and run in the
// order of the tests: a group whose processes hold only itself becomes one
// batch, where state reaches further only neighbours are joined. Otherwise each
// group is one batch and the longest stands first. The tests stand behind those
// that they depend on; one that depends on another group stands in a later batch
// of its own group, so that no two batches wait for each other. worker says by ID
// which worker a test is for, where that is planned.
func Queue(tests []catalog.Test, adapters map[string]adapter.Adapter, inOrder bool, worker map[string]int) []Batch {
	type place struct {
		suite, group  string
		level, worker int
	}
	var queue []Batch
	at := map[place]int{}
	levels := levels(tests)
	for i, t := range tests {
		p := place{t.Suite, t.Group, levels[i], worker[t.ID]}
		i, ok := at[p]
		if ok && inOrder && i != len(queue)-1 && adapters[t.Suite].Scope() == adapter.ScopeWorker {
			ok = false
		}
		if !ok {
			i = len(queue)
			at[p] = i
			queue = append(queue, Batch{Suite: t.Suite, Worker: p.worker})
		}
		queue[i].Tests = append(queue[i].Tests, t)
	}
	if !inOrder {
		slices.SortStableFunc(queue, func(a, b Batch) int {
			switch x, y := a.Seconds(), b.Seconds(); {
			case x > y:
				return -1
			case x < y:
				return 1
			}
			return 0
		})
	}
	return queue
}

// levels tells for each test how many times its chain of dependencies goes from
// one group to another.
func levels(tests []catalog.Test) []int {
	levels := make([]int, len(tests))
	index := make(map[string]int, len(tests))
	for i := range tests {
		t := &tests[i]
		index[t.ID] = i
		for _, id := range order.Dependencies(t) {
			d, ok := index[id]
			if !ok {
				continue
			}
			level := levels[d]
			if tests[d].Group != t.Group || tests[d].Suite != t.Suite {
				level++
			}
			levels[i] = max(levels[i], level)
		}
	}
	return levels
}

// Run runs the job and tells the sink everything, from the run's beginning to
// its end, one event at a time. When ctx ends, what runs is killed and what has
// no outcome is lost. The error, if any, is one of the machine's, such as no
// room for temporary files; what goes wrong with tests is told as events.
func Run(ctx context.Context, job Job, sink outcome.Sink) error {
	temp, err := os.MkdirTemp("", "fern-relay-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(temp)
	r := &run{job: job, temp: temp, sink: sink, counts: map[outcome.Outcome]int{}, open: map[string]*catalog.Test{},
		came: map[string]outcome.Outcome{}, taken: make([]bool, len(job.Queue)), held: map[string]int{},
		running: map[int]int{}, cancels: map[int]context.CancelFunc{}}
	r.changed = sync.NewCond(&r.mu)
	defer context.AfterFunc(ctx, r.changed.Broadcast)()
	for _, b := range job.Queue {
		for i := range b.Tests {
			r.open[b.Tests[i].ID] = &b.Tests[i]
		}
	}
	r.tell(outcome.Event{Event: outcome.RunBegins, Format: outcome.Format})
	r.prepare(ctx)
	var wg sync.WaitGroup
	for number := 1; number <= job.Workers; number++ {
		wg.Go(func() { r.work(ctx, number) })
	}
	wg.Wait()
	left, why := outcome.Lost, "the run was interrupted before it had an outcome"
	if r.stopping && ctx.Err() == nil {
		left, why = outcome.Skipped, fmt.Sprintf("the run stopped after %d that failed", job.StopAfter)
	}
	for _, b := range job.Queue {
		for _, t := range b.Tests {
			r.give(t, 0, 0, left, why)
		}
	}
	r.tell(outcome.Event{Event: outcome.RunEnds, Counts: r.counts, Message: strings.Join(r.notes, "\n")})
	return nil
}

// run is one job under way.
type run struct {
	job  Job
	temp string

	mu      sync.Mutex
	changed *sync.Cond // an outcome came, a batch ended, or the run is to end
	sink    outcome.Sink
	taken   []bool                     // by batch
	held    map[string]int             // by resource, how many batches hold it
	open    map[string]*catalog.Test   // without an outcome yet
	came    map[string]outcome.Outcome // by ID
	counts  map[outcome.Outcome]int

	notes    []string                   // what went wrong beside the tests
	stopping bool                       // nothing new is to begin
	running  map[int]int                // by worker: tests that run
	cancels  map[int]context.CancelFunc // by worker: ends what it does
}

// prepare makes ready each suite for what will be run of it.
func (r *run) prepare(ctx context.Context) {
	var suites []string
	tests := map[string][]catalog.Test{}
	for _, b := range r.job.Queue {
		if !slices.Contains(suites, b.Suite) {
			suites = append(suites, b.Suite)
		}
		tests[b.Suite] = append(tests[b.Suite], wanted(b.Tests)...)
	}
	for _, suite := range suites {
		err := r.job.Adapters[suite].Prepare(ctx, tests[suite])
		if err == nil || ctx.Err() != nil {
			continue
		}
		for _, t := range tests[suite] {
			r.give(t, 0, 0, outcome.Errored, err.Error())
		}
	}
}

// wanted leaves out the tests that will not run here.
func wanted(tests []catalog.Test) []catalog.Test {
	return slices.DeleteFunc(slices.Clone(tests), func(t catalog.Test) bool { return t.PutOut != "" })
}

// work is one worker: it takes batches until there are none.
func (r *run) work(ctx context.Context, number int) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(ctx, r.changed.Broadcast)()
	r.mu.Lock()
	r.cancels[number] = cancel
	r.mu.Unlock()
	seat := &seat{number: number, sessions: map[string]adapter.Session{}}
	defer r.leave(seat)
	for ctx.Err() == nil {
		batch, at := r.take(ctx, number)
		if at == 0 {
			return
		}
		err := r.runBatch(ctx, batch, at, seat)
		if err != nil && ctx.Err() == nil {
			for _, t := range batch.Tests {
				r.give(t, number, at, outcome.Errored, err.Error())
			}
		}
		r.release(batch)
	}
}

// take gives the first batch that is free for a worker and its number from 1, and
// waits where none is free yet; 0 where all are taken or the run is to end.
func (r *run) take(ctx context.Context, worker int) (Batch, int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for ctx.Err() == nil {
		left := false
		for i, b := range r.job.Queue {
			if r.taken[i] || b.Worker != 0 && b.Worker != worker {
				continue
			}
			left = true
			if !r.free(b) {
				continue
			}
			r.taken[i] = true
			for _, resource := range b.uses() {
				r.held[resource]++
			}
			return b, i + 1
		}
		if !left {
			break
		}
		r.changed.Wait()
	}
	return Batch{}, 0
}

// free reports whether nothing that a batch waits for is still to come: tests of
// other batches, or its turn at a resource.
func (r *run) free(b Batch) bool {
	for _, resource := range b.uses() {
		if r.held[resource] >= max(1, r.job.Resources[resource]) {
			return false
		}
	}
	for i := range b.Tests {
		for _, id := range order.Dependencies(&b.Tests[i]) {
			if r.open[id] != nil && !b.has(id) {
				return false
			}
		}
	}
	return true
}

func (b Batch) has(id string) bool {
	return slices.ContainsFunc(b.Tests, func(t catalog.Test) bool { return t.ID == id })
}

// uses lists the resources of a batch's tests, each once.
func (b Batch) uses() []string {
	var all []string
	for _, t := range b.Tests {
		for _, resource := range t.Marks.Uses {
			if t.PutOut == "" && !slices.Contains(all, resource) {
				all = append(all, resource)
			}
		}
	}
	return all
}

// release gives back what a batch held.
func (r *run) release(b Batch) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, resource := range b.uses() {
		r.held[resource]--
	}
	r.changed.Broadcast()
}

// seat is a worker's slot, once it has one, with its sessions by suite.
type seat struct {
	number   int
	slot     *adapter.Slot
	sessions map[string]adapter.Session
}

// session gives the session of a suite, and opens it where there is none yet.
func (r *run) session(ctx context.Context, s *seat, suite string) (adapter.Session, error) {
	if s.slot == nil {
		slot, err := r.job.Setup.Slot(r.temp, s.number)
		if err != nil {
			return nil, err
		}
		if err := r.job.Setup.Begin(ctx, slot); err != nil {
			return nil, err
		}
		s.slot = &slot
	}
	if s.sessions[suite] == nil {
		session, err := r.job.Adapters[suite].Open(ctx, *s.slot)
		if err != nil {
			return nil, err
		}
		s.sessions[suite] = session
	}
	return s.sessions[suite], nil
}

// leave closes what a worker had open, and cleans its slot.
func (r *run) leave(s *seat) {
	for _, session := range s.sessions {
		_ = session.Close() // its processes are gone either way
	}
	if s.slot == nil {
		return
	}
	if err := r.job.Setup.End(*s.slot); err != nil {
		r.mu.Lock()
		r.notes = append(r.notes, err.Error())
		r.mu.Unlock()
	}
}

func (r *run) runBatch(ctx context.Context, batch Batch, at int, seat *seat) error {
	number := seat.number
	for _, t := range batch.Tests {
		if why := r.putOut(t); why != "" {
			r.give(t, number, at, outcome.Skipped, why)
		}
	}
	tests := slices.DeleteFunc(wanted(batch.Tests), func(t catalog.Test) bool { return !r.isOpen(t.ID) })
	if len(tests) == 0 {
		return nil
	}
	session, err := r.session(ctx, seat, batch.Suite)
	if err != nil {
		return err
	}
	return session.Run(ctx, tests, func(e outcome.Event) {
		e.Worker, e.Batch = number, at
		r.tell(e)
	})
}

// putOut says why a test of a batch that begins is not to run, empty where it is.
// What it needs of its own batch is left to the session.
func (r *run) putOut(t catalog.Test) string {
	if t.PutOut != "" {
		return t.PutOut
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, id := range t.Marks.Needs {
		o, ended := r.came[id]
		switch {
		case ended && o != outcome.Passed:
			return adapter.Unmet(id, o)
		case !ended && r.open[id] == nil:
			return fmt.Sprintf("needs %s, which is not picked for this run", id)
		}
	}
	return ""
}

func (r *run) isOpen(id string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.open[id] != nil
}

// give gives an outcome to a test that has none.
func (r *run) give(t catalog.Test, worker, batch int, o outcome.Outcome, message string) {
	if r.isOpen(t.ID) {
		r.tell(outcome.Event{Event: outcome.Finished, ID: t.ID, Worker: worker, Batch: batch, Outcome: o,
			Message: message, File: t.File, Line: t.Line, Seconds: outcome.Took(0)})
	}
}

// tell stamps an event and passes it on.
func (r *run) tell(e outcome.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	e.At = time.Now()
	if e.Event == outcome.Finished {
		if t := r.open[e.ID]; t != nil {
			if e.Outcome = marked(t, e.Outcome); e.Outcome == outcome.Surprise {
				e.Message = "it passed, though it is expected to fail: " + t.Marks.ExpectFail
			}
			delete(r.open, e.ID)
			r.came[e.ID] = e.Outcome
			r.changed.Broadcast()
		}
		r.counts[e.Outcome]++
	}
	r.sink(e)
	r.stopInTime(e)
}

// stopInTime ends what workers do once enough has failed: each goes on until no
// test of its own runs any more.
func (r *run) stopInTime(e outcome.Event) {
	switch e.Event {
	case outcome.Started:
		r.running[e.Worker]++
	case outcome.Finished:
		r.running[e.Worker] = max(0, r.running[e.Worker]-1)
	default:
		return
	}
	if r.job.StopAfter > 0 && !r.stopping && outcome.CountBad(r.counts) >= r.job.StopAfter {
		r.stopping = true
		for worker, cancel := range r.cancels {
			if r.running[worker] == 0 {
				cancel()
			}
		}
	}
	if cancel := r.cancels[e.Worker]; r.stopping && cancel != nil && r.running[e.Worker] == 0 {
		cancel()
	}
}

// marked is the outcome in the light of the test's marks.
func marked(t *catalog.Test, o outcome.Outcome) outcome.Outcome {
	switch {
	case t.Marks.ExpectFail == "":
		return o
	case o.Bad():
		return outcome.Owed
	case o == outcome.Passed:
		return outcome.Surprise
	}
	return o
}
