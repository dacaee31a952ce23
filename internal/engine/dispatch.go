package engine

import (
	"context"
	"slices"
	"sync"

	"fernrelay/core/run"
	"fernrelay/core/split"
)

// taken is a batch that a worker has taken.
type taken struct {
	*split.Batch
	number int // from 1
}

// waitingRoom is the workers that wait for a batch. Those with lower numbers take first, and the first batches are
// taken once all workers wait, so that the same schedule is always taken alike.
type waitingRoom struct {
	waiting []int // worker numbers, ascending
	open    bool
	given   map[int]*taken // by worker; nil if there is none left for it
	asked   int            // how often a worker has asked for a batch
}

// next returns the next batch that worker may run. It blocks until one is free, and returns nil if
// none is left for the worker or the run is stopping.
func (r *execution) next(ctx context.Context, worker int) *taken {
	r.mu.Lock()
	defer r.mu.Unlock()
	at, _ := slices.BinarySearch(r.room.waiting, worker)
	r.room.waiting = slices.Insert(r.room.waiting, at, worker)
	r.room.asked++
	r.room.open = r.room.open || len(r.room.waiting) == r.job.Workers
	r.assign()
	for ctx.Err() == nil && !r.stopping {
		if batch, given := r.room.given[worker]; given {
			delete(r.room.given, worker)
			return batch
		}
		r.changed.Wait()
	}
	return nil
}

// assign gives each waiting worker its next batch, if one is free. It is called whenever one may have become so.
func (r *execution) assign() {
	if r.paused || r.stopping || !r.room.open {
		return
	}
	r.room.waiting = slices.DeleteFunc(r.room.waiting, func(worker int) bool {
		i, left := r.dispatcher.Next(worker)
		switch {
		case i >= 0:
			r.room.given[worker] = &taken{&r.job.Schedule.Batches[i], i + 1}
		case !left:
			r.room.given[worker] = nil
		default:
			return false
		}
		return true
	})
	r.changed.Broadcast()
}

// release records that a batch has ended.
func (r *execution) release(b *taken) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.dispatcher.Release(b.number - 1)
	r.assign()
}

// Control steers a run that goes on, from beside it. The zero value lets it run.
type Control struct {
	mu              sync.Mutex
	held, finishing bool
	steer           func(held, finishing bool) // nil while no run listens
}

// Hold says whether workers are to take nothing new until further notice.
func (c *Control) Hold(held bool) { c.set(func() { c.held = held }) }

// Finish lets what runs come to its end, and begins nothing new.
func (c *Control) Finish() { c.set(func() { c.finishing = true }) }

func (c *Control) set(change func()) {
	c.mu.Lock()
	defer c.mu.Unlock()
	change()
	if c.steer != nil {
		c.steer(c.held, c.finishing)
	}
}

// listen passes on what is said, now and from now on, until the function that it
// gives is called.
func (c *Control) listen(steer func(held, finishing bool)) (deaf func()) {
	if c == nil {
		return func() {}
	}
	c.set(func() { c.steer = steer })
	return func() { c.set(func() { c.steer = nil }) }
}

// steer obeys what a Control says.
func (r *execution) steer(held, finishing bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.paused = held
	if finishing {
		r.finished = true
		r.stop()
	}
	r.assign()
	r.changed.Broadcast()
}

// stopInTime ends what workers do once enough has failed: each goes on until no
// test of its own runs any more.
func (r *execution) stopInTime(e run.Event) {
	if e.Event == run.Finished && r.job.StopAfter > 0 && run.CountBad(r.counts) >= r.job.StopAfter {
		r.stop()
	}
}

// stop lets nothing new begin: each worker ends once no test of its own runs.
func (r *execution) stop() {
	if r.stopping {
		return
	}
	r.stopping = true
	for worker := range r.cancels {
		r.stopIdle(worker)
	}
}

// stopIdle ends what a worker does that has no test running.
func (r *execution) stopIdle(worker int) {
	if cancel := r.cancels[worker]; r.stopping && cancel != nil && len(r.running[worker]) == 0 {
		cancel()
	}
}

// runs notes that a test begins or ends to run on a worker.
func (r *execution) runs(worker int, id string, does bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.running[worker] == nil {
		r.running[worker] = map[string]bool{}
	}
	if does {
		r.running[worker][id] = true
		return
	}
	delete(r.running[worker], id)
	r.stopIdle(worker)
}
