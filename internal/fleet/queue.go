package fleet

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"fernrelay/core/run"
	"fernrelay/internal/engine"
)

// The longest that an idle worker waits for a batch before it looks at all lanes, and at the end, again.
const (
	pollOne  = 2 * time.Second // with one lane
	pollMany = 200 * time.Millisecond
)

// Next takes a batch. It returns io.EOF once all batches are done.
func (f *Member) Next(ctx context.Context, worker int) (*engine.Claim, error) {
	f.mu.Lock()
	f.idle++
	f.mu.Unlock()
	defer func() {
		f.mu.Lock()
		f.idle--
		back := f.parked
		if f.idle > 0 {
			back = nil // others wait for them
		} else {
			f.parked = nil
		}
		f.mu.Unlock()
		for _, c := range back {
			_ = c.msg.Nak() // else it comes back when its lease is over
		}
	}()
	for ctx.Err() == nil {
		f.mu.Lock()
		over, changed := f.over, f.changed
		f.mu.Unlock()
		if over {
			return nil, io.EOF
		}
		if c := f.takeAny(ctx); c != nil {
			return c.claim, nil
		}
		if f.ended(ctx) {
			continue
		}
		if c := f.await(ctx, changed); c != nil {
			return c.claim, nil
		}
	}
	return nil, ctx.Err()
}

// takeAny takes the first batch that can begin now: of those parked, then of each lane. It returns nil if there is none.
//
// Suppose batches 1 and 2 hold the licence server, which another machine uses, and batch 3 holds nothing. Batch 1 cannot begin: it is
// parked, and its lane is blocked, as batch 2 would wait for the same. Batch 3, of another lane, begins.
func (f *Member) takeAny(ctx context.Context) *claim {
	blocked := map[int]bool{}
	if c := f.takeParked(ctx, blocked); c != nil {
		return c
	}
	for lane := len(f.queues) - 1; lane >= 0; lane-- { // what holds something goes first, as it may have to wait
		for !blocked[lane] && ctx.Err() == nil {
			msg := f.fetch(ctx, lane)
			if msg == nil {
				break
			}
			c := f.received(ctx, msg, lane)
			if c != nil && c.claim != nil {
				return c
			}
			blocked[lane] = c != nil
		}
	}
	return nil
}

// takeParked takes the first parked batch that can begin now, and notes the lanes of those that cannot.
func (f *Member) takeParked(ctx context.Context, blocked map[int]bool) (got *claim) {
	f.mu.Lock()
	parked := f.parked
	f.parked = nil
	f.mu.Unlock()
	for _, c := range parked {
		switch {
		case got != nil || blocked[c.lane]:
			f.park(c)
		case !f.renewParked(ctx, c): // another machine has it
		case f.begin(ctx, c):
			got = c
		case len(c.left) > 0:
			blocked[c.lane] = true
			f.park(c)
		}
	}
	return got
}

// fetch returns the next message of a lane, nil if it has none now.
func (f *Member) fetch(ctx context.Context, lane int) jetstream.Msg {
	msgs, err := f.queues[lane].FetchNoWait(1)
	if err != nil {
		f.pauseAfter(ctx)
		return nil
	}
	return <-msgs.Messages()
}

// await waits for a batch, or until something may have changed.
func (f *Member) await(ctx context.Context, changed <-chan struct{}) *claim {
	f.mu.Lock()
	wait := pollOne
	if len(f.queues) > 1 || len(f.parked) > 0 {
		wait = pollMany
	}
	if len(f.claims)+len(f.parked) == 0 {
		wait = min(wait, max(f.pause, leastPause))
	}
	wait = min(wait, f.Lease()/beats)
	blocked := false
	for _, c := range f.parked {
		blocked = blocked || c.lane == 0
	}
	f.mu.Unlock()
	waiting, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	go func() {
		select {
		case <-changed:
			cancel()
		case <-waiting.Done():
		}
	}()
	if blocked {
		<-waiting.Done()
		return nil
	}
	msg, err := f.queues[0].Next(jetstream.FetchContext(waiting))
	if err != nil {
		if waiting.Err() == nil && !errors.Is(err, nats.ErrTimeout) && !errors.Is(err, jetstream.ErrNoMessages) {
			f.pauseAfter(ctx)
		}
		return nil
	}
	if c := f.received(ctx, msg, 0); c != nil && c.claim != nil {
		return c
	}
	return nil
}

