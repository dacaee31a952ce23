package relay

import (
	"errors"
	"fmt"
	"os"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/ledger"
)

// task is what a journal says of a request.
func (q Request) task(schedule *split.Schedule) ledger.Task {
	task := ledger.Task{PID: os.Getpid(), Pick: q.Pick, Workers: q.Workers, Order: q.Order, Machine: machine(), InOrder: q.InOrder}
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
	for _, b := range schedule.Batches {
		batch := ledger.TaskBatch{Worker: b.Worker, Apart: b.Apart}
		for i := range b.Tests {
			batch.Tests = append(batch.Tests, place[b.Tests[i].ID])
		}
		task.Batches = append(task.Batches, batch)
	}
	return task
}

// ScheduleOf returns the schedule of a task, as far as its tests are known here.
func (r *Relay) ScheduleOf(task ledger.Task) *split.Schedule {
	batches := make([]split.Batch, len(task.Batches))
	for i, b := range task.Batches {
		batches[i].Worker, batches[i].Apart = b.Worker, b.Apart
		for _, at := range b.Tests {
			t := catalog.Test{ID: task.Tests[at]}
			if known, ok := r.Catalog.Lookup(t.ID); ok {
				t = *known
			}
			batches[i].Tests = append(batches[i].Tests, t)
		}
	}
	return split.NewSchedule(batches, r.Project.Resources)
}

// Running finds the journal of a run that goes on in the project, in any process;
// empty where none does.
func (r *Relay) Running() (journal string, err error) { return ledger.Running(r.Project.StorePath()) }

// killed keeps runs whose processes are gone, and tells of the latest.
func (r *Relay) killed() (notes []string, err error) {
	kept := r.ledger()
	if kept == nil {
		return nil, nil
	}
	k, number, err := kept.Killed(r.Project.StorePath())
	if err != nil || k == nil {
		return nil, err
	}
	if k.Run.Done() == len(k.Task.Tests) {
		return []string{fmt.Sprintf("run %d came to its end and could not be kept then: it is now", number)}, ledger.ForgetKilled(r.Project.StorePath())
	}
	return []string{fmt.Sprintf("run %d was killed when %d of %d tests had ended: fern-relay run --resume runs the rest", number, k.Run.Done(), len(k.Task.Tests))}, nil
}

// ReadyResume makes a request of what is left of the run that was killed last.
// gone counts tests of it that the project has no more.
func (r *Relay) ReadyResume() (q Request, gone int, err error) {
	k, err := ledger.LastKilled(r.Project.StorePath())
	if errors.Is(err, ledger.ErrNoRun) {
		return q, 0, errors.New("no run was killed here that could be resumed")
	}
	if err != nil {
		return q, 0, err
	}
	var rest []catalog.Test
	for _, id := range k.Task.Tests {
		if done := k.Run.Result(id); done != nil && done.Outcome != run.Lost {
			continue
		}
		if t, ok := r.Catalog.Lookup(id); ok {
			rest = append(rest, *t)
		} else {
			gone++
		}
	}
	q, err = r.Ready(k.Task.Pick, rest, k.Task.Workers)
	q.InOrder, q.Before = k.Task.InOrder, k.Run
	return q, gone, err
}

// Resumed puts a resumed run together with what was there before, and forgets that
// it was killed, unless something is lost again.
func (r *Relay) Resumed(q Request, ran *run.Run) (*run.Run, error) {
	whole := run.Merge([]run.Part{{Name: "before", Run: q.Before}, {Name: "resumed", Run: ran}}).Run
	if whole.Counts[run.Lost] > 0 {
		return whole, nil
	}
	return whole, ledger.ForgetKilled(r.Project.StorePath())
}
