// Package engine runs schedules of test batches, and single trials of hunts, on a pool of workers.
//
//	err := engine.Run(ctx, engine.Job{
//		Adapters: adapters,
//		Schedule: schedule,
//		Source:   engine.Local(schedule, 4),
//		Workers:  4,
//	}, sink)
//
// Workers take batches from a [Source]. Each owns a slot and one session per suite. Every test of a batch that was
// taken, or that nobody takes, gets exactly one outcome, [run.Lost] included, also when ctx is canceled. Only the
// tests of a claim that is lost have none here: another machine runs them. Events reach the sink one at a time, in the
// order in which things happened.
package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/adapter"
	"fernrelay/internal/process"
	"fernrelay/internal/service"
)

// Job is what Run runs.
type Job struct {
	Adapters  map[string]adapter.Adapter // by suite
	Schedule  *schedule.Schedule
	Bare      map[string][]string // by suite: groups without tests to run that are built, too
	Source    Source              // hands out the schedule's batches
	Lease     time.Duration       // how long a claim holds unless it is renewed; 0 for as long as the process lives
	Workers   int                 // at least 1
	Setup     process.Setup       // of the workers' slots
	Services  service.Config      // that the suites need
	Strict    bool                // tests whose service this machine does not have are errored; otherwise skipped
	StopAfter int                 // after this many bad outcomes no more tests start; 0 for no limit
	Retries   int                 // how often a bad test runs again at most, in a fresh state
	Control   *Control            // nil if nobody steers the run
	Floods    string              // the folder for output that is too much to report; made when it is needed
	Preparing func(what string)   // called with what is being prepared, from any goroutine; may be nil
}

// Run runs the job and reports everything to the sink, from the beginning of the run to its end, one event at a
// time. When ctx ends, Run kills the running tests, and those without an outcome are lost, for the cause of ctx.
// The error is one of the machine, such as no room for temporary files; failures of tests are events.
func Run(ctx context.Context, job Job, sink run.Sink) error {
	pool, err := NewPool(job.Adapters, job.Setup, job.Services, job.Preparing)
	if err != nil {
		return err
	}
	r := newRun(job, pool, sink)
	pool.ready = r.ready
	r.execute(ctx)
	return nil
}

func newRun(job Job, pool *Pool, sink run.Sink) *execution {
	r := &execution{job: job, pool: pool, sink: run.LimitSteps(sink), extras: map[string]int{}, store: floodStore{dir: job.Floods, room: -1}, began: time.Now(),
		counts: map[run.Outcome]int{}, open: map[string]*catalog.Test{}, came: map[string]run.Outcome{}, floods: map[string]*flood{}, unprepared: map[string]error{},
		running: map[int]map[string]bool{}, cancels: map[int]context.CancelFunc{}}
	r.resumed = sync.NewCond(&r.mu)
	for i := range job.Schedule.Batches {
		for j := range job.Schedule.Batches[i].Tests {
			t := &job.Schedule.Batches[i].Tests[j]
			r.open[t.ID] = t
		}
	}
	return r
}

// execute runs the job from its beginning to its end.
func (r *execution) execute(ctx context.Context) {
	defer r.job.Control.listen(r.steer)()
	r.emit(run.Event{Event: run.RunBegins, Format: run.Format})
	r.prepare(ctx)
	var wg sync.WaitGroup
	for number := 1; number <= r.job.Workers; number++ {
		wg.Go(func() { r.work(ctx, number) })
	}
	wg.Wait()
	if err := r.pool.Close(); err != nil {
		r.note(err.Error())
	}
	left, why := r.outcomeOfUnrun(ctx)
	for _, b := range append(r.taken, r.job.Source.Untaken()...) {
		r.settleAll(b, 0, 0, left, why)
	}
	r.emit(run.Event{Event: run.RunEnds, Counts: r.counts, Failure: run.Failure{Message: strings.Join(r.notes, "\n")}})
}

// execution is one job under way.
type execution struct {
	job   Job
	pool  *Pool
	began time.Time

	mu         sync.Mutex
	resumed    *sync.Cond // the run is no longer paused
	sink       run.Sink
	taken      []*schedule.Batch
	open       map[string]*catalog.Test // without an outcome yet
	came       map[string]run.Outcome   // by ID
	counts     map[run.Outcome]int
	floods     map[string]*flood // by ID: tests that printed much
	store      floodStore
	extras     map[string]int          // by ID: the number of entries for what processes did beyond their tests
	notes      []string                // what went wrong beside the tests
	unprepared map[string]error        // by suite: why it cannot run
	paused     bool                    // no batch may start for now
	stopping   bool                    // no batch may start any more
	finished   bool                    // because a person asked for it
	running    map[int]map[string]bool // by worker: IDs of the tests that run
	load       load
	cancels    map[int]context.CancelFunc // by worker: stops it; 0 stops the preparation
}