// pauseAfter waits a moment after the station failed. The connection reports what is wrong with it.
func (f *Member) pauseAfter(ctx context.Context) { sleep(ctx, pollMany) }

// unfitRest is how long a worker waits after it gave back a batch that others can run and this machine cannot.
const unfitRest = time.Second

// Unfit says that this machine cannot run the batches of a suite: it leaves them to others as long as there are any. A machine
// that lacks a tool would else fail the whole queue in no time.
func (f *Member) Unfit(suite string) {
	f.mu.Lock()
	f.self.Unfit = append(slices.Clip(f.self.Unfit), suite)
	f.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), f.Lease()/beats)
	defer cancel()
	_ = f.show(ctx) // it is shown again
}

// othersRun reports whether other machines can run a suite that this one cannot.
func (f *Member) othersRun(ctx context.Context, suite string) bool {
	f.mu.Lock()
	unfit := slices.Contains(f.self.Unfit, suite)
	f.mu.Unlock()
	if !unfit {
		return false
	}
	machines, err := f.conn.members(ctx, f.manifest)
	return err == nil && slices.ContainsFunc(machines, func(m MachineStatus) bool {
		return m.Name != f.self.Name && m.State == MachineRunning && !slices.Contains(m.Unfit, suite)
	})
}

// received takes a batch from a message. It returns nil if nothing of the batch is left to run, and a claim without an
// engine's claim if the batch is parked.
func (f *Member) received(ctx context.Context, msg jetstream.Msg, lane int) *claim {
	number := numberIn(msg.Subject())
	if number < 1 || number > len(f.schedule.Batches) {
		_ = msg.TermWithReason("this is no batch of the run")
		return nil
	}
	if f.othersRun(ctx, f.schedule.Batches[number-1].Suite) {
		_ = msg.Nak()
		sleep(ctx, unfitRest)
		return nil
	}
	if f.has(number) { // it was offered twice: another machine may run it, or this one has run it by then
		_ = msg.NakWithDelay(f.Lease() / beats)
		return nil
	}
	c := &claim{msg: msg, number: number, lane: lane, taken: time.Now(), left: map[string]bool{}}
	for i := range f.schedule.Batches[number-1].Tests {
		c.left[f.schedule.Batches[number-1].Tests[i].ID] = true
	}
	begun := f.begin(ctx, c)
	if len(c.left) == 0 {
		return nil
	}
	if !begun {
		f.park(c)
	}
	return c
}

// resume looks at what the station has of a batch that a machine had before. It reports whether something is left to run; if
// not, the claim is closed and has nothing left.
func (f *Member) resume(ctx context.Context, c *claim) (bool, error) {
	known, err := f.conn.stored(ctx, f.manifest, c.number, f.within)
	if err != nil {
		return false, err
	}
	for id := range known.outcomes {
		delete(c.left, id)
	}
	switch {
	case len(c.left) == 0:
		return false, f.close(ctx, c, known.done)
	case len(known.takers) >= mostTakes:
		err := f.giveUp(ctx, c, known.takers)
		clear(c.left)
		return false, err
	}
	return true, nil
}

// has reports whether this machine runs a batch, or has parked it.
func (f *Member) has(batch int) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.byBatch[batch] != nil || slices.ContainsFunc(f.parked, func(c *claim) bool { return c.number == batch })
}

func (f *Member) park(c *claim) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.parked = append(f.parked, c)
}

