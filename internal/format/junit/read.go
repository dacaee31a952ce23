package junit

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/encoding/ianaindex"

	"fernrelay/core/lazy"
	"fernrelay/core/run"
)

// Read sends the events of a JUnit XML document, as found in the wild, to a sink: suites within suites or a single
// one, cases without times, counts that are wrong (the cases count), characters that XML does not allow. For every
// case it sends its output and then its outcome. The ID of an event is the suite's name if that is a suite:group,
// or else the case's class, or the suite's name, then # and the case's name.
//
// Before that it sends the beginning of the run, if the document has it, with the plan that it is a part of. It
// refuses a document that declares entities, and one with more than a few megabytes in one place.
//
// The error, after all events, says why the document is not whole.
func Read(r io.Reader, sink run.Sink) error {
	source := &allowed{r: r}
	decoder := xml.NewDecoder(source)
	decoder.Strict = false
	decoder.CharsetReader = charset
	suites := openSuites{sink: sink}
	begins := beginning{sink: sink}
	seen := false
	for {
		source.left = longestPiece
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) && seen {
			return nil
		}
		if err != nil {
			if errors.Is(err, io.EOF) {
				return errors.New("it has no testsuite: JUnit XML is expected")
			}
			return fmt.Errorf("the XML is broken: %w", err)
		}
		switch token := token.(type) {
		case xml.Directive:
			if bytes.Contains(token, []byte("<!ENTITY")) {
				return errors.New("it declares entities, which reports do not need: remove the DOCTYPE")
			}
		case xml.StartElement:
			seen = seen || isSuite(token.Name)
			if err := suites.element(decoder, token, &begins); err != nil {
				return fmt.Errorf("the XML is broken: %w", err)
			}
		case xml.EndElement:
			if isSuite(token.Name) {
				begins.emit()
				suites.close()
			}
		}
	}
}

func isSuite(name xml.Name) bool { return name.Local == "testsuite" || name.Local == "testsuites" }

// openSuites are the suites around a place of a document, from the outermost.
type openSuites struct {
	sink    run.Sink
	suites  []openSuite
	entries map[string]int // by the name of a suite
}

// openSuite is a suite whose end has not come.
type openSuite struct {
	name     string
	declared int  // failures and errors that it says it has
	bad      bool // it has one, or one within it has
}

// element takes an element that begins, and reads one that is part of no other to its end.
//
// Elements of a case are read with it. Those of a suite, such as properties, come in any order in the wild, and a failure that is a
// child of a suite is what a process did beyond its tests.
func (o *openSuites) element(decoder *xml.Decoder, element xml.StartElement, begins *beginning) error {
	switch element.Name.Local {
	case "testsuites", "testsuite":
		begins.at(attribute(element, "timestamp"))
		o.open(element)
	case "property":
		if begins.takeAbout(element) || planProperties(&begins.planned, element) {
			begins.emit()
		}
	case "testcase":
		begins.emit()
		var c readCase
		if err := decoder.DecodeElement(&c, &element); err != nil {
			return err
		}
		o.bad(c.emit(o.inner(), o.sink))
	case "failure", "error":
		begins.emit()
		var p problem
		if err := decoder.DecodeElement(&p, &element); err != nil {
			return err
		}
		o.entry(p)
	}
	return nil
}

func (o *openSuites) open(element xml.StartElement) {
	failures, _ := strconv.Atoi(attribute(element, "failures")) // 0 if there is no number
	errors, _ := strconv.Atoi(attribute(element, "errors"))
	o.suites = append(o.suites, openSuite{attribute(element, "name"), max(0, failures) + max(0, errors), false})
}

// inner is the name of the innermost suite.
func (o *openSuites) inner() string {
	if len(o.suites) == 0 {
		return ""
	}
	return o.suites[len(o.suites)-1].name
}

// bad notes whether something in the innermost suite is bad.
func (o *openSuites) bad(bad bool) {
	if n := len(o.suites); n > 0 && bad {
		o.suites[n-1].bad = true
	}
}

// close ends the innermost suite. One that counts failures or errors that nothing in it has is an errored entry.
func (o *openSuites) close() {
	n := len(o.suites)
	if n == 0 {
		return
	}
	if last := o.suites[n-1]; last.declared > 0 && !last.bad {
		o.entry(problem{Message: fmt.Sprintf("the suite counts %d that failed or had an error, and none of its test cases says so", last.declared)})
	}
	bad := o.suites[n-1].bad
	o.suites = o.suites[:n-1]
	o.bad(bad)
}

// entry sends what the innermost suite says of itself as an entry of its own.
func (o *openSuites) entry(p problem) {
	if o.entries == nil {
		o.entries = map[string]int{}
	}
	name := run.ProcessEntry
	if o.entries[o.inner()]++; o.entries[o.inner()] > 1 {
		name += fmt.Sprint("~", o.entries[o.inner()])
	}
	id := o.inner() + "#" + name
	if text := strings.TrimSpace(p.Text); text != "" && text != strings.TrimSpace(p.Message) {
		o.sink(run.Event{Event: run.Output, ID: id, Text: text})
	}
	o.sink(run.Event{Event: run.Finished, ID: id, Entry: true, Outcome: run.Errored, Failure: run.Failure{Message: p.words()}})
	o.bad(true)
}

