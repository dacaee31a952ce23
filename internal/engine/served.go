package engine

import (
	"context"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/service"
)

// Served is a worker whose services can be reset.
type Served struct {
	worker   *worker
	services []*service.Service
}

// Serve calls use with a worker and its services of a suite, as soon as one is free, unless none of them can be reset.
func (p *Pool) Serve(ctx context.Context, suite string, use func(s *Served) error) error {
	w := <-p.idle
	defer func() { p.idle <- w }()
	if _, err := w.session(ctx, suite); err != nil {
		return err
	}
	services := p.services.Resettable(suite, *w.slot)
	if len(services) == 0 {
		return nil
	}
	return use(&Served{w, services})
}

// State returns the state of the services.
func (s *Served) State(ctx context.Context) (values []hunt.Value, err error) {
	for _, one := range s.services {
		pieces, err := one.State(ctx)
		if err != nil {
			return nil, err
		}
		values = append(values, pieces...)
	}
	return values, nil
}

// Names returns the names of the services.
func (s *Served) Names() (names []string) {
	for _, one := range s.services {
		names = append(names, one.Name())
	}
	return names
}

// Run runs tests in order in a fresh state, with fresh services.
func (s *Served) Run(ctx context.Context, tests []catalog.Test) error {
	if err := s.Freshen(ctx); err != nil {
		return err
	}
	_, err := s.worker.run(ctx, tests)
	return err
}

// Freshen makes the state of the worker and its services fresh.
func (s *Served) Freshen(ctx context.Context) error { return s.worker.freshen(ctx) }

// Continue resets one of the services, by its index, has the project prepare it again, and returns the outcome of a test that runs then.
func (s *Served) Continue(ctx context.Context, reset int, test catalog.Test) (run.Outcome, error) {
	if err := s.services[reset].Reset(ctx); err != nil {
		return "", err
	}
	if err := s.worker.prepareAgain(ctx, false); err != nil {
		return "", err
	}
	return s.worker.run(ctx, []catalog.Test{test})
}
