// Package events writes a run as event lines: one JSON object a line, in the
// order in which things happened.
package events

import (
	"encoding/json"
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
