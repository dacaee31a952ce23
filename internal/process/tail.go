package process

import (
	"strings"
	"sync"
)

// AppendTail appends text to a tail, of which it keeps at least the newest limit bytes, and at most twice as many. It makes no
// garbage.
func AppendTail(tail, text []byte, limit int) []byte {
	if len(text) >= limit {
		return append(tail[:0], text[len(text)-limit:]...)
	}
	if len(tail)+len(text) > 2*limit {
		tail = append(tail[:0], tail[len(tail)-(limit-len(text)):]...)
	}
	return append(tail, text...)
}

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
	t.kept = AppendTail(t.kept, data, t.Limit)
	return len(data), nil
}

// String returns the kept text, without space around it.
func (t *Tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return strings.TrimSpace(strings.ToValidUTF8(string(t.kept[max(0, len(t.kept)-t.Limit):]), ""))
}

// LastLines returns the last three lines of what was printed, for a message, and no more than some bytes of them.
func LastLines(printed string, most int) string {
	printed = strings.TrimSpace(printed)
	printed = strings.ToValidUTF8(printed[max(0, len(printed)-most):], "")
	lines := strings.Split(printed, "\n")
	return strings.Join(lines[max(0, len(lines)-3):], "\n")
}
