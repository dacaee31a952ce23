package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
)

// Follower sees what a fleet run does. Its methods are called from one goroutine.
type Follower struct {
	Find     func(id string) (catalog.Test, bool)    // a test as the reader's project has it; nil if it has none
	Begins   func(m *Manifest, s *schedule.Schedule) // what runs; called once
	Event    run.Sink                                // what happens, without the run's end
	Machines func(machines []MachineStatus)          // now and when something changes; may be nil
	Ends     func(m *Manifest)                       // may be nil
}

// glance is how often a follower looks at the machines and at the state of the run.
const glance = 500 * time.Millisecond

// Follow follows a run from its beginning until it ends. Times are those of this computer's clock.
func (c *Conn) Follow(ctx context.Context, id string, to Follower) error {
	m, err := c.awaitOpen(ctx, id)
	if err != nil {
		return err
	}
	late, err := c.late(ctx)
	if err != nil {
		return err
	}
	events := to.Event
	to.Event = func(e run.Event) {
		e.At = e.At.Add(-late)
		events(e)
	}
	fold, err := c.newFold(ctx, m, to)
	if err != nil {
		return err
	}
	reader, err := c.read(ctx, m)
	if err != nil {
		return err
	}
	defer reader.stop()
	for {
		if err := reader.catchUp(ctx, fold, glance); err != nil {
			return err
		}
		c.reportMachines(ctx, m, to, late)
		now, _, err := c.getManifest(ctx, id)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.Is(err, errDamaged):
			return err
		case err != nil: // the station does not answer
			if err := c.check(ctx); err != nil {
				return err
			}
		case now == nil || now.Plan != m.Plan:
			return errors.New("the run was removed from the station, or is run again")
		case now.State == Ended:
			if err := c.readRest(ctx, now, reader, fold); err != nil {
				return err
			}
			c.reportMachines(ctx, now, to, late)
			if to.Ends != nil {
				to.Ends(now)
			}
			return nil
		}
	}
}

// reportMachines reports the machines of a run. If the station does not answer, it does in a moment.
func (c *Conn) reportMachines(ctx context.Context, m *Manifest, to Follower, late time.Duration) {
	if to.Machines == nil {
		return
	}
	machines, err := c.members(ctx, m)
	if err != nil {
		return
	}
	for i := range machines {
		machines[i].Joined = machines[i].Joined.Add(-late)
		if !machines[i].Left.IsZero() {
			machines[i].Left = machines[i].Left.Add(-late)
		}
	}
	to.Machines(machines)
}

// readRest reads the events of a run that has ended to the last one.
func (c *Conn) readRest(ctx context.Context, m *Manifest, r *reader, f *fold) error {
	last, err := c.events.GetLastMsgForSubject(ctx, m.allEvents())
	if errors.Is(err, jetstream.ErrMsgNotFound) {
		return nil // a run without tests
	}
	for err == nil && r.read < last.Sequence {
		err = r.catchUp(ctx, f, lookEvery)
	}
	return err
}

// awaitOpen waits until a run is planned.
func (c *Conn) awaitOpen(ctx context.Context, id string) (*Manifest, error) {
	for reported := false; ; {
		m, err := c.Manifest(ctx, id)
		switch unknown := errors.As(err, &UnknownError{}); {
		case err != nil && !unknown:
			return nil, err
		case err == nil && m.State != Planning:
			return m, nil
		case unknown && !reported:
			reported = true
			c.report(fmt.Sprintf("no machine has begun the run %s: waiting for the first", id))
		}
		if sleep(ctx, lookEvery); ctx.Err() != nil {
			return nil, fmt.Errorf("the run %s did not begin: %w", id, ctx.Err())
		}
	}
}

// newFold returns a fold of a run's events, and reports what runs.
func (c *Conn) newFold(ctx context.Context, m *Manifest, to Follower) (*fold, error) {
	if m.IsHunt() {
		return nil, HuntError{m}
	}
	file, err := c.getPlan(ctx, m)
	if err != nil {
		return nil, err
	}
	find := to.Find
	if find == nil {
		find = func(string) (catalog.Test, bool) { return catalog.Test{}, false }
	}
	s, err := file.schedule(find)
	if err != nil {
		return nil, err
	}
	if to.Begins != nil {
		to.Begins(m, s)
	}
	fold := newFold(s, file.Bare, c.hasJoined(ctx, m), to.Event)
	meta := m.Meta
	meta.Machine = "" // that began it; its results say which machine each test ran on
	fold.sink(run.Event{Event: run.RunBegins, Format: run.Format, At: m.Began, About: run.About{Meta: &meta}})
	return fold, nil
}

// reader reads the events of a run.
type reader struct {
	messages jetstream.MessagesContext
	arrived  chan jetstream.Msg
	read     uint64 // the sequence of the latest message
}

// read begins to read the events of a run.
func (c *Conn) read(ctx context.Context, m *Manifest) (*reader, error) {
	consumer, err := c.events.OrderedConsumer(ctx, jetstream.OrderedConsumerConfig{FilterSubjects: []string{m.allEvents()}})
	if err != nil {
		return nil, err
	}
	messages, err := consumer.Messages(jetstream.PullMaxMessages(500))
	if err != nil {
		return nil, err
	}
	r := &reader{messages: messages, arrived: make(chan jetstream.Msg, 500)}
	go func() {
		for {
			msg, err := messages.Next()
			if errors.Is(err, jetstream.ErrMsgIteratorClosed) {
				close(r.arrived)
				return
			}
			if err != nil {
				continue // an ordered consumer begins again where it was
			}
			r.arrived <- msg
		}
	}()
	return r, nil
}

func (r *reader) stop() {
	r.messages.Stop()
	for range r.arrived { // lets its goroutine end
	}
}

// catchUp folds what arrives for some time.
func (r *reader) catchUp(ctx context.Context, f *fold, some time.Duration) error {
	deadline := time.After(some)
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-deadline:
			return nil
		case msg, ok := <-r.arrived:
			if !ok {
				return errors.New("the station closed the connection")
			}
			r.take(msg, f)
		}
	}
}

func (r *reader) take(msg jetstream.Msg, f *fold) {
	meta, err := msg.Metadata()
	if err != nil {
		return
	}
	r.read = meta.Sequence.Stream
	var c chunk
	if json.Unmarshal(msg.Data(), &c) == nil {
		f.add(c, meta.Timestamp)
	}
}

// present folds everything that the station has now.
func (c *Conn) present(ctx context.Context, m *Manifest, f *fold) error {
	consumer, err := c.events.OrderedConsumer(ctx, jetstream.OrderedConsumerConfig{FilterSubjects: []string{m.allEvents()}})
	if err != nil {
		return err
	}
	left := int(consumer.CachedInfo().NumPending)
	r := &reader{}
	for left > 0 {
		msgs, err := consumer.Fetch(min(left, 500), jetstream.FetchMaxWait(5*time.Second))
		if err != nil {
			return err
		}
		got := 0
		for msg := range msgs.Messages() {
			r.take(msg, f)
			got++
		}
		if err := msgs.Error(); err != nil {
			return err
		}
		if got == 0 {
			return errors.New("the station does not send the events of the run")
		}
		left -= got
	}
	return ctx.Err()
}
