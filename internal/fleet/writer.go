package fleet

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"fernrelay/core/run"
)

// chunk is a message of the event stream: some events of one claim, in order. The first of a claim has no events and says
// who took the batch; the last one of a batch that is done says so.
type chunk struct {
	Machine string      `json:"machine"`
	Workers int         `json:"workers"`
	Batch   int         `json:"batch"` // from 1; 0 for what processes do beyond their tests
	Claim   string      `json:"claim"`
	Seq     int         `json:"seq"` // of the claim's chunks, from 0
	Done    bool        `json:"done,omitempty"`
	Back    bool        `json:"back,omitempty"` // the machine returns the batch to the queue, and lives
	Events  []run.Event `json:"events,omitempty"`

	last bool // nothing comes after it
}

// The limits of a chunk: events, about as many bytes, and how long its first event waits for others. One event takes at most
// mostText bytes of output, so that a chunk is below what NATS servers take.
const (
	mostEvents = 100
	mostBytes  = 256 << 10
	mostText   = 400 << 10
	mostWait   = 100 * time.Millisecond
)

// writer stores the events of one claim, in order, as fast as the station takes them.
type writer struct {
	member *Member
	batch  int
	claim  string

	mu       sync.Mutex
	events   []run.Event
	bytes    int
	finished map[string]bool // IDs of tests with an outcome
	closing  bool
	done     bool          // the batch is
	full     chan struct{} // a chunk is full, or the writer closes
	ended    chan struct{} // everything is stored, or given up
	err      error
	stop     context.CancelFunc
}

// newWriter returns a writer for a claim of a batch, or for what this machine reports beyond its batches for 0.
func (f *Member) newWriter(batch int) *writer {
	return &writer{member: f, batch: batch, claim: newName(), finished: map[string]bool{}, full: make(chan struct{}, 1), ended: make(chan struct{})}
}

// take stores that this machine has taken the batch, and begins to store what comes. A batch that kills its machine must be
// known to have been taken.
func (w *writer) take(ctx context.Context, only ...jetstream.PublishOpt) error {
	storing, cancel := context.WithTimeout(ctx, w.member.Lease())
	defer cancel()
	if err := w.store(storing, w.next(0), only...); err != nil {
		return err
	}
	w.start(1)
	return nil
}

// takeFirst is take if no machine had the batch before, which it reports.
func (w *writer) takeFirst(ctx context.Context) (bool, error) {
	err := w.take(ctx, jetstream.WithExpectLastSequencePerSubject(0))
	if isConflict(err) {
		return false, nil
	}
	return err == nil, err
}

// start begins to store chunks, from a number on.
func (w *writer) start(seq int) {
	ctx, stop := context.WithCancel(context.Background())
	w.stop = stop
	w.member.beside.Go(func() { w.write(ctx, seq) })
}

// add adds an event.
func (w *writer) add(e run.Event) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.closing {
		return
	}
	if len(e.Text) > mostText {
		e.Text = e.Text[:mostText]
	}
	e.Machine, e.Batch = "", 0 // the chunk says them
	if w.join(e) {
		return
	}
	w.events = append(w.events, e)
	w.bytes += sizeOf(&e)
	if e.Event == run.Finished {
		w.finished[e.ID] = true
	}
	if len(w.events) >= mostEvents || w.bytes >= mostBytes {
		w.wake()
	}
}

// sizeOf is about how many bytes an event takes.
func sizeOf(e *run.Event) int {
	return len(e.Text) + len(e.Message) + len(e.Expected) + len(e.Actual) + 200
}

// joined bounds the output that is joined into one event, in bytes.
const joined = 16 << 10

// join adds what a test prints to what it printed just before, and reports whether it did.
func (w *writer) join(e run.Event) bool {
	if e.Event != run.Output || len(w.events) == 0 {
		return false
	}
	last := &w.events[len(w.events)-1]
	if last.Event != run.Output || last.ID != e.ID || len(last.Text)+len(e.Text) > joined {
		return false
	}
	last.Text += e.Text
	w.bytes += len(e.Text)
	return true
}

