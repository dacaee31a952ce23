// Package engine runs batches of tests on workers. Workers take the next batch
// from one queue; each owns a slot and one session a suite. Every test of a job
// comes to exactly one outcome, lost included.
package engine

import (
	"context"
	"os"
	"slices"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/outcome"
	"fernrelay/internal/adapter"
)

// Batch is what a worker takes from the queue at once: tests of one suite, in
// the order in which they run.
type Batch struct {
	Suite string
	Tests []catalog.Test
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
	Adapters map[string]adapter.Adapter // by suite
	Queue    []Batch                    // the first is taken first
	Workers  int                        // at least 1
}

// Queue folds tests into batches. With inOrder the batches stand and run in the
// order of the tests: a group whose processes hold only itself becomes one
// batch, where state reaches further only neighbours are joined. Otherwise each
// group is one batch and the longest stands first.
func Queue(tests []catalog.Test, adapters map[string]adapter.Adapter, inOrder bool) []Batch {
	type place struct{ suite, group string }
	var queue []Batch
	at := map[place]int{}
	for _, t := range tests {
		p := place{t.Suite, t.Group}
		i, ok := at[p]
		if ok && inOrder && i != len(queue)-1 && adapters[t.Suite].Scope() == adapter.ScopeWorker {
			ok = false
		}
		if !ok {
			i = len(queue)
			at[p] = i
			queue = append(queue, Batch{Suite: t.Suite})
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
	r := &run{job: job, temp: temp, sink: sink, counts: map[outcome.Outcome]int{}, open: map[string]*catalog.Test{}}
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
	for _, b := range job.Queue {
		for _, t := range b.Tests {
			r.give(t, 0, 0, outcome.Lost, "the run was interrupted before it had an outcome")
		}
	}
	r.tell(outcome.Event{Event: outcome.RunEnds, Counts: r.counts})
	return nil
}

// run is one job under way.
type run struct {
	job  Job
	temp string

	mu     sync.Mutex
	sink   outcome.Sink
	next   int                      // in the queue
	open   map[string]*catalog.Test // without an outcome yet
	counts map[outcome.Outcome]int
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

// wanted leaves out the tests that are marked to be skipped.
func wanted(tests []catalog.Test) []catalog.Test {
	return slices.DeleteFunc(slices.Clone(tests), func(t catalog.Test) bool { return t.Marks.Skip != "" })
}

// work is one worker: it takes batches until there are none.
func (r *run) work(ctx context.Context, number int) {
	sessions := map[string]adapter.Session{}
	defer func() {
		for _, s := range sessions {
			_ = s.Close() // its processes are gone either way
		}
	}()
	for ctx.Err() == nil {
		batch, at := r.take()
		if at == 0 {
			return
		}
		if err := r.runBatch(ctx, batch, at, number, sessions); err != nil && ctx.Err() == nil {
			for _, t := range batch.Tests {
				r.give(t, number, at, outcome.Errored, err.Error())
			}
		}
	}
}

// take gives the next batch and its number from 1; 0 where the queue is empty.
func (r *run) take() (Batch, int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.next == len(r.job.Queue) {
		return Batch{}, 0
	}
	r.next++
	return r.job.Queue[r.next-1], r.next
}

func (r *run) runBatch(ctx context.Context, batch Batch, at, number int, sessions map[string]adapter.Session) error {
	for _, t := range batch.Tests {
		if t.Marks.Skip != "" {
			r.give(t, number, at, outcome.Skipped, t.Marks.Skip)
		}
	}
	tests := slices.DeleteFunc(wanted(batch.Tests), func(t catalog.Test) bool { return !r.isOpen(t.ID) })
	if len(tests) == 0 {
		return nil
	}
	session := sessions[batch.Suite]
	if session == nil {
		slot, err := adapter.NewSlot(r.temp, number)
		if err != nil {
			return err
		}
		if session, err = r.job.Adapters[batch.Suite].Open(ctx, slot); err != nil {
			return err
		}
		sessions[batch.Suite] = session
	}
	return session.Run(ctx, tests, func(e outcome.Event) {
		e.Worker, e.Batch = number, at
		r.tell(e)
	})
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
			e.Outcome = marked(t, e.Outcome)
			delete(r.open, e.ID)
		}
		r.counts[e.Outcome]++
	}
	r.sink(e)
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
