// Package testlog reads what a Go test binary prints under -test.v=test2json.
//
//	r := &testlog.Reader{Listener: l, Secret: secret}
//	cmd.Stdout = r
//	err := cmd.Run()
//	r.Close()
package testlog

import (
	"bytes"
	"strconv"
	"strings"

	"fernrelay/core/lazy"
	"fernrelay/core/run"
)

// A Reader reads what a test binary prints under -test.v=test2json: lines that
// begin with the marker frame the tests, everything else is output. It is an
// io.Writer that reports to a listener. As a test can print such lines, too, the
// listener decides which results are real.
type Reader struct {
	Listener Listener
	Secret   string // begins the lines of the generated file, which no test knows
	line     []byte // a line with the marker that is not whole yet
	text     []byte // output that does not end with a line yet
	current  string // the test, perhaps with steps, that output belongs to
	pending  frame  // a result whose output may still follow
}

// A Listener takes what a test binary reports. Names are of tests without steps.
type Listener interface {
	Paused(name string)
	Continued(name string)
	Step(name, step string, o run.Outcome)
	Output(name string, text []byte) // name is empty outside of tests; the text is valid until it returns
	Started(i int)                   // the test of this place
	Reached(i int)                   // all that follows was printed after the test of this place had ended
	Ended(name string) bool          // whether a result of the test can be real
	// Finished takes a test's result; last is set if nothing but output followed.
	Finished(name string, o run.Outcome, last bool)
}

// frame is the result of a test.
type frame struct {
	name    string
	outcome run.Outcome
}

const marker = 0x16

// MaxLine bounds what is held back until a line is whole, in bytes.
const MaxLine = 64 << 10

// Write takes the next piece of the binary's output.
func (v *Reader) Write(data []byte) (int, error) {
	for rest := data; len(rest) > 0; {
		if len(v.line) == 0 {
			mark := bytes.IndexByte(rest, marker)
			if mark < 0 {
				v.hold(rest)
				break
			}
			v.hold(rest[:mark])
			v.flush()
			v.line, rest = append(v.line, marker), rest[mark+1:]
		}
		end := bytes.IndexAny(rest, "\n\x16")
		whole := end >= 0
		if !whole {
			end = len(rest)
		} else if rest[end] == '\n' {
			end++
		}
		v.line, rest = append(v.line, rest[:end]...), rest[end:]
		if whole || len(v.line) > MaxLine {
			v.take(string(v.line))
			v.line = v.line[:0]
		}
	}
	return len(data), nil
}

// hold reports output up to its last whole line and holds the rest back.
func (v *Reader) hold(text []byte) {
	end := 0
	if bytes.IndexByte(text, '\n') >= 0 { // which is much faster over a long line
		end = bytes.LastIndexByte(text, '\n') + 1
	}
	if end == 0 && len(v.text)+len(text) >= MaxLine {
		end = len(text)
	}
	if end > 0 {
		v.flush()
		v.print(text[:end])
	}
	v.text = append(v.text, text[end:]...)
}

// flush reports the output that is held back.
func (v *Reader) flush() {
	if len(v.text) > 0 {
		v.print(v.text)
		v.text = v.text[:0]
	}
}

// Close takes the rest when the process has ended.
func (v *Reader) Close() {
	v.flush()
	if len(v.line) > 0 {
		v.take(string(v.line))
		v.line = nil
	}
	v.settle(true)
}

var (
	framing = lazy.Regexp(`^=== (RUN|PAUSE|CONT|NAME|ATTR) +(\S*)`)
	result  = lazy.Regexp(`^ *--- (PASS|FAIL|SKIP): (.+) \([0-9.]+s\)\n?$`)
)

var results = map[string]run.Outcome{"PASS": run.Passed, "FAIL": run.Failed, "SKIP": run.Skipped}

func (v *Reader) take(line string) {
	if place, ok := strings.CutPrefix(line[1:], v.Secret+" "); ok {
		v.mark(strings.Fields(place))
		return
	}
	if match := result().FindStringSubmatch(line[1:]); match != nil {
		v.settle(false)
		v.close(match[2], results[match[1]], line[1:])
		return
	}
	match := framing().FindStringSubmatch(line[1:])
	if match == nil {
		if text := strings.TrimSpace(line[1:]); text != "PASS" && text != "FAIL" {
			v.print([]byte(line[1:]))
		}
		return
	}
	v.settle(false)
	v.current = match[2]
	name, isStep := parent(v.current)
	if name == ExampleName || isStep || name == "" {
		return
	}
	switch match[1] {
	case "PAUSE":
		v.Listener.Paused(name)
	case "CONT":
		v.Listener.Continued(name)
	}
}

// mark takes a line of the generated file: what happened, and the place of the test.
func (v *Reader) mark(words []string) {
	if len(words) != 2 {
		return
	}
	i, err := strconv.Atoi(words[1])
	switch {
	case err != nil:
	case words[0] == "started":
		v.Listener.Started(i)
	case words[0] == "ended":
		v.Listener.Reached(i)
	}
}

func (v *Reader) print(text []byte) {
	name, _ := parent(v.current)
	if name == ExampleName {
		name = ""
	}
	v.Listener.Output(name, text)
}

func (v *Reader) close(full string, o run.Outcome, line string) {
	name, isStep := parent(full)
	switch {
	case name == ExampleName:
	case isStep:
		v.Listener.Step(name, full[len(name)+1:], o)
	case !v.Listener.Ended(name):
		v.print([]byte(line)) // the test printed it
	default:
		v.pending, v.current = frame{name, o}, name
	}
}

// settle reports the result that was held back for its output.
func (v *Reader) settle(last bool) {
	if v.pending.name != "" {
		v.Listener.Finished(v.pending.name, v.pending.outcome, last)
		v.pending, v.current = frame{}, ""
	}
}

// parent cuts the steps from a test's name.
func parent(full string) (name string, isStep bool) {
	name, _, isStep = strings.Cut(full, "/")
	return name, isStep
}

// wrapper is the name under which an example runs as a test; the testing package's events about it are reported
// under the example's own name.
const ExampleName = "FernRelayExample"
