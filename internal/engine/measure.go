package engine

import (
	"time"

	"fernrelay/core/run"
	"fernrelay/internal/processors"
)

// load is how many workers were busy over time.
type load struct {
	busy  int
	since time.Time
	sum   float64 // of busy workers times seconds
}

// change notes that a worker becomes busy or free.
func (l *load) change(by int) {
	l.until(time.Now())
	l.busy += by
}

// until adds up to a time.
func (l *load) until(now time.Time) {
	if !l.since.IsZero() {
		l.sum += float64(l.busy) * now.Sub(l.since).Seconds()
	}
	l.since = now
}

// busy notes that a worker becomes busy, or free for -1.
func (r *execution) busy(by int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.load.change(by)
}

// shortest is the shortest process, in seconds, whose use of processors says something: starting it and the ticks of
// the system's clocks are all that is measured of shorter ones.
const shortest = 0.02

// measure works out from what a process used how long its tests would have taken alone, and passes that on.
func (r *execution) measure(e run.Event) {
	wall, used := *e.Seconds, *e.Used
	if wall < shortest {
		used.Slowed = 1
		if wall > 0 {
			used.Share = min(used.Processor/wall, float64(processors.Count()))
		}
	} else {
		r.mu.Lock()
		now := time.Now()
		r.load.until(now)
		busy := r.load.sum / max(now.Sub(r.began).Seconds(), 1e-9)
		r.mu.Unlock()
		alone := aloneSeconds(wall, used, busy, processors.Count())
		used.Slowed, used.Share = wall/alone, used.Processor/alone
	}
	e.Used = &used
	r.emit(e)
}

// quiet is the part of its time that a process may wait for processors before that is taken off: less may be the wait of its start,
// and not that of its tests.
const quiet = 0.2

// aloneSeconds returns how long a process would have taken if no other had used the processors, of which there are
// some: without the time in which it waited for one. That is what its threads waited if only one at a time had anything to do, or
// else what the system says of its group. If it says nothing, it is as if all busy workers had wanted a processor all the time. The
// result is never less than the longest thread needs, or than all need on as many processors as threads had something to do at once.
func aloneSeconds(wall float64, used run.Used, busy float64, processors int) float64 {
	waited, wanted := used.Stalled, float64(processors)
	if own := used.Threads > 0 && used.Threads >= 0.8*used.Processor; own {
		wanted = min(wanted, max(1, (used.Threads+used.Delayed)/wall))
		if wanted < 1.1 {
			waited = used.Delayed
		}
	}
	if waited < 0 {
		waited = used.Processor * max(0, busy/float64(processors)-1)
	}
	if waited < quiet*wall {
		waited = 0
	}
	return min(wall, max(wall-waited, used.Thread, used.Processor/wanted, wall/100))
}
