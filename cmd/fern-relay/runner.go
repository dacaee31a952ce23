package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/charmbracelet/x/term"

	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/hunting"
	"fernrelay/internal/report"
)

// runner runs requests and prints their results.
type runner struct {
	interrupts *interrupts
	app        *app.App
	show       string
	tookOver   time.Duration // tests that took longer are listed; 0 for none
	limit      time.Duration // of a run; 0 for none
	hunt       time.Duration // in which what failed is hunted at the end of a run; 0 for none
	known      quarantineFile
	out        io.Writer
	brief      bool        // builds that fail are one line each
	stopped    atomic.Bool // a run was asked to begin nothing new
}

// run runs a request, prints the results, and writes the reports that are asked for, also if the run is
// interrupted.
func (n *runner) run(ctx context.Context, q app.Request, files reportFiles) (*run.Run, error) {
	planned, unused := n.app.Planned(q)
	alone := sync.OnceValue(func() float64 { return n.app.AloneSeconds(q) })
	go alone()
	if unused != "" && len(q.Tests) > 1 {
		fmt.Fprintln(stderr, "fern-relay: note:", unused)
	}
	return n.print(ctx, q, files, func(ctx context.Context, q app.Request, sink run.Sink) (*run.Run, func(), error) {
		r, number, err := n.app.Run(ctx, q, func(e run.Event) {
			if e.Event == run.RunEnds {
				alone() // now, as the ledger does not have this run yet
			}
			sink(e)
		})
		return r, func() {
			report.Closing(n.out, r, len(q.Tests), q.Workers, planned, alone())
			if words := n.app.Behind(q.Pick); words != "" {
				fmt.Fprintln(n.out, words)
			}
			if number > 0 {
				fmt.Fprintf(stderr, "kept as run %d\n", number)
			}
		}, err
	})
}

// print prints what a run does, and then its results, and writes the reports. do runs the request, and returns what closes the
// results.
func (n *runner) print(ctx context.Context, q app.Request, files reportFiles, do func(ctx context.Context, q app.Request, sink run.Sink) (r *run.Run, closing func(), err error)) (*run.Run, error) {
	// Files are created before the run, so that a wrong path is reported before the work is done.
	reports, err := files.create(n.app.Project.Dir)
	if err != nil {
		return nil, err
	}
	if n.limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, n.limit, fmt.Errorf("the run reached its time limit of %s", n.limit))
		defer cancel()
	}
	report.First(n.out, q.Mixed)
	q.Control = &app.Control{}
	status := report.NewStatus(stderr, terminalWidth(os.Stderr), len(q.Tests))
	defer n.interrupts.finish(func() {
		n.stopped.Store(true)
		if running := status.Running(); running != "" {
			fmt.Fprintln(stderr, "fern-relay: running:", running)
		}
		q.Control.Finish()
	})()
	q.Preparing = status.Preparing
	live := report.NewLive(n.out, n.show)
	var end run.Event // of the run, which the findings precede
	r, closing, err := do(ctx, q, func(e run.Event) {
		if end = e; e.Event != run.RunEnds {
			reports.event(e)
		}
		if e.Event == run.Finished && n.show != report.ShowSum {
			status.Around(func() { live.Event(e) })
		} else {
			live.Event(e)
		}
		status.Event(e)
	})
	status.Close()
	if r == nil {
		return nil, errors.Join(err, reports.close())
	}
	if n.hunt > 0 && ctx.Err() == nil && !n.stopped.Load() {
		n.huntFailed(ctx, r, q.Workers, reports)
	}
	reports.event(end)
	if n.brief && report.Builds(n.out, r) {
		return r, errors.Join(err, reports.write(r))
	}
	report.Failures(n.out, r)
	report.Notes(n.out, r)
	if n.tookOver > 0 {
		report.Slow(n.out, r, n.tookOver)
	}
	closing()
	if words := report.Hunted(r); words != "" {
		fmt.Fprintln(n.out, words)
	}
	if err = errors.Join(err, n.known.report(n, r), reports.write(r)); err != nil {
		return nil, unkept{err}
	}
	return r, nil
}

// huntFailed hunts what failed in a run within the time for it, and adds the findings to the run and its reports.
func (n *runner) huntFailed(ctx context.Context, r *run.Run, workers int, reports *reports) {
	within, cancel := context.WithTimeout(ctx, n.hunt)
	defer cancel()
	defer n.interrupts.finish(cancel)()
	p := newHuntProgress()
	findings, err := hunting.Of(n.app).HuntRun(within, r, hunting.Options{Workers: workers, Files: reports.names()}, p.report)
	if err != nil {
		fmt.Fprintln(stderr, "fern-relay: the hunt of what failed:", err)
	}
	for _, f := range findings {
		e := run.Event{Event: run.Found, At: time.Now(), ID: f.ID, Finding: report.InRun(f)}
		r.Apply(e)
		reports.event(e)
	}
}

// terminalWidth returns the columns of a terminal, 0 if the file is none.
func terminalWidth(file *os.File) int {
	if !term.IsTerminal(file.Fd()) {
		return 0
	}
	width, _, err := term.GetSize(file.Fd())
	if err != nil || width < 20 {
		return 80
	}
	return width
}

// resume runs the rest of a run and writes the reports of the whole.
func (n *runner) resume(ctx context.Context, q app.Request, files reportFiles) (*run.Run, error) {
	reports, err := files.create(n.app.Project.Dir)
	if err != nil {
		return nil, err
	}
	run, err := n.run(ctx, q, reportFiles{})
	if err != nil {
		return nil, errors.Join(err, reports.close())
	}
	whole, err := n.app.Resumed(q, run)
	fmt.Fprintf(n.out, "together with the earlier part: %s\n", whole.Summary())
	return whole, errors.Join(err, reports.replay(whole))
}

// repeat runs a number of times and prints what differed; ready returns the request of each turn, from 0.
func (n *runner) repeat(ctx context.Context, files reportFiles, times int, ready func(turn int) (app.Request, error)) (*run.Run, error) {
	reports, err := files.create(n.app.Project.Dir)
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

// levels tries how finely the tests may run side by side, with up to a number of runs of each level, and returns the run
// of the finest level at which nothing differed.
func (n *runner) levels(ctx context.Context, q app.Request, times int) (*run.Run, error) {
	trial, err := n.app.TrialLevels(q, times, func(q app.Request, what string) (*run.Run, error) {
		fmt.Fprintf(n.out, "%s\n", what)
		return n.run(ctx, q, reportFiles{})
	})
	if err != nil {
		return nil, err
	}
	report.Levels(n.out, trial)
	return trial.Safe, nil
}

// onChange runs a request, and then what changed files touch, until it is interrupted. It returns the latest run.
func (n *runner) onChange(ctx context.Context, q app.Request, files reportFiles) (*run.Run, error) {
	n.brief = true
	note := func(what string) { fmt.Fprintln(stderr, "fern-relay:", what) }
	return n.app.RunOnChange(ctx, q, app.OnChange{
		Run: func(ctx context.Context, a *app.App, q app.Request) (*run.Run, error) {
			n.app = a
			return n.run(ctx, q, files)
		},
		Stopped: n.stopped.Load,
		Idle:    func() { note("waiting for files to change; Ctrl-C ends") },
		Report:  note,
	})
}
