package app

import (
	"context"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/ledger"
)

// Followed is a run that another process does.
type Followed struct {
	Schedule *schedule.Schedule
	Tests    int // in all, with those that a resumed run had done before
	Workers  int
}

// Running returns the name of the journal of a run that goes on in the project, in any process, or "".
func (a *App) Running() (journal string, err error) { return ledger.Running(a.Project.StorePath()) }

// Follow follows a run by its journal until it ends. It calls begin once it knows what the run does, and then
// passes its events to the sink.
func (a *App) Follow(ctx context.Context, journal string, begin func(Followed), sink run.Sink) error {
	return ledger.Follow(ctx, journal, func(task ledger.Task) {
		begin(Followed{Schedule: a.scheduleOf(task), Tests: len(task.Tests), Workers: max(1, task.Workers)})
	}, sink)
}

// scheduleOf returns the schedule of a task. Tests that the project does not have are known by their ID only.
func (a *App) scheduleOf(task ledger.Task) *schedule.Schedule {
	batches := make([]schedule.Batch, len(task.Batches))
	for i, b := range task.Batches {
		batches[i].Worker, batches[i].Apart = b.Worker, b.Apart
		for _, at := range b.Tests {
			t := catalog.Test{ID: task.Tests[at]}
			if known, ok := a.Catalog.Lookup(t.ID); ok {
				t = *known
			}
			batches[i].Tests = append(batches[i].Tests, t)
		}
	}
	return schedule.Of(batches, a.Project.Resources)
}
