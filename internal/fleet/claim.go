package fleet

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"fernrelay/core/schedule"
	"fernrelay/internal/engine"
)

// claim is a batch that this machine has taken.
type claim struct {
	msg     jetstream.Msg
	number  int           // of the batch, from 1
	claim   *engine.Claim // nil while it is parked
	writer  *writer
	left    map[string]bool // IDs of its tests without an outcome
	held    []string        // resources of this machine
	leases  []*lease        // resources of the fleet
	taken   time.Time       // when it was taken
	renewed atomic.Int64    // how long after that the station last confirmed it
	began   time.Time
	lane    int
}

// age returns how long ago the station confirmed the claim last.
func (c *claim) age() time.Duration { return time.Since(c.taken) - time.Duration(c.renewed.Load()) }

// Renew renews a claim. It is lost if another machine has taken the batch, which the station offers again once a claim has not
// been renewed for the time of a lease. While the station does not answer, nobody can know, and the tests go on: of two
// outcomes the worst counts.
func (f *Member) Renew(ctx context.Context, e *engine.Claim) error {
	if err := f.lostFor(); err != nil {
		return err
	}
	f.mu.Lock()
	c := f.claims[e]
	f.mu.Unlock()
	if c == nil {
		return nil
	}
	for _, l := range c.leases {
		if err := l.renew(ctx); err != nil && l.age() > f.Lease() {
			return fmt.Errorf("the lease of %s is over: the station did not confirm it", l.name)
		}
	}
	if late := c.age(); late > f.Lease() {
		known, err := f.conn.stored(ctx, f.manifest, c.number, f.within)
		if err == nil && known.latest != c.writer.claim {
			return fmt.Errorf("batch %d was renewed %.0f s ago, and its lease is %s: another machine took it", c.number, late.Seconds(), f.Lease())
		}
	}
	_ = f.confirm(ctx, c) // else it is tried again in a moment
	return nil
}

// confirm has the station confirm a claim.
func (f *Member) confirm(ctx context.Context, c *claim) error {
	asking, cancel := context.WithTimeout(ctx, f.Lease()/beats)
	defer cancel()
	asked := time.Now()
	if _, err := f.conn.nc.RequestWithContext(asking, c.msg.Reply(), []byte("+WPI")); err != nil {
		return err
	}
	c.renewed.Store(int64(asked.Sub(c.taken)))
	return nil
}

// renewParked renews a parked claim when it is time, and reports whether it still holds.
func (f *Member) renewParked(ctx context.Context, c *claim) bool {
	if c.age() > f.Lease()/beats && c.age() < f.Lease() {
		_ = f.confirm(ctx, c) // else it is tried again in a moment
	}
	return c.age() < f.Lease()
}

// Ended does nothing: other batches wait for batches, not for tests.
func (f *Member) Ended(string) {}

// Untaken returns nothing: what this machine does not take, others do.
func (f *Member) Untaken() []*schedule.Batch { return nil }

// Done stores what is left of a claim's events. If all its tests have an outcome, the batch is done; if not, it returns to
// the queue.
func (f *Member) Done(ctx context.Context, e *engine.Claim) error {
	f.mu.Lock()
	c := f.claims[e]
	f.self.Busy += time.Since(c.began).Seconds()
	f.mu.Unlock()
	err := f.close(ctx, c, false)
	if f.lostFor() != nil {
		err = nil // Leave reports it
	}
	f.giveBack(c)
	f.release(c)
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.claims, e)
	delete(f.byBatch, c.number) // only now, as this machine must not take it again while its outcomes are on their way
	f.over = f.over || err != nil || f.lost != nil
	f.looked, f.pause = time.Time{}, 0 // it may have been the last
	f.change()
	return err
}

// close stores what is left of a claim's events and ends it. marked says that the batch is known to be done.
func (f *Member) close(ctx context.Context, c *claim, marked bool) error {
	ctx, cancel := f.patient(ctx)
	defer cancel()
	go f.keep(ctx, c)
	f.mu.Lock()
	done := true
	for id := range c.left {
		done = done && c.writer.finished[id]
	}
	f.mu.Unlock()
	if !marked {
		if err := c.writer.close(ctx, done); err != nil {
			return fmt.Errorf("outcomes of batch %d did not reach the station: %w", c.number, err)
		}
	}
	holds := c.age() < f.Lease()
	if !done && holds {
		return c.msg.Nak()
	}
	if !done {
		return nil // another machine has it
	}
	if err := f.offerWaiting(ctx, c.number); err != nil {
		return fmt.Errorf("batches that wait for batch %d cannot be queued: %w", c.number, err)
	}
	_ = c.msg.Ack() // its outcomes are stored: if it comes again, whoever gets it finds them
	return nil
}

// How long a machine tries to store the events of a batch: while the run goes on, and once it was interrupted.
const (
	patience   = 10 * time.Minute
	impatience = 5 * time.Second
)

// patient returns the context in which a machine stores the events of a batch.
func (f *Member) patient(ctx context.Context) (context.Context, context.CancelFunc) {
	patient, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
	stop := context.AfterFunc(ctx, func() { time.AfterFunc(impatience, cancel) })
	return patient, func() { stop(); cancel() }
}

// offerWaiting queues the batches that waited for a batch, which is done, and for no other that is not.
func (f *Member) offerWaiting(ctx context.Context, number int) error {
	for _, waiter := range f.waiters[number] {
		ready := true
		for _, before := range f.before(waiter) {
			if before == number {
				continue
			}
			if _, err := f.conn.events.GetLastMsgForSubject(ctx, f.manifest.doneOf(before)); errors.Is(err, jetstream.ErrMsgNotFound) {
				ready = false
				break
			} else if err != nil {
				return err
			}
		}
		if !ready {
			continue
		}
		if _, err := f.conn.js.Publish(ctx, f.manifest.batch(f.lanes.of[waiter-1], waiter), nil, jetstream.WithMsgID(fmt.Sprint(f.manifest.Plan, "-", waiter))); err != nil {
			return err
		}
	}
	return nil
}
