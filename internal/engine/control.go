package engine

import (
	"sync"

	"fernrelay/core/run"
)

// Control steers a run while it goes on. The zero value lets it run.
type Control struct {
	mu              sync.Mutex
	held, finishing bool
	steer           func(held, finishing bool) // nil while no run listens
}

// Hold says whether workers are to take nothing new until further notice.
func (c *Control) Hold(held bool) { c.set(func() { c.held = held }) }

// Finish lets what runs come to its end, and begins nothing new.
func (c *Control) Finish() { c.set(func() { c.finishing = true }) }

// Finishing reports whether Finish was called.
func (c *Control) Finishing() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.finishing
}

func (c *Control) set(change func()) {
	c.mu.Lock()
	defer c.mu.Unlock()
	change()
	if c.steer != nil {
		c.steer(c.held, c.finishing)
	}
}

// listen calls steer now and at each change, until the returned function is called.
func (c *Control) listen(steer func(held, finishing bool)) (stop func()) {
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
	r.resumed.Broadcast()
}

// stopInTime stops the workers once enough tests have failed: each continues until no test of its own runs any
// more.
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

// setRunning notes whether a test runs on a worker.
func (r *execution) setRunning(worker int, id string, running bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.running[worker] == nil {
		r.running[worker] = map[string]bool{}
	}
	if running {
		r.running[worker][id] = true
		return
	}
	delete(r.running[worker], id)
	r.stopIdle(worker)
}