// longestPiece bounds what is read of a document for one element without those in it, or for one test case, in
// bytes.
const longestPiece = 32 << 20

// beginning sends the beginning of a run once, as soon as everything about it is known.
type beginning struct {
	sink     run.Sink
	time     time.Time
	planned  run.Planned
	about    run.About
	reported bool
}

// takeAbout takes the property with everything about a run, and reports whether it is that.
func (b *beginning) takeAbout(element xml.StartElement) bool {
	return attribute(element, "name") == aboutProperty && json.Unmarshal([]byte(attribute(element, "value")), &b.about) == nil
}

// at takes the time of a suite; the earliest is that of the run.
func (b *beginning) at(timestamp string) {
	if t, ok := Time(timestamp); ok && (b.time.IsZero() || t.Before(b.time)) {
		b.time = t
	}
}

// Time reads a timestamp. One without a zone is in local time. ok is false if it is none.
func Time(timestamp string) (t time.Time, ok bool) {
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999"} {
		if t, err := time.ParseInLocation(layout, timestamp, time.Local); err == nil {
			return t, true
		}
	}
	return t, false
}

func (b *beginning) emit() {
	if b.reported || b.time.IsZero() && b.planned.Of == 0 && b.about.IsZero() {
		return
	}
	b.reported = true
	e := run.Event{Event: run.RunBegins, At: b.time, About: b.about}
	if e.Planned == nil && b.planned.Of > 0 {
		e.Planned = &b.planned
	}
	b.sink(e)
}

// planProperties takes a property that describes the plan of a run, and reports whether that was the last of them.
func planProperties(p *run.Planned, element xml.StartElement) (whole bool) {
	value := attribute(element, "value")
	switch attribute(element, "name") {
	case shardProperty:
		_, err := fmt.Sscanf(value, "%d/%d", &p.Shard, &p.Of)
		if err != nil {
			*p = run.Planned{}
		}
	case pickProperty:
		p.Pick = value
	case planProperty:
		p.Plan = value
	case catalogProperty:
		p.Catalog = value
	case timingsProperty:
		p.Timings = value
		return p.Of > 0
	}
	return false
}