// outcomeOfUnrun returns the outcome of the tests that never ran, and the reason to report.
func (r *execution) outcomeOfUnrun(ctx context.Context) (o run.Outcome, why string) {
	switch cause := context.Cause(ctx); {
	case cause != nil && cause != context.Canceled:
		return run.Lost, "the run was ended before it had an outcome: " + cause.Error()
	case cause != nil || r.finished:
		return run.Lost, "the run was interrupted before it had an outcome"
	}
	return run.Skipped, fmt.Sprintf("the run stopped after %d that failed", r.job.StopAfter)
}

// prepare prepares each suite for the tests that will run.
func (r *execution) prepare(ctx context.Context) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	r.enter(0, cancel)
	var suites []string
	tests := map[string][]*catalog.Test{} // that will run here
	for i := range r.job.Schedule.Batches {
		b := &r.job.Schedule.Batches[i]
		if !slices.Contains(suites, b.Suite) {
			suites = append(suites, b.Suite)
		}
		for j := range b.Tests {
			if t := &b.Tests[j]; t.SkipReason == "" {
				tests[b.Suite] = append(tests[b.Suite], t)
			}
		}
	}
	for suite := range r.job.Bare {
		if !slices.Contains(suites, suite) {
			suites = append(suites, suite)
		}
	}
	for _, suite := range suites {
		err := r.pool.services.Missing(suite)
		if err == nil {
			err = r.prepareSuite(ctx, suite, tests[suite])
		}
		if err == nil || ctx.Err() != nil {
			continue
		}
		r.unprepared[suite] = err
		r.job.Source.Unfit(suite)
	}
	r.pool.report("")
}

// prepareSuite prepares a suite, and reports what fails before any test runs.
func (r *execution) prepareSuite(ctx context.Context, suite string, tests []*catalog.Test) error {
	builder, ok := r.job.Adapters[suite].(adapter.Builder)
	if !ok {
		return r.job.Adapters[suite].Prepare(ctx, tests, r.pool.report)
	}
	entries, err := builder.Build(ctx, tests, r.job.Bare[suite], r.pool.report)
	for _, e := range entries {
		adapter.ReportBeyond(r.emit, e.Event, e.Output)
	}
	return err
}

// enter says how to end what a worker does.
func (r *execution) enter(worker int, cancel context.CancelFunc) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.cancels[worker] = cancel
	if r.stopping {
		cancel()
	}
}

// work is one worker: it takes batches until there are none.
func (r *execution) work(ctx context.Context, number int) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	r.enter(number, cancel)
	w := r.pool.worker(number)
	defer r.leave(w)
	for r.awaitResume(ctx) {
		claim, err := r.job.Source.Next(ctx, number)
		if err != nil {
			if err != io.EOF && ctx.Err() == nil {
				r.note(err.Error())
			}
			return
		}
		r.take(claim)
		if r.awaitResume(ctx) {
			r.busy(1)
			r.claimed(ctx, claim, w)
			r.busy(-1)
		}
		if err := r.job.Source.Done(ctx, claim); err != nil {
			r.note(err.Error())
		}
	}
}

// awaitResume waits while the run is paused. It reports whether the worker may begin something.
func (r *execution) awaitResume(ctx context.Context) bool {
	defer context.AfterFunc(ctx, func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.resumed.Broadcast()
	})()
	r.mu.Lock()
	defer r.mu.Unlock()
	for r.paused && ctx.Err() == nil {
		r.resumed.Wait()
	}
	return ctx.Err() == nil
}

// take notes that a worker has taken a batch.
func (r *execution) take(c *Claim) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.taken = append(r.taken, c.Batch)
	maps.Copy(r.came, c.Known)
	for i := range c.Tests {
		t := &c.Tests[i]
		if o := r.came[t.ID]; o != "" { // the source lost it
			delete(r.came, t.ID)
			r.counts[o]--
		}
		r.open[t.ID] = t
	}
}

// renewals is how often a claim is renewed while it would hold.
const renewals = 4

// claimed runs a batch as long as the worker's claim on it holds.
func (r *execution) claimed(ctx context.Context, claim *Claim, w *worker) {
	held, lose := context.WithCancelCause(ctx)
	defer lose(nil)
	if r.job.Lease > 0 {
		go r.renew(held, claim, lose)
	}
	err := r.runBatch(held, claim.Batch, w)
	switch {
	case ctx.Err() != nil:
	case held.Err() != nil:
		r.disown(claim.Batch)
		r.note(context.Cause(held).Error())
	case err != nil:
		r.settleAll(claim.Batch, w.number, claim.Number, r.outcomeWithout(err), err.Error())
	}
}

// outcomeWithout returns the outcome of tests that cannot run because of an error.
func (r *execution) outcomeWithout(err error) run.Outcome {
	if errors.As(err, &service.MissingError{}) && !r.job.Strict {
		return run.Skipped
	}
	return run.Errored
}

