package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"fernrelay/core/run"
)

// Trial is one ordered execution of a hunt, of which the last test counts.
type Trial struct {
	Order  []string `json:"order"` // IDs
	Times  int      `json:"times"` // how often the order runs at most, until the last test is bad
	Serial bool     `json:"serial,omitempty"`
}

// check refuses a trial that is damaged.
func (t *Trial) check() error {
	const most = 1_000_000
	if len(t.Order) == 0 || len(t.Order) > most || t.Times < 1 || t.Times > most {
		return errors.New("the station's trial is damaged")
	}
	return nil
}

// TrialResult is what came of a trial.
type TrialResult struct {
	Machine string      `json:"machine"`
	Outcome run.Outcome `json:"outcome"`
	Seconds float64     `json:"seconds"`
	Error   string      `json:"error,omitempty"` // why it could not run
}

// kindHunt is the kind of a manifest that offers the trials of hunts.
const kindHunt = "hunt"

// HuntError is the error of a machine that joins a run which is a hunt: it serves its trials.
type HuntError struct{ Manifest *Manifest }

func (h HuntError) Error() string {
	return fmt.Sprintf("the fleet run %s is a hunt: its finding is where it was begun, on %s", h.Manifest.Run, h.Manifest.By)
}

// Hunt offers trials to machines.
type Hunt struct {
	conn     *Conn
	manifest *Manifest
	reader   jetstream.MessagesContext

	mu      sync.Mutex
	number  int
	waiting map[int]chan TrialResult // by the trial's number
}

// OfferHunt begins a fleet run whose batches are the trials of a hunt.
func (c *Conn) OfferHunt(ctx context.Context, id string, self Machine, work Work) (*Hunt, error) {
	known, _, err := c.getManifest(ctx, id)
	if err != nil {
		return nil, err
	}
	if known != nil {
		return nil, DiffersError{fmt.Sprintf("the station has a run %s already: take another ID for the hunt, or remove it with fern-relay fleet forget", id)}
	}
	now, err := c.now(ctx)
	if err != nil {
		return nil, err
	}
	m := &Manifest{Format: manifestFormat, Kind: kindHunt, Run: id, Plan: newName(), Attempt: 1, State: Open, By: self.Name, Project: work.Project, Meta: work.Meta, Lease: work.Lease.Seconds(), Began: now}
	if err := c.makeQueue(ctx, m, 0); err != nil {
		return nil, err
	}
	consumer, err := c.events.OrderedConsumer(ctx, jetstream.OrderedConsumerConfig{FilterSubjects: []string{m.allEvents()}})
	if err != nil {
		return nil, err
	}
	h := &Hunt{conn: c, manifest: m, waiting: map[int]chan TrialResult{}}
	if h.reader, err = consumer.Messages(); err != nil {
		return nil, err
	}
	won, err := c.put(ctx, m, 0)
	if err == nil && !won {
		err = DiffersError{fmt.Sprintf("another machine has just begun the run %s: take another ID for the hunt", id)}
	}
	if err != nil {
		h.reader.Stop()
		return nil, err
	}
	go h.read()
	return h, nil
}

// Manifest returns what machines see of the hunt.
func (h *Hunt) Manifest() *Manifest { return h.manifest }

// read hands results to those who wait for them. Of several for a trial the first counts.
func (h *Hunt) read() {
	for {
		msg, err := h.reader.Next()
		if errors.Is(err, jetstream.ErrMsgIteratorClosed) {
			return
		}
		if err != nil {
			continue // an ordered consumer begins again where it was
		}
		var r TrialResult
		number := numberIn(strings.TrimSuffix(msg.Subject(), ".e"))
		if json.Unmarshal(msg.Data(), &r) != nil || r.Error == "" && !slices.Contains(run.Outcomes, r.Outcome) || !(r.Seconds >= 0) {
			continue
		}
		h.mu.Lock()
		if result := h.waiting[number]; result != nil {
			result <- r
			delete(h.waiting, number)
		}
		h.mu.Unlock()
	}
}

// numberIn returns the number at the end of a subject, 0 if there is none.
func numberIn(subject string) int {
	number, err := strconv.Atoi(subject[strings.LastIndexByte(subject, '.')+1:])
	if err != nil {
		return 0
	}
	return number
}

