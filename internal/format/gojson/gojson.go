// Package gojson reads the JSON events of the Go toolchain, as "go test -json"
// and "go tool test2json" write them (see go doc test2json).
package gojson

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
	"time"

	"fernrelay/core/run"
	"fernrelay/internal/format/lines"
)

// event is a line of the stream.
type event struct {
	Time    time.Time
	Action  string
	Package string
	Test    string
	Elapsed *float64 // seconds
	Output  string
}

// Read sends the events of a stream to a sink: for every test its start, its output, its steps (subtests) and its
// outcome. The ID of an event is the package, # and the test's name. It ignores what is between the lines, such as
// a compiler's messages.
//
// The error, after all events, says why the stream is not whole: tests that began and did not end or, as a
// run.IncompleteError, packages that failed without a failed test.
func Read(r io.Reader, sink run.Sink) error {
	p := &reader{sink: sink, open: map[string]bool{}, packages: map[string]*packageState{}}
	err := lines.Each(r, func(line []byte) error {
		var e event
		if len(line) > 0 && line[0] == '{' && json.Unmarshal(line, &e) == nil && e.Action != "" {
			p.seen = true
			p.take(e)
		}
		return nil
	})
	if err != nil {
		return err
	}
	return p.fault()
}

type reader struct {
	sink     run.Sink
	seen     bool
	open     map[string]bool // by ID: began and not ended
	packages map[string]*packageState
}

// packageState is the state of a package beside its tests.
type packageState struct {
	words  []string // the newest of its own output
	failed bool     // a test of it did
	fails  bool     // it failed as a whole
}

// wordsKept bounds the lines of a package's own output that are kept.
const wordsKept = 20

func (p *reader) take(e event) {
	at := p.packages[e.Package]
	if at == nil {
		at = &packageState{}
		p.packages[e.Package] = at
	}
	if e.Test == "" {
		switch e.Action {
		case "output":
			at.words = append(at.words, e.Output)
			at.words = at.words[max(0, len(at.words)-wordsKept):]
		case "fail":
			at.fails = true
		}
		return
	}
	name, step, isStep := strings.Cut(e.Test, "/")
	id := e.Package + "#" + name
	switch e.Action {
	case "run":
		if !isStep {
			p.open[id] = true
			p.sink(run.Event{Event: run.Started, At: e.Time, ID: id})
		}
	case "output":
		p.sink(run.Event{Event: run.Output, At: e.Time, ID: id, Text: e.Output})
	case "pass", "fail", "skip":
		o := map[string]run.Outcome{"pass": run.Passed, "fail": run.Failed, "skip": run.Skipped}[e.Action]
		at.failed = at.failed || o == run.Failed
		if isStep {
			p.sink(run.Event{Event: run.StepDone, At: e.Time, ID: id, Step: step, Outcome: o, Seconds: e.Elapsed})
			return
		}
		delete(p.open, id)
		p.sink(run.Event{Event: run.Finished, At: e.Time, ID: id, Outcome: o, Seconds: e.Elapsed})
	}
}

func (p *reader) fault() error {
	if !p.seen {
		return errors.New("it has no events of the Go toolchain")
	}
	var faults []error
	for name, at := range p.packages {
		if at.fails && !at.failed {
			faults = append(faults, fmt.Errorf("the package %s failed outside of its tests: %s", name, strings.TrimSpace(strings.Join(at.words, ""))))
		}
	}
	for id := range p.open {
		faults = append(faults, fmt.Errorf("%s began and did not end", id))
	}
	sort.Slice(faults, func(i, j int) bool { return faults[i].Error() < faults[j].Error() })
	err := errors.Join(faults...)
	if err == nil || len(p.open) > 0 {
		return err
	}
	return run.IncompleteError{Err: err}
}
