// Package terminal writes text to terminals so that nothing in it acts.
//
// Names, messages, paths and errors come from tests, reports and other machines. Whatever they
// hold, a Writer lets only visible characters, spaces and line ends through:
//
//	out := terminal.NewWriter(os.Stdout)
//	fmt.Fprintln(out, name)
//	err := errors.Join(out.Flush(), out.Err())
package terminal

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"unicode/utf16"
	"unicode/utf8"

	"fernrelay/core/plain"
)

// A Writer passes text on and escapes every character that a terminal obeys, or that hides
// or reorders others, as \u and four hexadecimal digits: in JSON this means the same character.
// Bytes that are not UTF-8 become U+FFFD. It is safe for use by several goroutines.
type Writer struct {
	mu   sync.Mutex
	to   io.Writer
	rest []byte // the beginning of a character that is not whole yet
	err  error
}

// NewWriter returns a Writer that writes to another.
func NewWriter(to io.Writer) *Writer { return &Writer{to: to} }

// Write writes text. After an error it writes no more and returns the same error.
func (w *Writer) Write(text []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.rest) == 0 && isPlain(text) {
		return len(text), w.pass(text)
	}
	text = append(w.rest, text...)
	whole := len(text) - len(partial(text))
	w.rest = append([]byte(nil), text[whole:]...)
	return len(text), w.pass(escape(text[:whole]))
}

// Redraw replaces the present line of a terminal by a text.
func (w *Writer) Redraw(text string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	_ = w.pass(append([]byte("\r\x1b[K"), escape([]byte(text))...)) // Err has the error
}

// Raw returns a writer that passes bytes on as they are, for data that programs read.
func (w *Writer) Raw() io.Writer { return rawWriter{w} }

type rawWriter struct{ w *Writer }

func (r rawWriter) Write(data []byte) (int, error) {
	r.w.mu.Lock()
	defer r.w.mu.Unlock()
	return len(data), r.w.pass(data)
}

// Flush writes the bytes of a character whose end did not come.
func (w *Writer) Flush() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	rest := w.rest
	w.rest = nil
	return w.pass(escape(rest))
}

// Err returns the first error of writing.
func (w *Writer) Err() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}

// errShort says that a writer took less than it was given, without saying why.
var errShort = errors.New("it was not written whole")

func (w *Writer) pass(data []byte) error {
	if w.err != nil || len(data) == 0 {
		return w.err
	}
	n, err := w.to.Write(data)
	if err == nil && n < len(data) {
		err = errShort
	}
	w.err = err
	return err
}

// isPlain reports whether a text is printable ASCII with line ends, as most is.
func isPlain(text []byte) bool {
	for _, c := range text {
		if (c < ' ' || c > '~') && c != '\n' {
			return false
		}
	}
	return true
}

// partial returns the beginning of a character at the end of a text.
func partial(text []byte) []byte {
	for n := 1; n < utf8.UTFMax && n <= len(text); n++ {
		if tail := text[len(text)-n:]; utf8.RuneStart(tail[0]) {
			if utf8.FullRune(tail) {
				return nil
			}
			return tail
		}
	}
	return nil
}

func escape(text []byte) []byte {
	var out strings.Builder
	for len(text) > 0 {
		r, size := utf8.DecodeRune(text)
		text = text[size:]
		switch {
		case r == '\n' || r == '\t' || !plain.IsUnsafe(r):
			out.WriteRune(r) // U+FFFD for anything that is not UTF-8
		case r > 0xFFFF:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&out, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&out, `\u%04x`, r)
		}
	}
	return []byte(out.String())
}
