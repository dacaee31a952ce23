package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"slices"
	"syscall"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/engine"
	"fernrelay/internal/ledger"
	"fernrelay/internal/owned"
	"fernrelay/internal/project"
	"fernrelay/internal/workspace"
)

// Run runs a request, passes events to the sink, and keeps the run in the ledger under a number, also if ctx
// ends. If it cannot be kept, the error says why and what becomes of it; Run returns the run all the same.
//
// If q.Whole is nil, Run folds the events. Otherwise the sink does, so that a large run is in memory once.
func (a *App) Run(ctx context.Context, q Request, sink run.Sink) (r *run.Run, number int, err error) {
	s := q.Schedule
	if s == nil {
		s = a.Schedule(q)
	}
	own := owned.Begin(a.Project.Records())
	defer own.Close()     // if the slots were not opened
	go own.PrepareGroup() // takes as long as what git says
	task := a.task(q, s, a.history.Source(ctx))
	q.meta = task.Meta
	journal, note, unwritten := a.beginJournal(task)
	record := task.Record(journal.Name())
	job := a.job(q, s, engine.Local(s, q.Workers))
	job.Setup.Record, job.Floods = own, journal.Floods()
	whole := q.Whole
	if whole == nil {
		sink, whole = folding(sink)
	}
	if err := engine.Run(ctx, job, q.record(journal, sink)); err != nil {
		return nil, 0, errors.Join(err, journal.End())
	}
	ran := *whole() // what is noted below is not in the fold, which others may read
	r = &ran
	if r.Idle = q.idle(r); r.Idle {
		note += "\nnothing of the pick ran: each test needs others that the pick does not select; widen the pick by them"
	}
	r.AddNote(note)
	r.AddNote(r.Several())
	retention := a.Project.Retention
	number, err = a.history.store.Keep(record, r, retention.Runs, retention.Days)
	switch {
	case number > 0:
		return r, number, errors.Join(err, journal.End())
	case unwritten != nil:
		return r, 0, fmt.Errorf("this run is not kept: %w", cmp.Or(err, unwritten))
	}
	return r, 0, errors.Join(fmt.Errorf("the run cannot be kept in the ledger: %w. Its journal %s stays, and the next command keeps it", err, journal.Name()), journal.Leave(r))
}

// job returns the engine's job of a request, here or on a fleet: the batches of a schedule, from a source.
func (a *App) job(q Request, s *schedule.Schedule, source engine.Source) engine.Job {
	setup := workspace.Setup(a.Project)
	setup.Limit, setup.Offset = q.Limit, q.Offset
	services := workspace.Services(a.Project)
	services.Shared = q.Shared
	return engine.Job{Adapters: a.Adapters, Schedule: s, Bare: q.Bare, Source: source, Workers: q.Workers, Setup: setup, Services: services, Strict: q.Strict,
		StopAfter: q.StopAfter, Retries: q.Retries, Control: q.Control, Preparing: q.Preparing}
}

// idle reports whether a run of the request ran no test although no rule or condition kept all of them from running.
func (q Request) idle(r *run.Run) bool {
	return len(r.Results) > 0 && len(r.Results) == r.Counts[run.Skipped] &&
		slices.ContainsFunc(q.Tests, func(t catalog.Test) bool { return t.SkipReason == "" })
}

// folding returns a sink that folds events before it passes them on, and a function that returns the fold.
func folding(sink run.Sink) (run.Sink, func() *run.Run) {
	r := run.New()
	return func(e run.Event) {
		r.Apply(e)
		sink(e)
	}, func() *run.Run { return r }
}

// record returns a sink that adds events to the journal of a run before it passes them on.
//
// The journal comes first: what a person sees has then been written, also if the process is killed right after. Of a run that is
// resumed, the outcomes of the killed run follow its beginning, so that the new journal has the whole.
func (q Request) record(journal *ledger.Journal, sink run.Sink) run.Sink {
	return func(e run.Event) {
		if e.Event == run.RunBegins {
			e.About = run.About{Planned: q.Shard, Meta: &q.meta, Mixed: q.Mixed}
		}
		journal.Write(e)
		if e.Event == run.RunBegins && q.Before != nil {
			q.Before.Replay(func(e run.Event) { // so that the journal has the whole run
				if e.Worker, e.Batch = 0, 0; e.Event == run.Finished {
					journal.Write(e)
				}
			})
		}
		sink(e)
	}
}

// beginJournal begins the journal of a run. On a full disk it makes room for it, and the note says so. Without a
// journal the run continues, and is lost if its process is killed; the error says why there is none.
func (a *App) beginJournal(task ledger.Task) (journal *ledger.Journal, note string, err error) {
	store, err := a.Project.Store()
	if err != nil {
		return nil, "", err
	}
	journal, err = ledger.BeginJournal(store, task)
	if !errors.Is(err, syscall.ENOSPC) {
		return journal, "", err
	}
	if freed := ledger.MakeRoom(store); freed > 0 {
		note = fmt.Sprintf("the disk was full: %.1f MB of output and steps of earlier runs that could not be kept are removed", float64(freed)/1e6)
		journal, err = ledger.BeginJournal(store, task)
	}
	return journal, note, err
}

// crossingKey identifies the crossing that a project is in; empty for none.
func crossingKey(p *project.Project) string {
	if p.Crossing == nil {
		return ""
	}
	return p.Crossing.Key()
}

// task returns what the journal of a request says that it does.
func (a *App) task(q Request, s *schedule.Schedule, source run.Source) ledger.Task {
	task := ledger.Task{PID: os.Getpid(), Meta: a.meta(q, source), InOrder: q.InOrder}
	if q.Before != nil {
		for _, r := range q.Before.Results {
			task.Tests = append(task.Tests, r.ID)
		}
	}
	place := make(map[string]int, len(q.Tests))
	for i := range q.Tests {
		place[q.Tests[i].ID] = len(task.Tests)
		task.Tests = append(task.Tests, q.Tests[i].ID)
	}
	for _, b := range s.Batches {
		batch := ledger.TaskBatch{Worker: b.Worker, Apart: b.Apart}
		for i := range b.Tests {
			batch.Tests = append(batch.Tests, place[b.Tests[i].ID])
		}
		task.Batches = append(task.Batches, batch)
	}
	return task
}

// meta describes the run of a request.
func (a *App) meta(q Request, source run.Source) run.Meta {
	return run.Meta{Pick: q.Pick, Workers: q.Workers, Order: q.Order, Source: source, Machine: machine(), Trial: q.Trial, Crossing: crossingKey(a.Project)}
}

// machine describes the machine that tests run on.
func machine() string {
	return fmt.Sprintf("%s, %s/%s, %d processors", HostName(), runtime.GOOS, runtime.GOARCH, runtime.NumCPU())
}
