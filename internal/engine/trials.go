package engine

import (
	"context"
	"fmt"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
)

// A Trial is one ordered execution in a fresh state, of which the last test counts.
type Trial struct {
	Order   []catalog.Test     // not empty
	Beside  []catalog.Test     // run on another worker meanwhile; none if empty
	Apart   map[string]float64 // by the IDs of Beside: the seconds from the start of the last test to theirs, where it is known
	Times   int                // how often the order runs at most, until the last test is bad
	Quietly bool               // no other trial runs meanwhile
}

// Try runs a trial as soon as a worker is free. It returns the outcome of the last test, lost if it had none,
// and the seconds that all of it took.
func (p *Pool) Try(ctx context.Context, t Trial) (run.Outcome, float64, error) {
	if t.Quietly || len(t.Beside) > 0 {
		p.quiet.Lock()
		defer p.quiet.Unlock()
		if err := p.restore(); err != nil {
			return "", 0, err
		}
	} else {
		p.quiet.RLock()
		defer p.quiet.RUnlock()
	}
	if len(t.Beside) > 0 {
		return p.overlap(ctx, t)
	}
	w := <-p.idle
	defer func() { p.idle <- w }()
	if err := w.freshen(ctx); err != nil {
		return "", 0, err
	}
	began := time.Now()
	o, err := w.repeat(ctx, t)
	return o, time.Since(began).Seconds(), err
}

// Borrow calls use with the session of a suite on a worker in a fresh state, as soon as one is free, and with a
// function that makes the state fresh again. No trial runs on that worker meanwhile.
func (p *Pool) Borrow(ctx context.Context, suite string, use func(s adapter.Session, freshen func() error) error) error {
	w := <-p.idle
	defer func() { p.idle <- w }()
	session, err := w.session(ctx, suite)
	if err != nil {
		return err
	}
	freshen := func() error { return w.freshen(ctx) }
	if err := freshen(); err != nil {
		return err
	}
	return use(session, freshen)
}

// RunOnce runs tests in order in a fresh state.
func (p *Pool) RunOnce(ctx context.Context, tests []catalog.Test) error {
	_, err := p.outcome(ctx, tests)
	return err
}

// Outcomes runs tests in order in a fresh state and returns their outcomes by ID.
func (p *Pool) Outcomes(ctx context.Context, tests []catalog.Test) (map[string]run.Outcome, error) {
	w := <-p.idle
	defer func() { p.idle <- w }()
	if err := w.freshen(ctx); err != nil {
		return nil, err
	}
	outcomes := map[string]run.Outcome{}
	return outcomes, w.runEach(ctx, tests, func(id string, o run.Outcome) { outcomes[id] = o })
}

// Outcome runs a test in a fresh state and returns its outcome.
func (p *Pool) Outcome(ctx context.Context, test catalog.Test) (run.Outcome, error) {
	return p.outcome(ctx, []catalog.Test{test})
}

func (p *Pool) outcome(ctx context.Context, tests []catalog.Test) (run.Outcome, error) {
	w := <-p.idle
	defer func() { p.idle <- w }()
	if err := w.freshen(ctx); err != nil {
		return "", err
	}
	return w.run(ctx, tests)
}

// overlap runs a trial's order on one worker while other tests run on another.
func (p *Pool) overlap(ctx context.Context, t Trial) (run.Outcome, float64, error) {
	if p.Workers() < 2 {
		return "", 0, fmt.Errorf("%s failed while tests of another worker ran: to try that, a hunt takes two workers (--workers 2)", t.Order[len(t.Order)-1].ID)
	}
	m := &meeting{Trial: t, mine: <-p.idle, other: <-p.idle, lags: map[string]float64{}}
	defer func() { p.idle <- m.mine; p.idle <- m.other }()
	began := time.Now()
	outcome := run.Lost
	for n := range t.Times {
		for _, w := range []*worker{m.mine, m.other} {
			fresh := w.freshen
			if n > 0 {
				fresh = w.again
			}
			if err := fresh(ctx); err != nil {
				return "", 0, err
			}
		}
		var err error
		if outcome, err = m.once(ctx, n); err != nil || outcome.Bad() {
			return outcome, time.Since(began).Seconds(), err
		}
	}
	return outcome, time.Since(began).Seconds(), nil
}

// repeat runs a trial's order until its last test is bad, or as often as the trial says.
func (w *worker) repeat(ctx context.Context, t Trial) (outcome run.Outcome, err error) {
	for n := range t.Times {
		if n > 0 {
			if err := w.again(ctx); err != nil {
				return outcome, err
			}
		}
		if outcome, err = w.run(ctx, t.Order); err != nil || outcome.Bad() {
			break
		}
	}
	return outcome, err
}
