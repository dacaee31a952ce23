package engine

import (
	"context"
	"io"
	"slices"
	"sync"

	"fernrelay/core/run"
	"fernrelay/core/schedule"
)

// A Source hands out the batches of one run. Its methods may be called from several goroutines.
type Source interface {
	// Next blocks until a batch may run on a worker, numbered from 1. It returns io.EOF if none is left for
	// that worker. The caller calls Done exactly once for each claim.
	Next(ctx context.Context, worker int) (*Claim, error)

	// Renew extends a claim whose batch runs long. An error means that the claim is lost.
	Renew(ctx context.Context, c *Claim) error

	// Unfit says that this process cannot run the batches of a suite, so that a source of several machines offers
	// them to others first.
	Unfit(suite string)

	// Ended says that a test has its outcome. Other batches may wait for it.
	Ended(id string)

	// Done ends a claim, also if ctx has ended and not all of its tests have an outcome. Then a source of several
	// machines offers the rest again.
	Done(ctx context.Context, c *Claim) error

	// Untaken returns the batches that nobody has taken and nobody else will. It is called after the last Next.
	Untaken() []*schedule.Batch
}

// A Claim is a batch that a worker has taken.
type Claim struct {
	*schedule.Batch
	Known map[string]run.Outcome // of tests that these need and that ran elsewhere
}

// Local returns a source of all batches of a schedule for the workers of one process. Workers with lower numbers
// take first, and the first batches are taken once all workers wait, so that the same schedule is always taken
// alike.
func Local(s *schedule.Schedule, workers int) Source {
	l := &local{schedule: s, workers: workers, dispatcher: s.Dispatch(), given: map[int]*Claim{}, taken: map[int]bool{}}
	l.changed = sync.NewCond(&l.mu)
	return l
}

type local struct {
	schedule *schedule.Schedule
	workers  int

	mu         sync.Mutex
	changed    *sync.Cond // a worker asked for a batch, or has one
	dispatcher *schedule.Dispatcher
	open       bool           // all workers have waited
	waiting    []int          // workers, ascending
	given      map[int]*Claim // by worker; nil if there is none left for it
	taken      map[int]bool   // by the batch's number
	asked      int            // how often workers have asked for a batch
}

func (l *local) Next(ctx context.Context, worker int) (*Claim, error) {
	defer context.AfterFunc(ctx, l.wake)()
	l.mu.Lock()
	defer l.mu.Unlock()
	at, _ := slices.BinarySearch(l.waiting, worker)
	l.waiting = slices.Insert(l.waiting, at, worker)
	l.asked++
	l.open = l.open || len(l.waiting) == l.workers
	l.assign()
	for ctx.Err() == nil {
		if claim, given := l.given[worker]; given {
			delete(l.given, worker)
			if claim == nil {
				return nil, io.EOF
			}
			l.taken[claim.Number] = true
			return claim, nil
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
				l.given[worker] = &Claim{Batch: &l.schedule.Batches[i]}
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

func (l *local) Unfit(string) {}

func (l *local) Renew(context.Context, *Claim) error { return nil }

func (l *local) Ended(id string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.dispatcher.End(id) {
		l.assign()
	}
}

func (l *local) Done(_ context.Context, c *Claim) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.dispatcher.Release(c.Number - 1)
	l.assign()
	return nil
}

func (l *local) Untaken() []*schedule.Batch {
	l.mu.Lock()
	defer l.mu.Unlock()
	var untaken []*schedule.Batch
	for i := range l.schedule.Batches {
		if b := &l.schedule.Batches[i]; !l.taken[b.Number] {
			untaken = append(untaken, b)
		}
	}
	return untaken
}
