// Package lines reads the lines of reports, with a bound for each line.
//
//	reader := lines.NewReader(file, lines.Longest)
//	line, whole, err := reader.Next()
package lines

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
)

// Reader reads line after line.
type Reader struct {
	from *bufio.Reader
	most int
	line []byte
}

// NewReader returns a reader that returns at most a number of bytes of a line.
func NewReader(r io.Reader, most int) *Reader {
	return &Reader{from: bufio.NewReaderSize(r, 64<<10), most: most}
}

// Next returns the next line without its end, valid until the next call; whole is false if the line is longer. The
// error is io.EOF after the last one.
func (r *Reader) Next() (line []byte, whole bool, err error) {
	r.line, whole = r.line[:0], true
	for {
		part, err := r.from.ReadSlice('\n')
		room := r.most - len(r.line)
		r.line, whole = append(r.line, part[:min(len(part), room)]...), whole && len(part) <= room
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
		case err == nil, len(r.line) > 0: // an error comes again
			return bytes.TrimRight(r.line, "\r\n"), whole, nil
		default:
			return nil, whole, err
		}
	}
}

// Longest bounds the lines of reports that have no other bound, in bytes.
const Longest = 32 << 20

// Each calls take with every line of a report, until take refuses one or a line is longer than Longest.
func Each(r io.Reader, take func(line []byte) error) error {
	lines := NewReader(r, Longest)
	for {
		line, whole, err := lines.Next()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case !whole:
			return fmt.Errorf("one line has more than %d MB: shorten what its tests print", Longest>>20)
		}
		if err := take(line); err != nil {
			return err
		}
	}
}
