// Package events writes and reads a run as event lines: one JSON object a line, in the
// order in which things happened.
package events

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"fernrelay/core/run"
	"fernrelay/internal/format/lines"
)

// Writer writes events to a stream. What it holds back is written within a moment, so
// that others may read along.
type Writer struct {
	mu      sync.Mutex
	out     *bufio.Writer
	encoder *json.Encoder // into line
	line    bytes.Buffer
	event   run.Event // that is being written
	err     error
	flush   *time.Timer // nil while nothing is held back
	closed  bool
}

// moment is the longest that a line is held back.
const moment = 50 * time.Millisecond

// NewWriter makes a writer of event lines.
func NewWriter(w io.Writer) *Writer {
	e := &Writer{out: bufio.NewWriterSize(w, 64<<10)}
	e.encoder = json.NewEncoder(&e.line)
	e.encoder.SetEscapeHTML(false)
	return e
}

// Write writes one event. After an error, or once it is closed, it writes nothing.
func (w *Writer) Write(e run.Event) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err != nil || w.closed {
		return
	}
	w.line.Reset()
	w.event = e
	if w.err = w.encoder.Encode(&w.event); w.err == nil && w.line.Len() > w.out.Available() {
		w.err = w.out.Flush() // so that a process that is killed leaves whole lines
	}
	if w.err == nil {
		_, w.err = w.out.Write(w.line.Bytes())
	}
	if w.flush == nil {
		w.flush = time.AfterFunc(moment, w.write)
	}
}

// write writes what is held back.
func (w *Writer) write() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.closed {
		w.flush, w.err = nil, errors.Join(w.err, w.out.Flush())
	}
}

// Close writes what is buffered, and returns the first error of writing. It leaves the stream open.
func (w *Writer) Close() error {
	w.write()
	w.mu.Lock()
	defer w.mu.Unlock()
	w.closed = true
	return w.err
}

// Read sends the events of a stream of event lines to a sink, up to its end or to the first line that is none. The
// error, after all events, says why the stream is not whole: a broken line, or a missing end.
func Read(r io.Reader, sink run.Sink) error {
	n, ended := 0, false
	err := lines.Each(r, func(line []byte) error {
		n++
		if len(bytes.TrimSpace(line)) == 0 {
			return nil
		}
		var e run.Event
		if err := json.Unmarshal(run.NewWords(line), &e); err != nil {
			return fmt.Errorf("line %d is no event: %w", n, err)
		}
		if n == 1 && e.Format != run.Format {
			return fmt.Errorf("line 1: the format is %q, and %q is expected", e.Format, run.Format)
		}
		if e.Event == run.RunBegins || e.Event == run.RunEnds {
			ended = e.Event == run.RunEnds
		}
		sink(e)
		return nil
	})
	if err == nil && !ended {
		return errors.New("it breaks off before the end of the run")
	}
	return err
}