// mostTakes is how often a batch is taken before the tests that never end in it are lost.
const mostTakes = 3

// giveUp gives up the tests of a batch that no machine has brought to an end.
func (f *Member) giveUp(ctx context.Context, c *claim, takers []string) error {
	if err := c.writer.take(ctx); err != nil { // only who took a batch reports outcomes of it
		return err
	}
	b := &f.schedule.Batches[c.number-1]
	for i := range b.Tests {
		t := &b.Tests[i]
		if !c.left[t.ID] {
			continue
		}
		why := fmt.Sprintf("%d machines took its batch and none came back with an outcome: %s", len(takers), strings.Join(takers, ", "))
		c.writer.add(run.Event{Event: run.Finished, At: f.now(), ID: t.ID, Outcome: run.Lost, Seconds: run.Took(0), Failure: run.Failure{Message: why, File: t.File, Line: t.Line}})
	}
	return f.close(ctx, c, false)
}

// begin begins a batch if what it holds is free, and something of it is left to run.
func (f *Member) begin(ctx context.Context, c *claim) bool {
	if !f.hold(c) {
		return false
	}
	known, begun, err := f.takeUp(ctx, c)
	if err != nil || !begun {
		f.giveBack(c)
		f.release(c)
		if err != nil {
			f.pauseAfter(ctx) // it is tried again
		}
		return false
	}
	batch := f.schedule.Batches[c.number-1]
	batch.Tests = nil
	for _, t := range f.schedule.Batches[c.number-1].Tests {
		if c.left[t.ID] {
			batch.Tests = append(batch.Tests, t)
		}
	}
	c.claim, c.began = &engine.Claim{Batch: &batch, Known: known}, time.Now()
	f.mu.Lock()
	defer f.mu.Unlock()
	f.claims[c.claim], f.byBatch[c.number] = c, c
	return true
}

// takeUp takes what a batch holds of the fleet, and then the batch. It returns the outcomes that its tests need.
func (f *Member) takeUp(ctx context.Context, c *claim) (known map[string]run.Outcome, begun bool, err error) {
	if begun, err = f.borrow(ctx, c); err != nil || !begun {
		return nil, false, err
	}
	if known, err = f.needed(ctx, c); err != nil {
		return nil, false, err
	}
	begun, err = f.claim(ctx, c)
	return known, begun, err
}

// claim stores that this machine takes a batch. It reports false if another has brought it to an end.
func (f *Member) claim(ctx context.Context, c *claim) (bool, error) {
	if c.writer == nil { // else it is tried again, and must not count as another machine that took the batch
		c.writer = f.newWriter(c.number)
	}
	first, err := c.writer.takeFirst(ctx)
	if err != nil || first {
		return first, err
	}
	left, err := f.resume(ctx, c)
	if err != nil || !left {
		return false, err
	}
	err = c.writer.take(ctx)
	return err == nil, err
}

// needed returns the outcomes of tests of other batches that tests of this one need.
func (f *Member) needed(ctx context.Context, c *claim) (map[string]run.Outcome, error) {
	outcomes := map[string]run.Outcome{}
	for _, before := range f.before(c.number) {
		known, err := f.conn.stored(ctx, f.manifest, before, f.within)
		if err != nil {
			return nil, err
		}
		for id, o := range known.outcomes {
			outcomes[id] = o
		}
	}
	return outcomes, nil
}

// hold takes the resources of this machine that a batch holds, all or none.
func (f *Member) hold(c *claim) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	var held []string
	for _, name := range f.schedule.Holds(c.number - 1) {
		if f.shared[name] {
			continue
		}
		if f.held[name] >= f.schedule.Capacity(name) {
			return false
		}
		held = append(held, name)
	}
	for _, name := range held {
		f.held[name]++
	}
	c.held = held
	return true
}

// release returns the resources of this machine that a batch held.
func (f *Member) release(c *claim) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, name := range c.held {
		f.held[name]--
	}
	c.held = nil
	f.change()
}
