package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/process"
	"fernrelay/internal/service"
	"fernrelay/internal/worktree"
)

// A Pool is workers with slots and sessions, on which runs and trials run.
//
//	pool, err := engine.NewPool(adapters, setup, services, nil)
//	defer pool.Close()
//	err = pool.Prepare(ctx, 4)
//	outcome, seconds, err := pool.Try(ctx, engine.Trial{Order: tests, Times: 1})
type Pool struct {
	adapters  map[string]adapter.Adapter // by suite
	setup     process.Setup
	slots     *process.Slots
	services  *service.Set
	ready     func(*service.Service) // is called for a service that is ready; nil if nobody asks
	preparing func(what string)
	idle      chan *worker       // that trials may use
	quiet     sync.RWMutex       // locked by a trial beside which no other may run
	tree      *worktree.Snapshot // of the project's files; nil if they are left as trials make them
	touched   atomic.Bool        // a trial has changed them
}

// Keep has trials that run beside no other find the files of a snapshot. Prepare comes later.
func (p *Pool) Keep(tree *worktree.Snapshot) { p.tree = tree }

// Touched reports whether a trial has changed files of the snapshot.
func (p *Pool) Touched() bool { return p.touched.Load() }

// Restore puts the files of the snapshot back, once no trial runs, if any differs.
func (p *Pool) Restore() error {
	if p.tree == nil {
		return nil
	}
	if touched, err := p.tree.Touched(); err != nil || !touched {
		return err
	}
	p.quiet.Lock()
	defer p.quiet.Unlock()
	return p.restore()
}

// restore is Restore while the caller sees to it that no trial runs.
func (p *Pool) restore() error {
	if p.tree == nil {
		return nil
	}
	changed, err := p.tree.Restore()
	if changed {
		p.touched.Store(true)
	}
	return err
}

// Alone calls use while no trial runs, with the snapshot of the project's files, nil if there is none.
func (p *Pool) Alone(use func(tree *worktree.Snapshot) error) error {
	p.quiet.Lock()
	defer p.quiet.Unlock()
	if err := p.restore(); err != nil {
		return err
	}
	return use(p.tree)
}

// NewPool returns a pool without workers. It calls preparing, which may be nil, with what is being prepared, from any
// goroutine; empty for nothing more.
func NewPool(adapters map[string]adapter.Adapter, setup process.Setup, services service.Config, preparing func(what string)) (*Pool, error) {
	slots, err := setup.Open()
	if err != nil {
		return nil, err
	}
	p := &Pool{adapters: adapters, setup: setup, slots: slots, preparing: preparing}
	p.services = service.NewSet(services, slots.Shared, func(s *service.Service) {
		if p.ready != nil {
			p.ready(s)
		}
	})
	return p, nil
}

func (p *Pool) report(what string) {
	if p.preparing != nil {
		p.preparing(what)
	}
}

// Close ends the workers of Prepare, kills what is left of all slots and removes their temporary files. The error
// names what could not be ended or removed.
func (p *Pool) Close() error {
	var errs []error
	for range len(p.idle) {
		w := <-p.idle
		w.closeSessions() // their processes are gone either way
		errs = append(errs, w.clean())
	}
	return errors.Join(append(errs, p.services.Close(), p.slots.Close())...)
}

// worker is one executor. It gets its slot when it first needs it.
type worker struct {
	pool     *Pool
	number   int
	slot     *process.Slot
	setUp    process.Slot               // slot, with the environment of the services that all tests need
	sessions map[string]adapter.Session // by suite
	groups   map[string]string          // by suite: of the latest test
	used     bool                       // a trial has run
	started  func(id string)            // is called when a test starts; nil if nobody asks
}

func (p *Pool) worker(number int) *worker {
	return &worker{pool: p, number: number, sessions: map[string]adapter.Session{}, groups: map[string]string{}}
}

// begin prepares the worker's slot, unless it has one.
func (w *worker) begin(ctx context.Context) error {
	if w.slot != nil {
		return nil
	}
	slot, err := w.pool.slots.Slot(w.number)
	if err != nil {
		return err
	}
	w.setUp = slot
	if setup := w.pool.setup; len(setup.Prepare)+len(setup.Clean) > 0 {
		served, err := w.serve(ctx, "", slot)
		if err != nil {
			return err
		}
		w.setUp.Env = slices.Concat(slot.Env, served)
	}
	w.pool.report(fmt.Sprintf("preparing worker %d", w.number))
	defer w.pool.report("")
	if err := w.pool.setup.Begin(ctx, w.setUp); err != nil {
		return err
	}
	w.slot = &slot
	return nil
}

// session returns the session of a suite, and opens it if there is none yet.
func (w *worker) session(ctx context.Context, suite string) (adapter.Session, error) {
	if err := w.begin(ctx); err != nil {
		return nil, err
	}
	if session := w.sessions[suite]; session != nil {
		return session, nil
	}
	slot := *w.slot
	served, err := w.serve(ctx, suite, slot)
	if err != nil {
		return nil, err
	}
	slot.Env = slices.Concat(slot.Env, served)
	session, err := w.pool.adapters[suite].Open(ctx, slot)
	if err != nil {
		return nil, err
	}
	w.sessions[suite] = session
	return session, nil
}

