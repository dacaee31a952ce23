package adapter

import (
	"bytes"
	"strings"
	"sync"
)

// Tail is an io.Writer that keeps the newest bytes of what is written. It is safe for use by
// several goroutines.
type Tail struct {
	Limit int // in bytes, above 0

	mu   sync.Mutex
	kept []byte
}

// Write takes more. It returns no error.
func (t *Tail) Write(data []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.kept = append(t.kept, data[max(0, len(data)-t.Limit):]...)
	if len(t.kept) > 2*t.Limit {
		t.kept = bytes.Clone(t.kept[len(t.kept)-t.Limit:])
	}
	return len(data), nil
}

// String returns the kept text, without space around it.
func (t *Tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return strings.TrimSpace(strings.ToValidUTF8(string(t.kept[max(0, len(t.kept)-t.Limit):]), ""))
}
