package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/matrix"
	"fernrelay/core/pick"
	"fernrelay/core/run"
	"fernrelay/internal/owned"
	"fernrelay/internal/service"
	"fernrelay/internal/workspace"
)

// A MatrixRequest says which crossings to run and how.
type MatrixRequest struct {
	Crossings []matrix.Crossing
	Pick      string          // narrows those of the matrix; empty for no more
	AtOnce    int             // crossings that run at the same time; 0 for what fern.toml says
	Workers   int             // of each crossing; 0 for its share of the project's
	StopAfter int             // after this many crossings that failed no more start; 0 for no limit
	Earlier   *matrix.Results // of crossings that do not run now, which explanations take into account; nil for none
	Mixed     bool            // allows that those are of other sources
	Resume    bool            // leaves out those that ended before the run that was killed last

	Strict  bool // a crossing whose service this machine does not have is errored; otherwise skipped
	Retries int
	Limit   time.Duration // of one test; 0 for that of its suite

	// Share returns the tests of a crossing that run here, and of which shard of which plan they are; nil for all.
	Share func(at *App, tests []catalog.Test) (*run.Planned, []catalog.Test, error)

	// Started is called before a crossing runs, with the project in it and with what it runs, and returns a sink for its events,
	// nil for none; then Changed with a copy of each result whose state changed. Calls come one at a time.
	Started func(key string, at *App, q Request) run.Sink
	Changed func(r matrix.Result)
}

// A MatrixRun runs crossings.
//
//	m, err := app.NewMatrixRun(request)
//	results, err := m.Run(ctx)
type MatrixRun struct {
	app     *App
	request MatrixRequest
	results *matrix.Results
	times   map[string]float64 // by key: expected seconds
	record  matrixRecord

	mu       sync.Mutex
	tally    *matrix.Tally
	finished bool
	failed   int
	shared   *service.Set        // that crossings share; nil before Run
	controls map[string]*Control // by key: of the crossings that run
}

// NewMatrixRun prepares a run of crossings. The error says which pick is wrong, or that nothing can be resumed.
func (a *App) NewMatrixRun(ctx context.Context, q MatrixRequest) (*MatrixRun, error) {
	m := a.Project.Matrix
	q.AtOnce = cmp.Or(q.AtOnce, m.AtOnce)
	q.Workers = cmp.Or(q.Workers, a.CrossingWorkers(q.AtOnce))
	r := &MatrixRun{app: a, request: q, tally: matrix.NewTally(m.Matrix), times: map[string]float64{}, controls: map[string]*Control{}, record: matrixRecord{Pick: q.Pick, Done: map[string]int{}}}
	now := a.history.Source(ctx)
	r.record.From = now
	for _, one := range q.earlier() {
		r.tallyRun(one.Key(), one.Run)
	}
	if q.Resume {
		if err := r.readRecord(); err != nil {
			return nil, err
		}
	}
	mixed := ""
	if r.record.From.Differs(now) {
		if !q.Mixed {
			return nil, fmt.Errorf("the crossings that ended are of %s, and the sources are now %s: what passed then may fail now. Run everything again, or add --mixed", r.record.From, now)
		}
		mixed = run.MixedWords("what ended before", r.record.From, "the rest", now)
	}
	r.results = matrix.NewResults(m.Matrix, r.request.Crossings, m.Then)
	if r.results.Mixed = mixed; mixed == "" && now.Revision != "" {
		r.results.Source = &now
	}
	for _, one := range r.results.Results {
		if one.State == matrix.LeftOut {
			continue
		}
		r.record.Keys = append(r.record.Keys, one.Key())
		if number := r.record.Done[one.Key()]; number > 0 {
			record, ran, err := a.Ledger().In(one.Of).Run(number)
			if err != nil {
				return nil, err
			}
			one.End(record.Number, ran)
			r.tallyRun(one.Key(), ran)
			continue
		}
		expected, err := a.ExpectCrossing(ctx, one.Crossing, r.request.Pick, q.Workers)
		if err != nil {
			return nil, err
		}
		one.Tests, r.times[one.Key()] = expected.Tests, expected.Seconds
	}
	return r, nil
}

