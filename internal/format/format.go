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
	switch {
	case len(start) == 0:
		return "", errors.New("it is empty")
	case bytes.HasPrefix(start, []byte(`{"event":`)):
		return "events", events.Read(head, sink)
	case bytes.Contains(start, []byte(`"Action":`)):
		return "gojson", gojson.Read(head, sink)
	case start[0] == '<':
		return "junit", junit.Read(head, sink)
	}
	err = tap.Read(head, sink)
	if errors.Is(err, tap.ErrOther) {
		return "", ErrNoReport
	}
	return "tap", err
}