// Try offers a trial and waits until a machine has run it.
func (h *Hunt) Try(ctx context.Context, t Trial) (TrialResult, error) {
	h.mu.Lock()
	h.number++
	number, result := h.number, make(chan TrialResult, 1)
	h.waiting[number] = result
	h.mu.Unlock()
	for {
		_, err := h.conn.js.Publish(ctx, h.manifest.batch(0, number), marshal(t), jetstream.WithMsgID(fmt.Sprint(h.manifest.Plan, "-", number)))
		if err == nil {
			break
		}
		if ctx.Err() != nil {
			return TrialResult{}, err
		}
		sleep(ctx, pollMany) // until the station answers
	}
	select {
	case r := <-result:
		if r.Error != "" {
			return r, fmt.Errorf("a trial failed on %s: %s", r.Machine, r.Error)
		}
		return r, nil
	case <-ctx.Done():
		return TrialResult{}, ctx.Err()
	}
}

// End ends the hunt: its machines leave.
func (h *Hunt) End(ctx context.Context) error {
	h.reader.Stop()
	now, entry, err := h.conn.getManifest(ctx, h.manifest.Run)
	if err != nil || now == nil || now.Plan != h.manifest.Plan {
		return err
	}
	now.State, now.Merged = Ended, now.By
	if now.Ended, err = h.conn.now(ctx); err != nil {
		return err
	}
	_, err = h.conn.put(ctx, now, entry.Revision())
	return errors.Join(err, h.conn.batches.Purge(ctx, jetstream.WithPurgeSubject(batchSubject+h.manifest.Plan+".>")), h.conn.removeQueues(ctx, h.manifest))
}

// ServeHunt runs trials of a hunt on a number of workers until it ends. do runs one.
func (c *Conn) ServeHunt(ctx context.Context, m *Manifest, self Machine, do func(ctx context.Context, t Trial) (run.Outcome, float64, error)) error {
	f, err := c.newMember(ctx, m, self, m.Source(), &plan{lanes: &lanes{names: []string{""}}})
	if err != nil {
		return err
	}
	ctx, end := context.WithCancel(ctx)
	defer end()
	f.beside.Go(func() {
		defer end()
		for ctx.Err() == nil {
			now, _, err := c.getManifest(ctx, m.Run)
			if err == nil && (now == nil || now.Plan != m.Plan || now.State == Ended) {
				return
			}
			sleep(ctx, glance)
		}
	})
	var wg sync.WaitGroup
	for range self.Workers {
		wg.Go(func() {
			for ctx.Err() == nil {
				f.serveOne(ctx, do)
			}
		})
	}
	wg.Wait()
	_, err = f.Leave(context.WithoutCancel(ctx), true)
	return err
}

// serveOne runs the next trial, if one comes within a moment.
func (f *Member) serveOne(ctx context.Context, do func(ctx context.Context, t Trial) (run.Outcome, float64, error)) {
	waiting, cancel := context.WithTimeout(ctx, pollOne)
	msg, err := f.queues[0].Next(jetstream.FetchContext(waiting))
	cancel()
	if err != nil {
		if waiting.Err() == nil {
			f.pauseAfter(ctx)
		}
		return
	}
	c := &claim{msg: msg, number: numberIn(msg.Subject()), taken: time.Now()}
	var t Trial
	if err := json.Unmarshal(msg.Data(), &t); err != nil || t.check() != nil {
		_ = msg.TermWithReason("this is no trial")
		return
	}
	held, release := context.WithCancel(ctx)
	go f.keep(held, c)
	r := TrialResult{Machine: f.self.Name}
	r.Outcome, r.Seconds, err = do(held, t)
	release()
	if ctx.Err() != nil {
		_ = msg.Nak()
		return
	}
	if err != nil {
		r.Error = err.Error()
	}
	f.mu.Lock()
	f.self.Tests++
	f.self.Busy += r.Seconds
	f.mu.Unlock()
	for ctx.Err() == nil {
		if _, err := f.conn.js.Publish(ctx, f.manifest.eventsOf(c.number), marshal(r)); err == nil {
			_ = msg.Ack() // else another runs it, too, and the first result counts
			return
		}
		f.pauseAfter(ctx)
	}
}

// keep renews a claim until ctx ends.
func (f *Member) keep(ctx context.Context, c *claim) {
	every := time.NewTicker(f.Lease() / beats)
	defer every.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-every.C:
			_ = f.confirm(ctx, c) // if it is lost, another runs the trial, too
		}
	}
}
