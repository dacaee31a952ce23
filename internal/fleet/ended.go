package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"fernrelay/core/run"
)

// An idle machine looks for the end of the run at growing distances.
const (
	leastPause = 20 * time.Millisecond
	mostPause  = time.Second
)

// ended looks, from time to time, whether the run has ended.
func (f *Member) ended(ctx context.Context) bool {
	f.mu.Lock()
	if over := f.over; over || time.Since(f.looked) < f.pause || len(f.claims)+len(f.parked) > 0 {
		f.mu.Unlock()
		return over
	}
	f.looked, f.pause = time.Now(), min(max(2*f.pause, leastPause), mostPause)
	f.mu.Unlock()
	for _, queue := range f.queues {
		info, err := queue.Info(ctx)
		if err == nil && info.NumPending+uint64(info.NumAckPending) > 0 {
			return false
		}
		if err != nil && !errors.Is(err, jetstream.ErrConsumerNotFound) {
			return false
		}
	}
	if !f.allDone(ctx) {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.over = true
	f.change()
	return true
}

// countDone counts the batches of a run that are done. Each has one message that says so.
func (c *Conn) countDone(ctx context.Context, m *Manifest) (int, error) {
	counter, err := c.events.CreateConsumer(ctx, jetstream.ConsumerConfig{FilterSubject: m.allDone(), AckPolicy: jetstream.AckNonePolicy, MemoryStorage: true, InactiveThreshold: time.Second})
	if err != nil {
		return 0, err
	}
	return int(counter.CachedInfo().NumPending), nil
}

// allDone reports whether all batches of the run are done, now that no queue has one. Should some be in no queue for the
// time of a lease, as after a loss at the station, it queues them again.
func (f *Member) allDone(ctx context.Context) bool {
	count, err := f.conn.countDone(ctx, f.manifest)
	if err != nil {
		return false
	}
	if count >= len(f.schedule.Batches) {
		return true
	}
	if gone, err := f.conn.Manifest(ctx, f.manifest.Run); errors.As(err, &UnknownError{}) || err == nil && gone.Plan != f.manifest.Plan {
		return true // somebody removed the run
	}
	f.mu.Lock()
	if f.missed.IsZero() {
		f.missed = time.Now()
	}
	wait := time.Since(f.missed) < f.Lease()
	if !wait {
		f.missed = time.Time{}
	}
	f.mu.Unlock()
	if wait {
		return false
	}
	info, err := f.conn.events.Info(ctx, jetstream.WithSubjectFilter(f.manifest.allDone()))
	if err != nil {
		return false
	}
	done := info.State.Subjects
	isDone := func(batch int) bool { return done[f.manifest.doneOf(batch)] > 0 }
	for number := 1; number <= len(f.schedule.Batches); number++ {
		if !isDone(number) && !slices.ContainsFunc(f.before(number), func(before int) bool { return !isDone(before) }) {
			_, _ = f.conn.js.Publish(ctx, f.manifest.batch(f.lanes.of[number-1], number), nil) // else it is tried again
		}
	}
	return false
}

// batchOutcomes is what the station has of a batch.
type batchOutcomes struct {
	takers   []string // machines that took it and did not give it back, in the order in which they took it
	latest   string   // the claim that took it last
	outcomes map[string]run.Outcome
	done     bool
}

// stored reads what the station has of a batch.
func (c *Conn) stored(ctx context.Context, m *Manifest, batch int, within map[string]int) (*batchOutcomes, error) {
	known := &batchOutcomes{outcomes: map[string]run.Outcome{}}
	taken := map[string]int{} // by claim: the place of its machine among the takers, from 1
	for sequence := uint64(1); ; {
		msg, err := c.events.GetMsg(ctx, sequence, jetstream.WithGetMsgSubject(m.allOf(batch)))
		if errors.Is(err, jetstream.ErrMsgNotFound) {
			known.takers = slices.DeleteFunc(known.takers, func(name string) bool { return name == "" })
			return known, nil
		}
		if err != nil {
			return nil, err
		}
		sequence = msg.Sequence + 1
		var chunk chunk
		if json.Unmarshal(msg.Data, &chunk) != nil || chunk.Batch != batch {
			continue
		}
		if chunk.Seq == 0 && !chunk.Done && len(chunk.Events) == 0 {
			known.takers, known.latest = append(known.takers, chunk.Machine), chunk.Claim
			taken[chunk.Claim] = len(known.takers)
		}
		at := taken[chunk.Claim]
		if at == 0 {
			continue // it reports what it did not take
		}
		if chunk.Back {
			known.takers[at-1] = "" // it lives
		}
		known.done = known.done || chunk.Done
		for _, e := range chunk.Events {
			if e.Event == run.Finished && within[e.ID] == batch && known.outcomes[e.ID] == "" {
				known.outcomes[e.ID] = e.Sound().Outcome
			}
		}
	}
}