// CrossingWorkers returns how many workers a crossing has by default: its share of the project's, if a number of crossings run at
// once.
func (a *App) CrossingWorkers(atOnce int) int { return max(1, a.Workers()/atOnce) }

// earlier returns the results of crossings that do not run now.
func (q *MatrixRequest) earlier() (others []*matrix.Result) {
	if q.Earlier == nil {
		return nil
	}
	for _, one := range q.Earlier.Results {
		runs := slices.ContainsFunc(q.Crossings, func(c matrix.Crossing) bool { return c.Key() == one.Key() })
		if one.Run != nil && !runs {
			others = append(others, one)
		}
	}
	return others
}

func (r *MatrixRun) tallyRun(key string, ran *run.Run) {
	for _, result := range ran.Results {
		r.tally.Add(key, result)
	}
}

// CrossingForecast is what a crossing runs, and how long that takes.
type CrossingForecast struct {
	Tests    int
	Seconds  float64 // 0 if too little is known
	Services []string
	Missing  error // a service that this machine cannot run; nil if it can run all
}

// ExpectCrossing returns the forecast of a crossing on a number of workers.
//
// It is the time of the schedule, on workers that start together. Services are not in it: how long they take to start is
// shown beside it, once they have been started.
func (a *App) ExpectCrossing(ctx context.Context, c *matrix.Crossing, text string, workers int) (f CrossingForecast, err error) {
	at, q, err := a.crossingRequest(ctx, c, text, workers)
	if err != nil {
		return f, err
	}
	f.Tests = len(q.Tests)
	f.Seconds, _ = at.Planned(q)
	f.Services, f.Missing = servicesOf(at.Project, q.Tests)
	return f, nil
}

// crossingRequest returns the project in a crossing, and the request to run there the tests of the matrix's pick, narrowed by
// that of the crossing and by another one, which may be empty.
func (a *App) crossingRequest(ctx context.Context, c *matrix.Crossing, text string, workers int) (*App, Request, error) {
	at, err := a.At(ctx, c)
	if err != nil {
		return nil, Request{}, err
	}
	text = pick.Join(a.Project.Matrix.PickOf(c), text)
	tests, err := at.PickToRun(text)
	if err != nil {
		return nil, Request{}, fmt.Errorf("the pick of the crossing %s: %w", c.Key(), err)
	}
	q, err := at.NewRequest(text, tests, workers)
	return at, q, err
}

// Explain explains which values make tests fail, as far as the crossings have come.
func (r *MatrixRun) Explain() matrix.Explained {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.tally.Explain()
}

// Finish lets the tests that run end, and starts no more.
func (r *MatrixRun) Finish() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.finished = true
	for _, c := range r.controls {
		c.Finish()
	}
}

// Run runs the crossings, those that take longest first, and then the step after them. Each crossing is kept in the ledger as a
// run. The error is one of the machine; failures of crossings are in the results.
func (r *MatrixRun) Run(ctx context.Context) (*matrix.Results, error) {
	if _, err := r.app.Project.Store(); err != nil {
		return r.results, err
	}
	r.writeRecord()
	waiting := make(chan *matrix.Result, len(r.results.Results))
	for _, one := range r.longestFirst() {
		waiting <- one
	}
	close(waiting)
	unshare, err := r.share()
	if err != nil {
		return r.results, err
	}
	defer unshare()
	var lanes sync.WaitGroup
	errs := make(chan error, len(r.results.Results))
	for lane := range min(r.request.AtOnce, len(r.results.Results)) {
		lanes.Go(func() {
			for one := range waiting {
				if !r.mayStart(ctx) {
					return
				}
				if err := r.runOne(ctx, one, lane); err != nil {
					errs <- fmt.Errorf("crossing %s: %w", one.Key(), err)
				}
			}
		})
	}
	lanes.Wait()
	close(errs)
	var all error
	for err := range errs {
		all = errors.Join(all, err)
	}
	r.then(ctx)
	if !slices.ContainsFunc(r.results.Results, (*matrix.Result).Missing) {
		all = errors.Join(all, owned.RemoveData(r.app.Project.StorePath(), matrixRecordPath))
	}
	return r.results, all
}

