package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync/atomic"
	"time"

	"github.com/charmbracelet/x/term"

	"fernrelay/core/run"
	"fernrelay/internal/engine"
	"fernrelay/internal/project"
	"fernrelay/internal/relay"
	"fernrelay/internal/report"
)

// runner runs requests and tells of them.
type runner struct {
	interrupts *interrupts
	relay      *relay.Relay
	show       string
	tookOver   time.Duration // tests that took longer are listed; 0 for none
	limit      time.Duration // of a run; 0 for none
	out        io.Writer
	stopped    atomic.Bool // a run was asked to begin nothing new
}

// run runs a request, tells of it, and writes the reports asked for, also where the
// run is interrupted.
func (n *runner) run(ctx context.Context, q relay.Request, files reportFiles) (r *run.Run, err error) {
	// Files are made before the run, so that a wrong path is told before the work is done.
	reports, err := files.create()
	if err != nil {
		return nil, err
	}
	if n.limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, n.limit, fmt.Errorf("its time of %s was up", n.limit))
		defer cancel()
	}
	q.Control = &engine.Control{}
	defer n.interrupts.finish(func() {
		n.stopped.Store(true)
		q.Control.Finish()
	})()
	status := report.NewStatus(stderr, term.IsTerminal(os.Stderr.Fd()), len(q.Tests))
	q.Making = status.Making
	live := report.NewLive(n.out, n.show)
	r, number, err := n.relay.Run(ctx, q, func(e run.Event) {
		reports.tell(e)
		live.Tell(e)
		status.Tell(e)
	})
	if r == nil {
		return nil, errors.Join(err, reports.close())
	}
	report.Failures(n.out, r)
	report.Notes(n.out, r)
	if n.tookOver > 0 {
		report.Slow(n.out, r, n.tookOver)
	}
	report.Closing(n.out, r, len(q.Tests), q.Workers, n.relay.Planned(q))
	if number > 0 {
		fmt.Fprintf(stderr, "kept as run %d\n", number)
	}
	if err = errors.Join(err, reports.write(r)); err != nil {
		return nil, unkept{err}
	}
	return r, nil
}

// resume runs what is left of a run and writes the reports of the whole.
func (n *runner) resume(ctx context.Context, q relay.Request, files reportFiles) (*run.Run, error) {
	reports, err := files.create()
	if err != nil {
		return nil, err
	}
	run, err := n.run(ctx, q, reportFiles{})
	if err != nil {
		return nil, errors.Join(err, reports.close())
	}
	whole, err := n.relay.Resumed(q, run)
	fmt.Fprintf(n.out, "with what had ended before: %s\n", whole.Summary())
	return whole, errors.Join(err, reports.replay(whole))
}

// repeat runs so many times and tells what differed; ready gives the request of each
// turn, from 0.
func (n *runner) repeat(ctx context.Context, files reportFiles, times int, ready func(turn int) (relay.Request, error)) (*run.Run, error) {
	reports, err := files.create()
	if err != nil {
		return nil, err
	}
	var parts []run.Part
	for number := 1; number <= times && ctx.Err() == nil && !n.stopped.Load(); number++ {
		fmt.Fprintf(n.out, "run %d of %d\n", number, times)
		q, err := ready(number - 1)
		if err != nil {
			return nil, errors.Join(err, reports.close())
		}
		r, err := n.run(ctx, q, reportFiles{})
		if err != nil {
			return nil, errors.Join(err, reports.close())
		}
		parts = append(parts, run.Part{Name: fmt.Sprint("run ", number), Run: r})
	}
	report.Repeated(n.out, parts)
	merged := run.Merge(parts).Run
	return merged, reports.replay(merged)
}

// levels tries how finely the tests may run side by side, and gives the run of the
// finest level at which nothing differed.
func (n *runner) levels(ctx context.Context, q relay.Request) (*run.Run, error) {
	trial, err := n.relay.TrialLevels(q, func(q relay.Request, what string) (*run.Run, error) {
		fmt.Fprintf(n.out, "%s\n", what)
		return n.run(ctx, q, reportFiles{})
	})
	if err != nil {
		return nil, err
	}
	report.Levels(n.out, trial)
	return trial.Safe, nil
}

// onChange runs a request, and then what changed files touch of its pick, until it is
// interrupted. A change to what runs supersedes the run. It gives the latest run.
func (n *runner) onChange(ctx context.Context, q relay.Request, files reportFiles) (*run.Run, error) {
	changes, fault := make(chan []string), make(chan error, 1)
	go func() {
		fault <- project.Watch(ctx, n.relay.Project.Dir, func(files []string) {
			select {
			case changes <- files:
			case <-ctx.Done():
			}
		})
	}()
	pick, workers := q.Pick, q.Workers
	var last *run.Run
	for {
		run, changed, err := n.superseded(ctx, q, files, changes)
		if err != nil {
			return nil, err
		}
		last = run
		if ctx.Err() != nil || n.stopped.Load() {
			return last, nil
		}
		if changed == nil {
			fmt.Fprintln(stderr, "fern-relay: waiting for files to change; Ctrl-C ends")
		}
		for q.Tests = nil; len(q.Tests) == 0; changed = nil {
			if changed == nil {
				select {
				case changed = <-changes:
				case err := <-fault:
					return last, err
				case <-ctx.Done():
					return last, nil
				}
			}
			next, err := n.changed(ctx, pick, changed, last, workers)
			if err != nil {
				fmt.Fprintln(stderr, "fern-relay:", err) // until what is wrong is mended
				continue
			}
			if len(next.Tests) == 0 {
				fmt.Fprintln(stderr, "fern-relay: what changed touches no picked test")
			}
			next.StopAfter, next.Retries, next.Limit, next.Together = q.StopAfter, q.Retries, q.Limit, q.Together
			q = next
		}
	}
}

// changed reads the project again and gives what a change touches.
func (n *runner) changed(ctx context.Context, pick string, files []string, last *run.Run, workers int) (relay.Request, error) {
	again, err := n.relay.Reload(ctx, files)
	if err != nil {
		return relay.Request{}, err
	}
	n.relay = again
	return again.ReadyChanged(pick, files, last, workers)
}

// superseded runs a request; where files change that it touches, it ends the run and
// gives them.
func (n *runner) superseded(ctx context.Context, q relay.Request, files reportFiles, changes <-chan []string) (run *run.Run, changed []string, err error) {
	ctx, supersede := context.WithCancelCause(ctx)
	defer supersede(nil)
	ended := make(chan struct{})
	go func() {
		run, err = n.run(ctx, q, files)
		close(ended)
	}()
	for {
		select {
		case <-ended:
			return run, changed, err
		case now := <-changes:
			if now = n.relay.Sources(ctx, now); len(now) == 0 {
				continue
			}
			changed = append(changed, now...)
			if next, err := n.relay.ReadyChanged(q.Pick, changed, nil, q.Workers); err != nil || len(next.Tests) > 0 {
				supersede(relay.ErrSuperseded)
			}
		}
	}
}
