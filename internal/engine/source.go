package engine

import (
	"context"
	"io"
	"slices"
	"sync"

	"fernrelay/core/split"
)

// A Source hands out the batches of one run. Its methods may be called from several goroutines.
type Source interface {
	// Next blocks until a batch may run on a worker, numbered from 1. It returns io.EOF if none is left for
	// that worker. The caller calls Done exactly once for each batch.
	Next(ctx context.Context, worker int) (*split.Batch, error)

	// Renew extends the claim on a batch that runs long. An error means that the claim is lost.
	Renew(ctx context.Context, b *split.Batch) error

	// Ended says that a test has its outcome. Other batches may wait for it.
	Ended(id string)

	// Done says that a batch has ended.
	Done(ctx context.Context, b *split.Batch) error
}

// Local returns a source of all batches of a schedule for the workers of one process. Workers with lower numbers
// take first, and the first batches are taken once all workers wait, so that the same schedule is always taken
// alike.
func Local(schedule *split.Schedule, workers int) Source {
	l := &local{schedule: schedule, workers: workers, dispatcher: schedule.Dispatch(), given: map[int]*split.Batch{}}
	l.changed = sync.NewCond(&l.mu)
	return l
}

type local struct {
	schedule *split.Schedule
	workers  int

	mu         sync.Mutex
	changed    *sync.Cond // a worker asked for a batch, or has one
	dispatcher *split.Dispatcher
	open       bool                 // all workers have waited
	waiting    []int                // workers, ascending
	given      map[int]*split.Batch // by worker; nil if there is none left for it
	asked      int                  // how often workers have asked for a batch
}

func (l *local) Next(ctx context.Context, worker int) (*split.Batch, error) {
	defer context.AfterFunc(ctx, l.wake)()
	l.mu.Lock()
	defer l.mu.Unlock()
	at, _ := slices.BinarySearch(l.waiting, worker)
	l.waiting = slices.Insert(l.waiting, at, worker)
	l.asked++
	l.open = l.open || len(l.waiting) == l.workers
	l.assign()
	for ctx.Err() == nil {
		if batch, given := l.given[worker]; given {
			delete(l.given, worker)
			if batch == nil {
				return nil, io.EOF
			}
			return batch, nil
		}
		l.changed.Wait()
	}
	return nil, ctx.Err()
}

// wake lets workers see that their context has ended.
func (l *local) wake() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.changed.Broadcast()
}

// assign gives each waiting worker its next batch, if one is free. It is called whenever one may have become so.
func (l *local) assign() {
	if l.open {
		l.waiting = slices.DeleteFunc(l.waiting, func(worker int) bool {
			i, left := l.dispatcher.Next(worker)
			switch {
			case i >= 0:
				l.given[worker] = &l.schedule.Batches[i]
			case !left:
				l.given[worker] = nil
			default:
				return false
			}
			return true
		})
	}
	l.changed.Broadcast()
}

func (l *local) Renew(context.Context, *split.Batch) error { return nil }

func (l *local) Ended(id string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.dispatcher.End(id) {
		l.assign()
	}
}

func (l *local) Done(_ context.Context, b *split.Batch) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.dispatcher.Release(b.Number - 1)
	l.assign()
	return nil
}
