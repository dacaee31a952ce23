// Package tap reads and writes the Test Anything Protocol, version 14, with subtests, directives and diagnostics.
// It also reads version 13.
//
// The specification is at testanything.org/tap-version-14-specification.html.
package tap

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"fernrelay/core/lazy"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/format/lines"
)

// ErrBailedOut is the error of a stream that says that its program gave up.
var ErrBailedOut = errors.New("it bailed out")

// Read sends the events of a stream to a sink: for every test point its output, its steps and then its outcome, as
// soon as it is complete. The IDs of the events are the points' descriptions, or "unnamed point 3". The error, after all events, says
// why the stream is not complete: it bailed out, or its plan does not match.
func Read(r io.Reader, sink run.Sink) error {
	p := &reader{sink: sink, planned: -1, steps: map[int]*steps{}}
	text := lines.NewReader(r, longestLine)
	for {
		line, _, err := text.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			p.flush()
			return err
		}
		p.line(string(line))
	}
	p.flush()
	return p.fault()
}

// longestLine bounds the part of one line that is kept, in bytes.
const longestLine = 64 << 10

// reader is the state of reading.
type reader struct {
	sink    run.Sink
	planned int // how many test points the plan announces; -1 before it came
	seen    int // test points of the outermost level
	bailed  string
	ended   bool // it bailed out
	begun   bool // everything about the run came
	text    excerpt
	yaml    []string
	size    int // of yaml, in bytes
	inYAML  bool
	point   *point         // whose diagnostics may still come
	steps   map[int]*steps // of the next point at the level before
}

// steps are those of one point. Of more than run.MostSteps only bad ones are kept, up to twice
// as many in all; the others are counted.
type steps struct {
	kept    []run.Event
	omitted int
}

func (s *steps) add(e run.Event) {
	n := len(s.kept)
	if n < run.MostSteps || e.Outcome.Bad() && n < 2*run.MostSteps {
		s.kept = append(s.kept, e)
		return
	}
	s.omitted++
}

// excerpt keeps the beginning and the end of a text of any length.
type excerpt struct {
	head, tail         []string
	headSize, tailSize int
	omitted            int // lines
}

// excerptLimit bounds each end of an excerpt, in bytes.
const excerptLimit = 64 << 10

func (x *excerpt) add(line string) {
	if x.headSize < excerptLimit {
		x.head, x.headSize = append(x.head, line), x.headSize+len(line)
		return
	}
	x.tail, x.tailSize = append(x.tail, line), x.tailSize+len(line)
	for x.tailSize > 2*excerptLimit {
		x.tailSize -= len(x.tail[0])
		x.tail, x.omitted = x.tail[1:], x.omitted+1
	}
}

func (x *excerpt) String() string {
	lines := x.head
	if x.omitted > 0 {
		lines = append(lines, fmt.Sprintf("… %d lines are left out …", x.omitted))
	}
	return strings.Join(append(lines, x.tail...), "\n") + "\n"
}

// point is a test point.
type point struct {
	level int // 0 for the outermost, 1 for a subtest, …
	event run.Event
}

// indent is the indentation of a subtest relative to its test.
const indent = "    "

var (
	pointLine = lazy.Regexp(`^(not )?ok\b(?:\s+(\d+))?(?:\s+-)?\s*(.*)$`)
	planLine  = lazy.Regexp(`^1\.\.(\d+)\s*(?:#.*)?$`)
	directive = lazy.Regexp(`(?i)^(?:|.*[^\\])\s?#\s*(skip|todo)\S*\s*(.*)$`)
)

