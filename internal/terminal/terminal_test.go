package terminal

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"unicode/utf8"

	"fernrelay/core/plain"
)

// written returns what a Writer passes on of a text that it gets in pieces, which end at the given places.
func written(t *testing.T, text []byte, ends ...int) string {
	t.Helper()
	var out bytes.Buffer
	w := NewWriter(&out)
	from := 0
	for _, end := range append(ends, len(text)) {
		if n, err := w.Write(text[from:end]); err != nil || n < end-from {
			t.Fatalf("Write(%q) = %d, %v", text[from:end], n, err)
		}
		from = end
	}
	if err := errors.Join(w.Flush(), w.Err()); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

// TestWriterEscapes holds what becomes of characters that a terminal obeys, that hide or reorder others, or that are none.
func TestWriterEscapes(t *testing.T) {
	for text, want := range map[string]string{
		"valves\topen\n":        "valves\topen\n",
		"水 ▲ é":                 "水 ▲ é",
		"\x1b[2J\x07":           `\u001b[2J\u0007`,
		"a\rb":                  `a\u000db`,
		"\u202egpj.exe":         `\u202egpj.exe`,
		"zero\u200bwidth":       `zero\u200bwidth`,
		"\U000e0041":            `\udb40\udc41`,
		"broken \xff\xfe bytes": "broken \ufffd\ufffd bytes",
		"cut off \xe6\xb0":      "cut off \ufffd\ufffd",
	} {
		if got := written(t, []byte(text)); got != want {
			t.Errorf("%q is written as %q, want %q", text, got, want)
		}
	}
}

// FuzzWriter holds that no text acts on a terminal, and that it does not matter into which pieces it is cut.
func FuzzWriter(f *testing.F) {
	f.Add([]byte("a\x1b]0;x\x07\xe6\xb0\xb4\U000e0041\xff"), uint64(1))
	f.Fuzz(func(t *testing.T, text []byte, seed uint64) {
		whole := written(t, text)
		if !utf8.ValidString(whole) {
			t.Fatalf("%q is written as %q, which is not UTF-8", text, whole)
		}
		for _, r := range whole {
			if r != '\n' && r != '\t' && plain.IsUnsafe(r) {
				t.Fatalf("%q is written as %q, with %q", text, whole, r)
			}
		}
		random := rand.New(rand.NewPCG(seed, 1))
		var ends []int
		for at := 0; at < len(text); at += random.IntN(4) {
			ends = append(ends, at)
		}
		if got := written(t, text, ends...); got != whole {
			t.Fatalf("%q cut at %v is written as %q, and whole as %q", text, ends, got, whole)
		}
	})
}

// short takes a number of bytes and then no more, without an error.
type short struct {
	io.Writer
	left int
}

func (s *short) Write(data []byte) (int, error) {
	n := min(len(data), s.left)
	s.left -= n
	return s.Writer.Write(data[:n])
}

// TestWriterKeepsItsError holds that a Writer to which something does not take everything writes no more, and says so in the end.
func TestWriterKeepsItsError(t *testing.T) {
	var out bytes.Buffer
	w := NewWriter(&short{&out, 3})
	if _, err := w.Write([]byte("valves")); err == nil {
		t.Error("a text that was not written whole is no error")
	}
	before := w.Err()
	w.Redraw("more")
	if _, err := w.Raw().Write([]byte("more")); err != before || w.Err() != before || out.String() != "val" {
		t.Errorf("after the error %v it wrote %q, with %v", before, out.String(), err)
	}
}

// TestRedrawAndRaw holds that a moving line is one line whatever it says, and that data is passed on as it is.
func TestRedrawAndRaw(t *testing.T) {
	var out bytes.Buffer
	w := NewWriter(&out)
	w.Redraw("3 of 9 \x1b[1m")
	io.WriteString(w.Raw(), "\x00\xff")
	if want := "\r\x1b[K3 of 9 " + `\u001b[1m` + "\x00\xff"; out.String() != want || strings.Count(out.String(), "\x1b") != 1 {
		t.Errorf("written is %q, want %q", out.String(), want)
	}
}
