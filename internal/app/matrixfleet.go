package app

import (
	"context"
	"errors"
	"fmt"

	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/internal/fleet"
)

// RunMatrixFleet takes part in a run of crossings on many machines: each crossing is a fleet run of its own, named after the
// whole and the crossing, and machines take them one after the other. A crossing with a service that this machine does not have
// is left to others. The results are those of all machines; a crossing that nobody has finished yet is waiting.
func (a *App) RunMatrixFleet(ctx context.Context, q MatrixRequest, f FleetRequest) (*matrix.Results, error) {
	r, err := a.NewMatrixRun(ctx, q)
	if err != nil {
		return nil, err
	}
	for _, one := range r.longestFirst() {
		if !r.mayStart(ctx) {
			break
		}
		if err := r.joinOne(ctx, one, f); err != nil {
			return nil, fmt.Errorf("crossing %s: %w", one.Key(), err)
		}
	}
	conn, err := fleet.Dial(ctx, f.Options)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	for _, one := range r.results.Results {
		if one.State != matrix.LeftOut {
			if err := r.collectOne(ctx, conn, one, f.Run); err != nil {
				return nil, err
			}
		}
	}
	if step := &r.results.Then; step.Command != "" {
		step.Outcome, step.Why = run.Skipped, "machines of a fleet do not run it: run it in the job that follows them"
	}
	return r.results, nil
}

// crossingRun names the fleet run of a crossing.
func crossingRun(id string, c *matrix.Crossing) string { return id + "/" + c.Key() }

// joinOne takes part in the fleet run of a crossing, unless this machine lacks a service that it needs.
func (r *MatrixRun) joinOne(ctx context.Context, one *matrix.Result, f FleetRequest) error {
	at, q, err := r.app.crossingRequest(ctx, one.Crossing, r.request.Pick, r.request.Workers)
	if err != nil {
		return err
	}
	if _, missing := servicesOf(at.Project, q.Tests); missing != nil {
		one.Why = "left to other machines: " + missing.Error()
		r.changed(one)
		return nil
	}
	q.Strict, q.Retries, q.Limit = true, r.request.Retries, r.request.Limit
	control, sink := r.begin(one, at, q)
	q.Control = control
	f.Run = crossingRun(f.Run, one.Crossing)
	_, err = at.RunFleet(ctx, q, f, sink)
	r.end(one, func() { one.State = matrix.Waiting })
	if errors.As(err, &fleet.OverError{}) {
		return nil
	}
	return err
}

// collectOne takes over what all machines came to in a crossing, if they are done or this machine took part.
func (r *MatrixRun) collectOne(ctx context.Context, conn *fleet.Conn, one *matrix.Result, id string) error {
	name := crossingRun(id, one.Crossing)
	if m, err := conn.Manifest(ctx, name); err != nil || m.State != fleet.Ended && one.Began.IsZero() {
		return nil // others may have it yet
	}
	result, err := conn.Collect(ctx, name)
	if err != nil {
		return fmt.Errorf("crossing %s: %w", one.Key(), err)
	}
	began := one.Began
	one.End(0, result.Run)
	if one.Began.IsZero() {
		one.Began = began
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.changed(one)
	return nil
}
