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
	mu      sync.Mutex
	events  []run.Event
	outputs map[string]*output // by ID: the output that more can be joined to
}

// output is an event with the output of a test, by its index.
type output struct {
	at   int
	text strings.Builder
}

// Put adds an event.
func (f *Feed) Put(e run.Event) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if e.Event != run.Output {
		delete(f.outputs, e.ID)
		f.events = append(f.events, e)
		return
	}
	o := f.outputs[e.ID]
	if o == nil {
		if f.outputs == nil {
			f.outputs = map[string]*output{}
		}
		o = &output{at: len(f.events)}
		f.outputs[e.ID] = o
		f.events = append(f.events, e)
	}
	o.text.WriteString(e.Text)
	f.events[o.at].Text = o.text.String() // which copies nothing
}

// take returns the events since it was called last, in their order for each test.
func (f *Feed) take() []run.Event {
	f.mu.Lock()
	defer f.mu.Unlock()
	events := f.events
	f.events, f.outputs = nil, nil
	return events
}