// serve starts the services that a suite needs, or that all tests need if it is "", unless they run, and returns the environment that
// names them.
func (w *worker) serve(ctx context.Context, suite string, slot process.Slot) (env []string, err error) {
	names := w.pool.services.Names(suite)
	if len(names) == 0 {
		return nil, nil
	}
	w.pool.report("starting " + strings.Join(names, ", "))
	defer w.pool.report("")
	return w.pool.services.Use(ctx, suite, slot)
}

// closeSessions ends all sessions. It returns the errors, by suite, of processes that ended badly by themselves.
func (w *worker) closeSessions() map[string]error {
	errs := map[string]error{}
	for suite, session := range w.sessions {
		if err := session.Close(); err != nil {
			errs[suite] = err
		}
	}
	clear(w.sessions)
	return errs
}

// clean cleans the worker's slot, if it has one.
func (w *worker) clean() error {
	if w.slot == nil {
		return nil
	}
	return w.pool.setup.End(w.setUp)
}

// reset makes the state of every session fresh, and then that of the services of this worker.
func (w *worker) reset(ctx context.Context) error {
	for _, session := range w.sessions {
		if err := session.Reset(ctx); err != nil {
			return err
		}
	}
	return w.resetServices(ctx)
}

// resetServices resets the services that serve this worker alone, as far as they can be.
func (w *worker) resetServices(ctx context.Context) error {
	done := map[*service.Service]bool{}
	for suite := range w.sessions {
		for _, s := range w.pool.services.Resettable(suite, *w.slot) {
			if done[s] {
				continue
			}
			done[s] = true
			if err := s.Reset(ctx); err != nil {
				return err
			}
		}
	}
	return nil
}

// Prepare makes workers for trials and prepares their slots.
func (p *Pool) Prepare(ctx context.Context, workers int) error {
	p.idle = make(chan *worker, workers)
	for number := 1; number <= workers; number++ {
		w := p.worker(number)
		p.idle <- w
		if err := w.begin(ctx); err != nil {
			return err
		}
	}
	return nil
}

// Workers returns the number of workers for trials.
func (p *Pool) Workers() int { return cap(p.idle) }

// run runs tests in order and returns the outcome of the last.
func (w *worker) run(ctx context.Context, tests []catalog.Test) (run.Outcome, error) {
	outcome, last := run.Lost, tests[len(tests)-1].ID
	err := w.runEach(ctx, tests, func(id string, o run.Outcome) {
		if id == last {
			outcome = o
		}
	})
	return outcome, err
}

// runEach runs tests in order, suite by suite as they come, and reports the outcome of each.
func (w *worker) runEach(ctx context.Context, tests []catalog.Test, report func(id string, o run.Outcome)) error {
	for len(tests) > 0 {
		n := 1
		for n < len(tests) && tests[n].Suite == tests[0].Suite {
			n++
		}
		session, err := w.session(ctx, tests[0].Suite)
		if err != nil {
			return err
		}
		err = session.Run(ctx, tests[:n], func(e run.Event) {
			if e.Event == run.Finished {
				report(e.ID, e.Outcome)
			}
			if e.Event == run.Started && w.started != nil {
				w.started(e.ID)
			}
		})
		if err != nil {
			return err
		}
		tests = tests[n:]
	}
	return nil
}

// freshen gives a worker the state of a new one: new processes, an empty folder for temporary files, and what the
// project cleans and prepares.
func (w *worker) freshen(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if !w.used {
		w.used = true
		return nil
	}
	if err := w.reset(ctx); err != nil {
		return err
	}
	return w.prepareAgain(ctx, !w.lasts())
}

// prepareAgain cleans and prepares the slot, and may empty its folder for temporary files between.
func (w *worker) prepareAgain(ctx context.Context, empty bool) error {
	setup := w.pool.setup
	if len(setup.Clean)+len(setup.Prepare) > 0 {
		if err := setup.End(w.setUp); err != nil {
			return err
		}
	}
	if empty {
		if err := w.slot.EmptyTemp(); err != nil {
			return err
		}
	}
	return setup.Begin(ctx, w.setUp)
}

// again makes the state of a worker fresh for the next time of a trial. If services are reset, it also has the project prepare them.
func (w *worker) again(ctx context.Context) error {
	for suite := range w.sessions {
		if len(w.pool.services.Resettable(suite, *w.slot)) > 0 {
			return w.freshen(ctx)
		}
	}
	return w.reset(ctx)
}

// lasts reports whether a process may live on in the worker, which then keeps its own files.
func (w *worker) lasts() bool {
	for suite := range w.sessions {
		if w.pool.adapters[suite].Scope() == catalog.SuiteLevel {
			return true
		}
	}
	return false
}
