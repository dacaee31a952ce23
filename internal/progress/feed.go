package progress

import (
	"strings"
	"sync"

	"fernrelay/core/run"
)

// Inbox takes what other goroutines send until the next frame. Its zero value is empty.
type Inbox[T any] struct {
	mu   sync.Mutex
	held []T
}

func (b *Inbox[T]) Put(item T) {
	b.mu.Lock()
	b.held = append(b.held, item)
	b.mu.Unlock()
}

func (b *Inbox[T]) Take() []T {
	b.mu.Lock()
	defer b.mu.Unlock()
	held := b.held
	b.held = nil
	return held
}

// Feed is an inbox of events. It joins what one test prints, so that a flood of output takes no more memory than its text, however
// long nobody takes it.
type Feed struct {
	mu     sync.Mutex
	events []run.Event
	taken  []run.Event              // the latest that take returned, whose memory is used again
	latest []int                    // by worker: one more than the index of its latest event
	texts  map[int]*strings.Builder // by index: the text of an output that others were joined to
}

// Put adds an event.
func (f *Feed) Put(e run.Event) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if e.Event == run.Output && f.join(&e) {
		return
	}
	f.events = append(f.events, e)
	if e.Worker < 0 || e.Worker > mostJoined {
		return
	}
	for len(f.latest) <= e.Worker {
		f.latest = append(f.latest, 0)
	}
	f.latest[e.Worker] = len(f.events)
}

// mostJoined is the greatest number of a worker whose output is joined.
const mostJoined = 4096

// join adds an output to the latest event of its worker, if that is output of the same test.
//
//	worker 1: started a, output "x"        the output "y" of a by worker 1 is joined: "xy"
//	worker 2: started b, output "z"        it does not matter what other workers did in between
//	worker 1: finished a                   from here on nothing is joined to the output of a
//
// The text grows in a builder, whose String copies nothing, so a test that prints a million lines costs a million appends.
func (f *Feed) join(e *run.Event) bool {
	if e.Worker < 0 || e.Worker >= len(f.latest) || f.latest[e.Worker] == 0 {
		return false
	}
	at := f.latest[e.Worker] - 1
	before := &f.events[at]
	if before.Event != run.Output || before.ID != e.ID || before.Machine != e.Machine {
		return false
	}
	text := f.texts[at]
	if text == nil {
		if f.texts == nil {
			f.texts = map[int]*strings.Builder{}
		}
		text = &strings.Builder{}
		text.WriteString(before.Text)
		f.texts[at] = text
	}
	text.WriteString(e.Text)
	before.Text = text.String() // which copies nothing
	return true
}

// take returns the events since it was called last, in their order. They are valid until it is called again.
func (f *Feed) take() []run.Event {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.events, f.taken = f.taken[:0], f.events
	f.texts = nil
	clear(f.latest)
	return f.taken
}