// share prepares the services that crossings share, which start when the first needs them. The caller calls unshare.
func (r *MatrixRun) share() (unshare func(), err error) {
	setup := workspace.Setup(r.app.Project)
	setup.Offset = r.request.AtOnce * (r.request.Workers + 1)
	slots, err := setup.Open()
	if err != nil {
		return nil, err
	}
	p := r.app.Project
	config := service.Config{Dir: p.Dir, Data: filepath.Join(p.StorePath(), "matrix", "shared")}
	r.shared = service.NewSet(config, slots.Shared, nil)
	return func() { _ = errors.Join(r.shared.Close(), slots.Close()) }, nil // the results hold, whatever is left
}

// longestFirst returns the crossings that have not run, those that take longest first, so that the whole ends early.
func (r *MatrixRun) longestFirst() []*matrix.Result {
	var open []*matrix.Result
	for _, one := range r.results.Results {
		if one.State == matrix.Waiting {
			open = append(open, one)
		}
	}
	slices.SortStableFunc(open, func(a, b *matrix.Result) int { return cmp.Compare(r.times[b.Key()], r.times[a.Key()]) })
	return open
}

func (r *MatrixRun) mayStart(ctx context.Context) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return ctx.Err() == nil && !r.finished && (r.request.StopAfter == 0 || r.failed < r.request.StopAfter)
}

// runOne runs a crossing on a lane, from 0, of those that run side by side.
func (r *MatrixRun) runOne(ctx context.Context, one *matrix.Result, lane int) error {
	at, q, err := r.app.crossingRequest(ctx, one.Crossing, r.request.Pick, r.request.Workers)
	if err != nil {
		return err
	}
	if r.request.Share != nil {
		if q.Shard, q.Tests, err = r.request.Share(at, q.Tests); err != nil {
			return err
		}
	}
	q.Strict, q.Retries, q.Limit = r.request.Strict, r.request.Retries, r.request.Limit
	q.Offset = lane * (r.request.Workers + 1) // one more for what all workers share
	q.Shared = r.shared
	q.Schedule = at.Schedule(q)
	control, sink := r.begin(one, at, q)
	q.Control = control
	ran, number, err := at.Run(ctx, q, sink)
	if ran == nil {
		ran = run.New()
		r.end(one, func() {
			one.State, one.Outcome, one.Why = matrix.Ended, run.Errored, err.Error()
		})
		return err
	}
	r.end(one, func() {
		began := one.Began
		one.End(number, ran)
		one.Began = cmp.Or(began, one.Began)
		if one.Outcome == run.Skipped {
			one.Why = whySkipped(ran)
		}
		if r.record.Done[one.Key()] = number; one.Missing() {
			delete(r.record.Done, one.Key())
		}
		r.writeRecord()
	})
	return err
}

// whySkipped returns the reason that the first skipped test of a run has.
func whySkipped(ran *run.Run) string {
	for _, result := range ran.Results {
		if result.Outcome == run.Skipped {
			return result.Message
		}
	}
	return "its pick selects no test"
}

// begin notes that a crossing begins, and returns what steers its run and the sink of its events.
func (r *MatrixRun) begin(one *matrix.Result, at *App, q Request) (control *Control, sink run.Sink) {
	r.mu.Lock()
	defer r.mu.Unlock()
	control = &Control{}
	if r.finished {
		control.Finish()
	}
	r.controls[one.Key()] = control
	one.State, one.Began, one.Tests = matrix.Running, time.Now(), len(q.Tests)
	var follow run.Sink
	if q.Control = control; r.request.Started != nil {
		follow = r.request.Started(one.Key(), at, q)
	}
	r.changed(one)
	return control, func(e run.Event) {
		if r.event(one.Key(), e); follow != nil {
			follow(e)
		}
	}
}

// end notes how a crossing ended; set sets its result.
func (r *MatrixRun) end(one *matrix.Result, set func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.controls, one.Key())
	set()
	if one.Bad() {
		r.failed++
	}
	r.changed(one)
}

func (r *MatrixRun) changed(one *matrix.Result) {
	if r.request.Changed != nil {
		r.request.Changed(*one)
	}
}

func (r *MatrixRun) event(key string, e run.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e.Event == run.Finished {
		r.tally.Add(key, &run.Result{ID: e.ID, Outcome: e.Outcome, Flaky: e.Flaky, Batch: e.Batch, Failure: e.Failure})
	}
}