// ready reports a service that is ready.
func (r *execution) ready(s *service.Service) {
	r.emit(run.Event{Event: run.ServiceReady, Service: s.Name(), Text: strings.Join(s.Env(), "\n"), Seconds: run.Took(s.Ready().Seconds())})
}

// renew renews a claim until ctx ends, and calls lose once it is lost.
func (r *execution) renew(ctx context.Context, claim *Claim, lose context.CancelCauseFunc) {
	every := time.NewTicker(r.job.Lease / renewals)
	defer every.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-every.C:
			if err := r.job.Source.Renew(ctx, claim); err != nil {
				lose(err)
				return
			}
		}
	}
}

// disown forgets the tests of a batch that have no outcome, as another machine runs them.
func (r *execution) disown(batch *schedule.Batch) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i := range batch.Tests {
		delete(r.open, batch.Tests[i].ID)
	}
}

func (r *execution) settleAll(batch *schedule.Batch, worker, number int, o run.Outcome, why string) {
	for i := range batch.Tests {
		r.settle(&batch.Tests[i], worker, number, o, why)
	}
}

// extraID returns the ID for an entry of what a process did beyond its tests: the one given, or
// one like it if another entry or a test has that.
func (r *execution) extraID(id string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	for {
		r.extras[id]++
		own := id
		if n := r.extras[id]; n > 1 {
			own = fmt.Sprint(id, "~", n)
		}
		if _, ended := r.came[own]; !ended && r.open[own] == nil {
			return own
		}
	}
}

// leave ends what a worker has open, and reports processes that ended badly.
func (r *execution) leave(w *worker) {
	for suite, err := range w.closeSessions() {
		id := r.extraID(catalog.ID(suite, w.groups[suite], run.ProcessEntry))
		r.emit(run.Event{Event: run.Finished, ID: id, Entry: true, Worker: w.number, Outcome: run.Errored, Failure: run.Failure{Message: err.Error()}, Seconds: run.Took(0)})
	}
	if err := w.clean(); err != nil {
		r.note(err.Error())
	}
}

// note records what went wrong beside the tests.
func (r *execution) note(text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.notes = append(r.notes, text)
}

// runBatch runs a batch; bad tests run again as often as the job says.
func (r *execution) runBatch(ctx context.Context, batch *schedule.Batch, w *worker) error {
	if err := r.unprepared[batch.Suite]; err != nil {
		r.settleAll(batch, 0, 0, r.outcomeWithout(err), err.Error())
		return nil
	}
	for i := range batch.Tests {
		if why := r.skipReason(&batch.Tests[i]); why != "" {
			r.settle(&batch.Tests[i], w.number, batch.Number, run.Skipped, why)
		}
	}
	tests := slices.DeleteFunc(slices.Clone(batch.Tests), func(t catalog.Test) bool { return !r.isOpen(t.ID) })
	if len(tests) == 0 {
		return nil
	}
	session, err := w.session(ctx, batch.Suite)
	if err != nil {
		return err
	}
	ctx, release := r.pool.services.Guard(ctx, batch.Suite, *w.slot)
	defer release()
	w.groups[batch.Suite] = tests[len(tests)-1].Group
	if batch.Fresh {
		err = session.Reset(ctx)
	}
	tries := newTries(r, w.number, batch.Number, tests)
	for len(tests) > 0 && err == nil {
		if err = session.Run(ctx, tests, tries.take); err == nil {
			tests, err = tries.again(ctx, session, tests)
		}
	}
	tries.reportHeld()
	if err != nil {
		return cmp.Or(context.Cause(ctx), err)
	}
	return nil
}

// skipReason returns why a test of a batch that begins does not run, or "" if it does. The session decides
// about needs within the batch.
func (r *execution) skipReason(t *catalog.Test) string {
	if t.SkipReason != "" {
		return t.SkipReason
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return run.Unmet(t.Rules().Needs, func(id string) (o run.Outcome, picked bool) {
		return r.came[id], r.came[id] != "" || r.open[id] != nil
	})
}

func (r *execution) isOpen(id string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.open[id] != nil
}

// settle records an outcome for t unless it already has one.
func (r *execution) settle(t *catalog.Test, worker, batch int, o run.Outcome, message string) {
	if r.isOpen(t.ID) {
		r.emit(run.Event{Event: run.Finished, ID: t.ID, Worker: worker, Batch: batch, Outcome: o,
			Failure: run.Failure{Message: message, File: t.File, Line: t.Line}, Seconds: run.Took(0)})
	}
}

// emit stamps an event and passes it on. The time is that of the beginning of the run plus the time since then, so
// that it never jumps when the clock is set.
func (r *execution) emit(e run.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	e.At = r.began.Add(time.Since(r.began))
	switch e.Event {
	case run.Output:
		r.print(e)
		return
	case run.Finished:
		if r.floods[e.ID] != nil {
			r.endFlood(e)
		}
		e.Message = bounded(e.Message)
		r.finish(&e)
	}
	r.sink(e)
	r.stopInTime(e)
}
