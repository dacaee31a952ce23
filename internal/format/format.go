// Package format reads reports of test runs, in whichever of the open formats
// they are: our event lines, the Go toolchain's JSON events, JUnit XML or TAP.
package format

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"io"
	"slices"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"fernrelay/core/run"
	"fernrelay/internal/format/events"
	"fernrelay/internal/format/gojson"
	"fernrelay/internal/format/junit"
	"fernrelay/internal/format/tap"
)

// A Format is one in which programs report results.
type Format struct {
	Name  string // as results in fern.toml has it
	Words string // for people
	Read  func(r io.Reader, to run.Sink) error
	begin func(start []byte) bool // whether a report begins as one of the format
}

// Exit is in the place of a format if the exit status of the process of a test is its result.
const Exit = "exit"

// Formats is the registry of the formats. What begins as none of the others may be the first.
var Formats = []Format{
	{"tap", "TAP on standard output", tap.Read, func([]byte) bool { return true }},
	{"junit", "JUnit XML in {report}, or on standard output", junit.Read, func(start []byte) bool { return start[0] == '<' }},
	{"gojson", "the Go toolchain's JSON events", gojson.Read, func(start []byte) bool { return bytes.Contains(start, []byte(`"Action":`)) }},
	{"events", "our own event lines", events.Read, func(start []byte) bool { return bytes.HasPrefix(start, []byte(`{"event":`)) }},
}

// Named returns the format with a name.
func Named(name string) (f Format, ok bool) {
	i := slices.IndexFunc(Formats, func(f Format) bool { return f.Name == name })
	if i < 0 {
		return Format{}, false
	}
	return Formats[i], true
}

// ErrNoReport is the error of a text in none of the formats.
var ErrNoReport = errors.New("it is no report: event lines, the toolchain's JSON events, JUnit XML or TAP are expected")

// sniffed is how many bytes of a report decide about its format.
const sniffed = 64 << 10

// ReadRun reads a report into a run, with the results in the order in which their tests started, and returns the name of
// its format. The error says why the report is not whole.
func ReadRun(r io.Reader) (ran *run.Run, name string, err error) {
	ran = run.New()
	name, err = Read(r, ran.Apply)
	if name == "junit" { // which is ordered by groups
		slices.SortStableFunc(ran.Results, func(a, b *run.Result) int {
			if a.Started.IsZero() != b.Started.IsZero() {
				return cmp.Compare(b.Started.Unix(), a.Started.Unix()) // those that never started come last
			}
			return a.Started.Compare(b.Started)
		})
	}
	return ran, name, err
}

// Read sends the events of a report to a sink, as far as it can be read, and returns the name of its format. The
// error, after all events, says why the report is not whole.
func Read(r io.Reader, to run.Sink) (name string, err error) {
	limited := run.LimitSteps(to)
	sink := func(e run.Event) { limited(e.Sound()) }
	decoded := transform.NewReader(r, unicode.BOMOverride(transform.Nop)) // of UTF-16, as some shells write it, and UTF-8
	head := bufio.NewReaderSize(decoded, sniffed)
	start, err := head.Peek(sniffed)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	start = bytes.TrimSpace(start)
	if len(start) == 0 {
		return "", errors.New("it is empty")
	}
	for _, f := range slices.Backward(Formats) {
		if !f.begin(start) {
			continue
		}
		if err = f.Read(head, sink); errors.Is(err, tap.ErrOther) {
			return "", ErrNoReport
		}
		return f.Name, err
	}
	return "", ErrNoReport
}
