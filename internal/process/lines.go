package process

import (
	"bytes"
	"fmt"
)

// LineWriter is an io.Writer that calls Line with every line, without its end. After an error it writes no more.
type LineWriter struct {
	Limit int // of a line, in bytes
	Line  func(text string) error

	rest []byte
	err  error
}

// Write takes more. The error is Line's, or says that a line is too long.
func (w *LineWriter) Write(data []byte) (int, error) {
	w.rest = append(w.rest, data...)
	for w.err == nil {
		text, rest, whole := bytes.Cut(w.rest, []byte("\n"))
		switch {
		case len(text) > w.Limit:
			w.err = fmt.Errorf("a line is longer than %d bytes", w.Limit)
		case !whole:
			return len(data), nil
		default:
			w.err = w.Line(string(text))
			w.rest = rest
		}
	}
	w.rest = nil
	return 0, w.err
}

// Close takes a last line that has no end.
func (w *LineWriter) Close() error {
	if w.err == nil && len(w.rest) > 0 {
		w.err = w.Line(string(w.rest))
		w.rest = nil
	}
	return w.err
}