func (p *reader) line(line string) {
	if p.ended {
		return
	}
	if p.inYAML {
		p.diagnostic(line)
		return
	}
	level, rest := 0, line
	for strings.HasPrefix(rest, indent) {
		level, rest = level+1, rest[len(indent):]
	}
	switch {
	case p.point != nil && level == p.point.level && strings.TrimRight(rest, " ") == "  ---":
		p.inYAML, p.yaml, p.size = true, nil, 0
	case strings.HasPrefix(rest, "Bail out!"):
		p.flush()
		p.ended, p.bailed = true, strings.TrimSpace(strings.TrimPrefix(rest, "Bail out!"))
	case planLine().MatchString(rest):
		p.plan(level, planLine().FindStringSubmatch(rest)[1])
	case pointLine().MatchString(rest):
		p.flush()
		p.point = p.newPoint(level, pointLine().FindStringSubmatch(rest))
	case level == 0 && (strings.HasPrefix(rest, "TAP version ") || strings.HasPrefix(rest, "pragma ")), strings.HasPrefix(rest, "# Subtest"):
	default:
		p.flush()
		var about run.About
		if text, ok := strings.CutPrefix(line, aboutSign); ok && json.Unmarshal([]byte(text), &about) == nil {
			p.begun = true
			p.sink(run.Event{Event: run.RunBegins, About: about})
			return
		}
		var of run.Planned
		plan, pick, _ := strings.Cut(line, pickPart)
		of.Pick = unescape(pick)
		if _, err := fmt.Sscanf(plan, plannedLine, &of.Shard, &of.Of, &of.Plan, &of.Catalog, &of.Timings); err == nil {
			if !p.begun {
				p.sink(run.Event{Event: run.RunBegins, About: run.About{Planned: &of}})
			}
			return
		}
		p.text.add(line)
	}
}

func (p *reader) plan(level int, number string) {
	p.flush()
	if level > 0 {
		return // a missing step fails its test in any case
	}
	n, err := strconv.Atoi(number)
	if err != nil {
		n = -1 // more than can be counted
	}
	p.planned = n
}

func (p *reader) newPoint(level int, parts []string) *point {
	description, o, reason := parts[3], run.Passed, ""
	if parts[1] != "" {
		o = run.Failed
	}
	if found := directive().FindStringSubmatchIndex(description); found != nil {
		word := strings.ToLower(description[found[2]:found[3]])
		reason = unescape(strings.TrimSpace(description[found[4]:found[5]]))
		description = strings.TrimRight(description[:strings.LastIndex(description[:found[2]], "#")], " ")
		switch {
		case word == "skip":
			o = run.Skipped
		case o == run.Failed:
			o = run.Owed
		default:
			o = run.Surprise
		}
	}
	if description == "" {
		description = "unnamed point " + cmp.Or(parts[2], fmt.Sprint(p.count(level)+1))
	}
	return &point{level, run.Event{ID: unescape(description), Outcome: o, Failure: run.Failure{Message: reason}}}
}

// count returns how many points of a level came, within one point of the level above.
func (p *reader) count(level int) int {
	if level == 0 {
		return p.seen
	}
	if s := p.steps[level]; s != nil {
		return len(s.kept) + s.omitted
	}
	return 0
}

