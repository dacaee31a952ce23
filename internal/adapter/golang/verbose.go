package golang

import (
	"bytes"
	"regexp"
	"strings"

	"fernrelay/core/outcome"
)

// verbose reads what a test binary prints under -test.v=test2json: lines that
// begin with the marker frame the tests, everything else is output. It is an
// io.Writer that tells a listener.
type verbose struct {
	listener listener
	line     []byte
	current  string // the test, perhaps with steps, that output belongs to
	pending  frame  // a result whose output may still follow
}

// listener hears what a test binary tells. Names are of tests without steps.
type listener interface {
	started(name string)
	paused(name string)
	continued(name string)
	step(name, step string, o outcome.Outcome)
	output(name, text string) // name is empty before the first test
	// finished tells a test's result; last is set where nothing but output followed.
	finished(name string, o outcome.Outcome, last bool)
}

// frame is the result of a test.
type frame struct {
	name    string
	outcome outcome.Outcome
}

const marker = 0x16

// maxLine bounds the bytes held back to see whether they are a frame.
const maxLine = 64 << 10

// Write takes the next piece of the binary's output.
func (v *verbose) Write(data []byte) (int, error) {
	v.line = append(v.line, data...)
	for {
		end := bytes.IndexByte(v.line, '\n') + 1
		if mark := bytes.IndexByte(v.line[:max(end, 0)], marker); mark > 0 {
			end = mark // a frame that begins behind output without a line end
		}
		if end == 0 && len(v.line) > maxLine {
			end = len(v.line)
		}
		if end == 0 {
			break
		}
		v.take(string(v.line[:end]))
		v.line = v.line[end:]
	}
	v.line = append([]byte(nil), v.line...)
	return len(data), nil
}

// Close takes what is left when the process has ended.
func (v *verbose) Close() {
	if len(v.line) > 0 {
		v.take(string(v.line))
		v.line = nil
	}
	v.settle(true)
}

var (
	framing = regexp.MustCompile(`^=== (RUN|PAUSE|CONT|NAME|ATTR) +(\S*)`)
	result  = regexp.MustCompile(`^ *--- (PASS|FAIL|SKIP): (.+) \([0-9.]+s\)\n?$`)
)

var results = map[string]outcome.Outcome{"PASS": outcome.Passed, "FAIL": outcome.Failed, "SKIP": outcome.Skipped}

func (v *verbose) take(line string) {
	if line[0] != marker {
		v.print(line)
		return
	}
	if match := result.FindStringSubmatch(line[1:]); match != nil {
		v.settle(false)
		v.close(match[2], results[match[1]])
		return
	}
	match := framing.FindStringSubmatch(line[1:])
	if match == nil {
		return // the closing PASS or FAIL
	}
	v.settle(false)
	v.current = match[2]
	name, isStep := parent(v.current)
	if name == wrapper || isStep || name == "" {
		return
	}
	switch match[1] {
	case "RUN":
		v.listener.started(name)
	case "PAUSE":
		v.listener.paused(name)
	case "CONT":
		v.listener.continued(name)
	}
}

func (v *verbose) print(text string) {
	name, _ := parent(v.current)
	if name == wrapper {
		name = ""
	}
	v.listener.output(name, text)
}

func (v *verbose) close(full string, o outcome.Outcome) {
	name, isStep := parent(full)
	switch {
	case name == wrapper:
	case isStep:
		v.listener.step(name, full[len(name)+1:], o)
	default:
		v.pending, v.current = frame{name, o}, name
	}
}

// settle tells the result that was held back for its output.
func (v *verbose) settle(last bool) {
	if v.pending.name != "" {
		v.listener.finished(v.pending.name, v.pending.outcome, last)
		v.pending, v.current = frame{}, ""
	}
}

// parent cuts the steps from a test's name.
func parent(full string) (name string, isStep bool) {
	name, _, isStep = strings.Cut(full, "/")
	return name, isStep
}