func (w *writer) wake() {
	select {
	case w.full <- struct{}{}:
	default:
	}
}

// close stores what is left, and that the batch is done if it is. It returns once everything is stored, or when ctx ends.
func (w *writer) close(ctx context.Context, done bool) error {
	w.mu.Lock()
	w.closing, w.done = true, done
	w.mu.Unlock()
	if w.stop == nil {
		w.start(0)
	}
	w.wake()
	select {
	case <-w.ended:
	case <-ctx.Done():
		w.stop()
		<-w.ended
	}
	w.stop()
	return w.err
}

// write stores chunks, from a number on, until the writer is closed.
func (w *writer) write(ctx context.Context, seq int) {
	defer close(w.ended)
	for ; ; seq++ {
		w.await(ctx)
		c := w.next(seq)
		if w.err = w.storeOnce(ctx, c); w.err != nil || c.last {
			return
		}
	}
}

// await waits until there is something to store: a full chunk, an event that has waited, or the end.
func (w *writer) await(ctx context.Context) {
	every := time.NewTicker(mostWait)
	defer every.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-w.full:
			return
		case <-every.C:
			w.mu.Lock()
			some := len(w.events) > 0 || w.closing
			w.mu.Unlock()
			if some {
				return
			}
		}
	}
}

// next returns the next chunk.
func (w *writer) next(seq int) chunk {
	w.mu.Lock()
	defer w.mu.Unlock()
	c := chunk{Machine: w.member.self.Name, Workers: w.member.self.Workers, Batch: w.batch, Claim: w.claim, Seq: seq}
	n, bytes := 0, 0
	for n < len(w.events) && n < mostEvents && bytes < mostBytes {
		bytes += sizeOf(&w.events[n])
		n++
	}
	c.Events = w.events[:n:n]
	w.events, w.bytes = w.events[n:], w.bytes-bytes
	if len(w.events) > 0 {
		w.wake()
	}
	c.last = w.closing && len(w.events) == 0
	c.Done, c.Back = c.last && w.done, c.last && !w.done
	return c
}

// storeOnce stores a chunk. Only one chunk may say that a batch is done: if another does, this one comes without that.
func (w *writer) storeOnce(ctx context.Context, c chunk) error {
	if !c.Done {
		return w.store(ctx, c)
	}
	err := w.store(ctx, c, jetstream.WithExpectLastSequencePerSubject(0))
	if isConflict(err) {
		c.Done = false
		return w.store(ctx, c)
	}
	return err
}

// store stores a chunk, however long the station does not answer. The station drops one that it has already.
func (w *writer) store(ctx context.Context, c chunk, only ...jetstream.PublishOpt) error {
	m := w.member.manifest
	msg := &nats.Msg{Subject: m.eventsOf(c.Batch), Data: marshal(c)}
	if c.Done {
		msg.Subject = m.doneOf(c.Batch)
	}
	id := fmt.Sprint(c.Claim, "-", c.Seq, "-", c.Done)
	options := append([]jetstream.PublishOpt{jetstream.WithMsgID(id), jetstream.WithRetryAttempts(0)}, only...)
	refused := false
	for {
		storing, cancel := context.WithTimeout(ctx, min(w.member.Lease()/beats, 5*time.Second))
		_, err := w.member.conn.js.PublishMsg(storing, msg, options...)
		cancel()
		if err == nil {
			return nil
		}
		if ctx.Err() != nil || isConflict(err) {
			return err
		}
		if lost := w.member.lostFor(); lost != nil {
			return lost
		}
		var api *jetstream.APIError
		if errors.As(err, &api) && !refused {
			refused = true
			w.member.conn.report("the station does not store events: " + api.Description + "; is its disk full? It is tried until it does")
		}
		if sleep(ctx, mostWait); ctx.Err() != nil {
			return ctx.Err()
		}
	}
}
