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

	"fernrelay/core/outcome"
)

// Writer writes events to a stream.
type Writer struct {
	encoder *json.Encoder
	err     error
}

// NewWriter makes a writer of event lines.
func NewWriter(w io.Writer) *Writer {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	return &Writer{encoder: encoder}
}

// Write writes one event. After an error it writes nothing more.
func (w *Writer) Write(e outcome.Event) {
	if w.err == nil {
		w.err = w.encoder.Encode(e)
	}
}

// Err is the first error of writing.
func (w *Writer) Err() error { return w.err }

// Read tells the sink the events of a stream of event lines, up to its end or to
// the first line that is none. The error, told after all events, says what keeps the
// stream from being whole: a broken line, or an end that did not come.
func Read(r io.Reader, sink outcome.Sink) error {
	lines := bufio.NewReader(r)
	ended := false
	for n := 1; ; n++ {
		line, err := lines.ReadBytes('\n')
		if len(bytes.TrimSpace(line)) > 0 {
			var e outcome.Event
			if err := json.Unmarshal(line, &e); err != nil {
				return fmt.Errorf("line %d is no event: %w", n, err)
			}
			if n == 1 && e.Format != outcome.Format {
				return fmt.Errorf("line 1: the format is %q, and %q is expected", e.Format, outcome.Format)
			}
			ended = ended || e.Event == outcome.RunEnds
			sink(e)
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
	}
	if !ended {
		return errors.New("it breaks off before the end of the run")
	}
	return nil
}