func unescape(text string) string { return strings.NewReplacer(`\\`, `\`, `\#`, `#`).Replace(text) }

// diagnostic takes a line of a point's YAML, up to the line that closes it.
func (p *reader) diagnostic(line string) {
	own := strings.Repeat(indent, p.point.level) + "  "
	if strings.TrimRight(line, " ") == own+"..." {
		p.inYAML = false
		p.point.diagnose(strings.Join(p.yaml, "\n"))
		p.flush()
		return
	}
	if p.size += len(line); p.size <= longestYAML {
		p.yaml = append(p.yaml, strings.TrimPrefix(line, own))
	}
}

// longestYAML bounds the part of a point's YAML that is kept, in bytes.
const longestYAML = 64 << 10

// diagnosis is the content of a point's YAML; programs name things differently.
type diagnosis struct {
	Message  string   `yaml:"message"`
	Duration *float64 `yaml:"duration_ms"`
	At       struct {
		File string `yaml:"file"`
		Line int    `yaml:"line"`
	} `yaml:"at"`
	File     string `yaml:"file"`
	Line     int    `yaml:"line"`
	Expected any    `yaml:"expected"`
	Wanted   any    `yaml:"wanted"`
	Actual   any    `yaml:"actual"`
	Found    any    `yaml:"found"`

	Outcome  run.Outcome `yaml:"outcome"` // as we write it
	Flaky    bool        `yaml:"flaky"`
	Unstable bool        `yaml:"unstable"` // as earlier versions wrote Flaky
	Entry    bool        `yaml:"entry"`
}

// diagnose adds the content of its YAML to a point; YAML that does not parse is its message.
func (p *point) diagnose(text string) {
	var d diagnosis
	if err := decode(text, &d); err != nil {
		p.event.Message = strings.TrimSpace(p.event.Message + "\n" + text)
		return
	}
	e := &p.event
	if plain.Line(d.Message) != e.Message { // else it is the directive's reason, with its lines
		d.Message = strings.TrimSpace(e.Message + "\n" + d.Message)
	}
	e.Message = d.Message
	e.File, e.Line = d.At.File, d.At.Line
	if e.File == "" {
		e.File, e.Line = d.File, d.Line
	}
	if e.Outcome == run.Failed && (d.Outcome.Bad() || d.Outcome == run.Lost) {
		e.Outcome = d.Outcome
	}
	e.Flaky = (d.Flaky || d.Unstable) && e.Outcome == run.Passed
	e.Entry = d.Entry && e.Outcome.Bad()
	e.Expected, e.Actual = first(d.Expected, d.Wanted), first(d.Actual, d.Found)
	if d.Duration != nil && *d.Duration >= 0 {
		e.Seconds = run.Took(*d.Duration / 1000)
	}
}

// first writes the first of some values that is there.
func first(values ...any) string {
	for _, v := range values {
		switch v := v.(type) {
		case nil:
		case string:
			return v
		default:
			text, err := encode(v)
			if err != nil {
				return fmt.Sprint(v)
			}
			return text
		}
	}
	return ""
}

// flush sends the events of the present point, which is complete.
func (p *reader) flush() {
	if p.point == nil {
		return
	}
	at := p.point
	p.point = nil
	if p.inYAML { // the stream ended in it
		p.inYAML = false
		at.diagnose(strings.Join(p.yaml, "\n"))
	}
	below := p.steps[at.level+1]
	delete(p.steps, at.level+1)
	if below == nil {
		below = &steps{}
	}
	if at.level > 0 {
		above := p.steps[at.level]
		if above == nil {
			above = &steps{}
			p.steps[at.level] = above
		}
		for _, step := range below.kept {
			step.ID = at.event.ID + "/" + step.ID
			above.add(step)
		}
		above.add(at.event)
		above.omitted += below.omitted
		return
	}
	p.seen++
	id := at.event.ID
	if p.text.headSize > 0 {
		p.sink(run.Event{Event: run.Output, ID: id, Text: p.text.String()})
		p.text = excerpt{}
	}
	for _, step := range below.kept {
		if step.Outcome.Bad() && at.event.Outcome.Bad() && at.event.Message == "" {
			at.event.Failure = explained(at.event.Failure, step)
		}
		p.sink(run.Event{Event: run.StepDone, ID: id, Step: step.ID, Outcome: step.Outcome, Seconds: step.Seconds, Failure: step.Failure})
	}
	for range below.omitted { // LimitSteps counts them
		p.sink(run.Event{Event: run.StepDone, ID: id, Step: "…", Outcome: run.Passed})
	}
	at.event.Event = run.Finished
	p.sink(at.event)
}

// explained is the failure of a test that says nothing itself, as a step of it explains it.
func explained(own run.Failure, step run.Event) run.Failure {
	own.Message = step.ID + ": " + step.Message
	if own.File == "" {
		own.File, own.Line = step.File, step.Line
	}
	if own.Expected == "" && own.Actual == "" {
		own.Expected, own.Actual = step.Expected, step.Actual
	}
	return own
}

// ErrOther says that a text is something other than TAP.
var ErrOther = errors.New("it has no test point and no plan: TAP is expected")

// fault says what keeps the stream from being complete.
func (p *reader) fault() error {
	switch {
	case p.ended && p.bailed != "":
		return fmt.Errorf("%w: %s", ErrBailedOut, p.bailed)
	case p.ended:
		return ErrBailedOut
	case p.planned < 0 && p.seen == 0 && p.text.headSize == 0:
		return errors.New("it printed nothing")
	case p.planned < 0 && p.seen == 0:
		return ErrOther
	case p.planned < 0:
		return fmt.Errorf("it ended before its plan, after %d test points", p.seen)
	case p.seen != p.planned:
		return fmt.Errorf("its plan announces %d test points, and %d came", p.planned, p.seen)
	}
	return nil
}
