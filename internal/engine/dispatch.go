package engine

import (
	"context"
	"slices"
	"sync"

	"fernrelay/core/order"
	"fernrelay/core/outcome"
)

// queued is a batch that waits to be taken.
type queued struct {
	Batch
	at    int      // its number, from 1
	uses  []string // resources, each once, and what it must run apart from
	waits []string // IDs of other batches' tests that must have ended
}

// apartSign goes before what a batch runs apart from, which is held as a resource
// that one batch may hold at a time.
const apartSign = "\x00"

// line makes the queue of the job's batches.
func (r *run) line() {
	for _, b := range r.job.Queue {
		for i := range b.Tests {
			r.open[b.Tests[i].ID] = &b.Tests[i]
		}
	}
	for i, b := range r.job.Queue {
		q := &queued{Batch: b, at: i + 1}
		own := make(map[string]bool, len(b.Tests))
		for i := range b.Tests {
			own[b.Tests[i].ID] = true
		}
		for i := range b.Tests {
			q.uses = append(q.uses, uses(&b.Tests[i])...)
			for _, id := range order.Dependencies(&b.Tests[i]) {
				if r.open[id] != nil && !own[id] {
					q.waits = append(q.waits, id)
					r.awaited[id] = true
				}
			}
		}
		slices.Sort(q.uses)
		q.uses = slices.Compact(q.uses)
		if b.Apart != "" {
			q.uses = append(q.uses, apartSign+b.Apart)
		}
		r.queue = append(r.queue, q)
	}
}

// take gives the first batch that is free for a worker, and waits where none is
// free yet; nil where there are none left or the run is to end.
func (r *run) take(ctx context.Context, worker int) *queued {
	r.mu.Lock()
	defer r.mu.Unlock()
	for ctx.Err() == nil && !r.stopping {
		left := false
		for i, b := range r.queue {
			if b.Worker != 0 && b.Worker != worker {
				continue
			}
			left = true
			if r.paused || !r.free(b) {
				continue
			}
			r.remove(i)
			for _, resource := range b.uses {
				r.held[resource]++
			}
			return b
		}
		if !left {
			break
		}
		r.changed.Wait()
	}
	return nil
}

// remove takes a batch out of the queue, mostly the first.
func (r *run) remove(i int) {
	if i == 0 {
		r.queue = r.queue[1:]
		return
	}
	r.queue = slices.Delete(r.queue, i, i+1)
}

// free reports whether nothing that a batch waits for is still to come: tests of
// other batches, or its turn at a resource.
func (r *run) free(b *queued) bool {
	for _, resource := range b.uses {
		if r.held[resource] >= max(1, r.job.Resources[resource]) {
			return false
		}
	}
	return !slices.ContainsFunc(b.waits, func(id string) bool { return r.open[id] != nil })
}

// release gives back what a batch held.
func (r *run) release(b *queued) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, resource := range b.uses {
		r.held[resource]--
	}
	r.changed.Broadcast()
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
func (r *run) steer(held, finishing bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.paused = held
	if finishing {
		r.finished = true
		r.stop()
	}
	r.changed.Broadcast()
}

// stopInTime ends what workers do once enough has failed: each goes on until no
// test of its own runs any more.
func (r *run) stopInTime(e outcome.Event) {
	if e.Event == outcome.Finished && r.job.StopAfter > 0 && outcome.CountBad(r.counts) >= r.job.StopAfter {
		r.stop()
	}
}

// stop lets nothing new begin: each worker ends once no test of its own runs.
func (r *run) stop() {
	if r.stopping {
		return
	}
	r.stopping = true
	for worker := range r.cancels {
		r.stopIdle(worker)
	}
}

// stopIdle ends what a worker does that has no test running.
func (r *run) stopIdle(worker int) {
	if cancel := r.cancels[worker]; r.stopping && cancel != nil && len(r.running[worker]) == 0 {
		cancel()
	}
}

// runs notes that a test begins or ends to run on a worker.
func (r *run) runs(worker int, id string, does bool) {
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