func attribute(element xml.StartElement, name string) string {
	for _, a := range element.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// readCase is a test case as others write it.
type readCase struct {
	ClassName string    `xml:"classname,attr"`
	Name      string    `xml:"name,attr"`
	Seconds   string    `xml:"time,attr"`
	File      string    `xml:"file,attr"`
	Line      string    `xml:"line,attr"`
	Status    string    `xml:"status,attr"`
	Failures  []problem `xml:"failure"`
	Errors    []problem `xml:"error"`
	Skipped   *problem  `xml:"skipped"`
	Output    []string  `xml:"system-out"`
	Problems  []string  `xml:"system-err"`

	finding *run.Finding // of a hunt, that system-out has
}

// emit sends the events of a case of a suite, and reports whether it is one that the suite counts as bad.
func (c *readCase) emit(suite string, sink run.Sink) (bad bool) {
	e := run.Event{Event: run.Finished, ID: c.place(suite) + "#" + c.Name, Outcome: run.Passed, Failure: run.Failure{File: c.File}}
	e.Line, _ = strconv.Atoi(c.Line) // 0 if there is none
	if s, err := strconv.ParseFloat(strings.ReplaceAll(c.Seconds, ",", ""), 64); err == nil && s >= 0 {
		e.Seconds = run.Took(s)
	}
	output := c.emitSigned(&e, strings.Join(append(c.Output, c.Problems...), "\n"), sink)
	switch {
	case len(c.Errors) > 0:
		e.Outcome = c.Errors[0].outcome(run.Errored, run.TimedOut, run.Lost)
		e.Message = c.Errors[0].words()
	case len(c.Failures) > 0:
		e.Outcome, e.Message = run.Failed, c.Failures[0].words()
	case c.Skipped != nil:
		e.Outcome = c.Skipped.outcome(run.Skipped, run.Owed)
		e.Message = c.Skipped.words()
	case c.Status == string(run.Surprise):
		e.Outcome, e.Message, output = run.Surprise, strings.TrimSpace(output), ""
	case c.Status == flaky, c.Status == "unstable": // as earlier versions wrote it
		e.Flaky = true
		e.Message, output, _ = strings.Cut(output, "\n")
	default:
		e.Outcome = statuses[strings.ToLower(c.Status)]
	}
	if e.Outcome == "" {
		e.Outcome = run.Passed
	}
	for _, p := range append(c.Errors, c.Failures...) {
		if e.File == "" {
			p.Text = p.place(&e)
		}
		if text := strings.TrimSpace(p.Text); text != "" && text != strings.TrimSpace(p.Message) {
			output = strings.TrimSpace(output + "\n" + text)
		}
	}
	if c.finding != nil && e.Outcome.Bad() {
		e.Message = strings.TrimSuffix(strings.TrimPrefix(e.Message+"\n", headline(c.finding)), "\n")
	}
	if e.Outcome.Bad() {
		e.Entry = c.Status == entry
		e.Expected, e.Actual = run.Compared(e.Message)
	}
	if output != "" {
		sink(run.Event{Event: run.Output, ID: e.ID, Text: output})
	}
	sink(e)
	if c.finding != nil {
		sink(run.Event{Event: run.Found, ID: e.ID, Finding: c.finding})
	}
	return e.Outcome.Bad() || e.Outcome == run.Lost
}

// statuses are the outcomes of cases that say them by their status alone.
var statuses = map[string]run.Outcome{"failed": run.Failed, "fail": run.Failed, "failure": run.Failed, "error": run.Errored, "errored": run.Errored,
	"skipped": run.Skipped, "disabled": run.Skipped, "notrun": run.Skipped, "ignored": run.Skipped}

// emitSigned sends what the lines say that our own reports write before a test's output, and returns the rest.
func (c *readCase) emitSigned(e *run.Event, output string, sink run.Sink) (rest string) {
	for {
		line, after, _ := strings.Cut(output, "\n")
		if !c.takeSigned(e, line, sink) {
			return strings.TrimPrefix(output, "\n")
		}
		output = after
	}
}

// takeSigned takes a line of our own reports, and reports whether it is one. Where and when the test ran goes into e.
func (c *readCase) takeSigned(e *run.Event, line string, sink run.Sink) bool {
	if data, ours := strings.CutPrefix(line, ranSign); ours {
		var r runAt
		if json.Unmarshal([]byte(data), &r) != nil {
			return false
		}
		e.Machine, e.Worker, e.Batch, e.At = r.Machine, r.Worker, r.Batch, r.At
		sink(run.Event{Event: run.Started, ID: e.ID, Machine: e.Machine, Worker: e.Worker, Batch: e.Batch, At: e.At})
		if e.Seconds != nil {
			e.At = e.At.Add(time.Duration(*e.Seconds * float64(time.Second)))
		}
		return true
	}
	if data, ours := strings.CutPrefix(line, findingSign); ours {
		var f run.Finding
		if json.Unmarshal(run.NewWords([]byte(data)), &f) != nil {
			return false
		}
		c.finding = &f
		return true
	}
	data, ours := strings.CutPrefix(line, stepSign)
	var s run.Step
	if !ours || json.Unmarshal([]byte(data), &s) != nil {
		return false
	}
	sink(run.Event{Event: run.StepDone, ID: e.ID, Step: s.Name, Outcome: run.OutcomeNamed(string(s.Outcome)), Seconds: run.Took(s.Seconds), Failure: s.Failure})
	return true
}

// place returns the place of the case.
func (c *readCase) place(inner string) string {
	if c.ClassName == "" || strings.HasSuffix(inner, ":"+c.ClassName) {
		return inner
	}
	return c.ClassName
}

// outcome is the first of some outcomes, or the one that the problem names.
func (p *problem) outcome(otherwise run.Outcome, others ...run.Outcome) run.Outcome {
	for _, o := range others {
		if p.Type == string(o) {
			return o
		}
	}
	return otherwise
}

// placeLine is the line that our own reports put before the text.
var placeLine = lazy.Regexp(`^(?:` + placeSign + `(.*?):(\d+))?(?: ?` + inStepSign + `.*)?$`)

// place removes the place and the step that our own reports put before the text, and returns the rest.
func (p *problem) place(e *run.Event) (rest string) {
	first, rest, _ := strings.Cut(p.Text, "\n")
	parts := placeLine().FindStringSubmatch(first)
	if first == "" || parts == nil {
		return p.Text
	}
	if line, err := strconv.Atoi(parts[2]); err == nil {
		e.File, e.Line = parts[1], line
	}
	return rest
}

func (p *problem) words() string {
	if message := strings.TrimSpace(p.Message); message != "" {
		return message
	}
	return strings.TrimSpace(p.Text)
}

// charset reads documents that declare another encoding than UTF-8. One that declares UTF-16 in one-byte letters
// has been converted already.
func charset(label string, input io.Reader) (io.Reader, error) {
	if strings.HasPrefix(strings.ToLower(label), "utf-16") {
		return input, nil
	}
	encoding, err := ianaindex.IANA.Encoding(label)
	if err != nil || encoding == nil {
		return nil, fmt.Errorf("its encoding %q is not known", label)
	}
	return encoding.NewDecoder().Reader(input), nil
}

// allowed removes the control characters that XML does not allow. They are single bytes in every encoding that
// such documents have. It returns an error if more is read than is left.
type allowed struct {
	r    io.Reader
	left int // bytes
}

func (a *allowed) Read(into []byte) (int, error) {
	if a.left <= 0 {
		return 0, fmt.Errorf("one element has more than %d MB: shorten what its tests print", longestPiece>>20)
	}
	n, err := a.r.Read(into)
	a.left -= n
	kept := into[:0]
	for _, b := range into[:n] {
		if b >= ' ' || b == '\t' || b == '\n' || b == '\r' {
			kept = append(kept, b)
		}
	}
	return len(kept), err
}
