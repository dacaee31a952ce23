// Package junit writes a run as JUnit XML, a testsuite a group, a testcase a test,
// and reads such documents of others. What is written keeps to the elements and
// attributes that the schemas of CI systems have in common.
package junit

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"fernrelay/core/plain"
	"fernrelay/core/run"
)

type testSuites struct {
	XMLName xml.Name `xml:"testsuites"`
	totals
	Suites []*testSuite `xml:"testsuite"`
}

type totals struct {
	Tests    int     `xml:"tests,attr"`
	Failures int     `xml:"failures,attr"`
	Errors   int     `xml:"errors,attr"`
	Seconds  seconds `xml:"time,attr"`
}

// seconds are written as a decimal number, as schemas of the format want it, never
// with an exponent.
type seconds float64

// MarshalXMLAttr writes them to the microsecond.
func (s seconds) MarshalXMLAttr(name xml.Name) (xml.Attr, error) {
	return xml.Attr{Name: name, Value: strconv.FormatFloat(float64(s), 'f', 6, 64)}, nil
}

type testSuite struct {
	Name      string `xml:"name,attr"`
	Timestamp string `xml:"timestamp,attr"`
	totals
	Skipped    int        `xml:"skipped,attr"`
	Properties []property `xml:"properties>property,omitempty"`
	Cases      []testCase `xml:"testcase"`
}

// timeLayout is ISO 8601 without a zone, as schemas of the format want it. It is local time.
const timeLayout = "2006-01-02T15:04:05"

// property is a property of a suite. The first suite of a shard has the plan that it is a part of.
type property struct {
	Name  string `xml:"name,attr"`
	Value string `xml:"value,attr"`
}

const (
	shardProperty   = "fern.shard" // K/N
	planProperty    = "fern.plan"
	catalogProperty = "fern.catalog"
	timingsProperty = "fern.timings"
	pickProperty    = "fern.pick"

	aboutProperty = "fern.run" // run.About, as JSON

	crossingProperty = "fern.crossing" // of the matrix, as in store=redis,season=winter
)

func properties(p *run.Planned) []property {
	// A reader takes them for whole with the last.
	return []property{{shardProperty, fmt.Sprintf("%d/%d", p.Shard, p.Of)}, {pickProperty, p.Pick}, {planProperty, p.Plan}, {catalogProperty, p.Catalog}, {timingsProperty, p.Timings}}
}

type testCase struct {
	ClassName string   `xml:"classname,attr"`
	Name      string   `xml:"name,attr"`
	Seconds   seconds  `xml:"time,attr"`
	Status    string   `xml:"status,attr,omitempty"` // flaky or surprise, of what passed, or entry
	Failure   *problem `xml:"failure"`
	Error     *problem `xml:"error"`
	Skipped   *problem `xml:"skipped"`
	Output    string   `xml:"system-out,omitempty"`
}

type problem struct {
	Message string `xml:"message,attr,omitempty"`
	Type    string `xml:"type,attr,omitempty"`
	Text    string `xml:",chardata"`
}

// Write writes a run, or the runs of crossings of a matrix. A test's ID has its suite, group and name.
func Write(w io.Writer, runs ...*run.Run) error {
	all := &testSuites{}
	for _, ran := range runs {
		if err := all.addRun(ran); err != nil {
			return err
		}
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	encoder := xml.NewEncoder(w)
	encoder.Indent("", "  ")
	if err := encoder.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// addRun adds the groups of a run.
func (all *testSuites) addRun(ran *run.Run) error {
	byName := map[string]*testSuite{}
	first := len(all.Suites)
	ordered := run.CountBad(ran.Counts) > 0 // else nobody asks for the order
	for _, r := range ran.Results {
		place, name, _ := strings.Cut(r.ID, "#")
		suite := byName[place]
		if suite == nil {
			suite = &testSuite{Name: plain.Line(place), Timestamp: r.Started.Local().Format(timeLayout)}
			if ran.Crossing != "" {
				suite.Properties = []property{{crossingProperty, plain.Line(ran.Crossing)}}
			}
			byName[place] = suite
			all.Suites = append(all.Suites, suite)
		}
		_, group, _ := strings.Cut(place, ":")
		var ranAt *runAt
		if ordered && r.Worker > 0 {
			place := ran.PlaceOf(r.Worker)
			ranAt = &runAt{plain.Line(place.Machine), place.Worker, r.Batch, r.Started}
		}
		c, err := caseOf(r, group, name, ranAt)
		if err != nil {
			return err
		}
		suite.Cases = append(suite.Cases, c)
		suite.add(c)
		if c.Skipped != nil {
			suite.Skipped++
		}
		all.add(c)
	}
	if !ran.About.IsZero() && (ran.Planned != nil || len(all.Suites) > first) {
		if len(all.Suites) == first {
			all.Suites = append(all.Suites, &testSuite{Name: "an empty shard", Timestamp: ran.Started.Local().Format(timeLayout)})
		}
		text, err := json.Marshal(ran.About)
		if err != nil {
			return err
		}
		all.Suites[first].Properties = append(all.Suites[first].Properties, property{aboutProperty, plain.Line(string(text))})
		if ran.Planned != nil { // for earlier versions
			all.Suites[first].Properties = append(all.Suites[first].Properties, properties(ran.Planned)...)
		}
	}
	return nil
}

// What the status of a case may be beside an outcome.
const (
	flaky = "flaky"
	entry = "entry" // see run.Event
)

// What begins the lines of a test's system-out that say more of it than the schemas of the format have elements for.
// The rest of such a line is JSON. CI pages show system-out.
const (
	ranSign     = "ran "     // runAt, of runs in which a test was bad
	stepSign    = "step "    // run.Step
	findingSign = "finding " // run.Finding, of a hunt in the run
)

// runAt is where and when a test ran: the order of a run, that a hunt starts from, follows from those of its tests.
type runAt struct {
	Machine string    `json:"machine,omitempty"` // of a run of several
	Worker  int       `json:"worker"`
	Batch   int       `json:"batch"`
	At      time.Time `json:"at"`
}

// signed writes the lines of system-out that begin with a sign.
func signed(r *run.Result, at *runAt) (string, error) {
	var out strings.Builder
	var failed error
	line := func(sign string, value any) {
		data, err := json.Marshal(value)
		failed = errors.Join(failed, err)
		fmt.Fprintf(&out, "%s%s\n", sign, data)
	}
	if at != nil {
		line(ranSign, at)
	}
	for _, s := range r.Steps {
		s.Name, s.Message, s.Expected, s.Actual = plain.Text(s.Name), plain.Text(s.Message), plain.Text(s.Expected), plain.Text(s.Actual)
		line(stepSign, s)
	}
	if r.Finding != nil {
		line(findingSign, plainFinding(r.Finding))
	}
	return out.String(), failed
}

// plainFinding returns a finding with texts that are safe to show.
func plainFinding(f *run.Finding) run.Finding {
	safe := run.Finding{Verdict: plain.Line(f.Verdict), Words: plain.Line(f.Words), Remedy: plain.Line(f.Remedy), See: plain.Line(f.See)}
	for _, set := range f.Culprits {
		safe.Culprits = append(safe.Culprits, plainLines(set))
	}
	safe.Order = plainLines(f.Order)
	return safe
}

// headline is what a finding says before the message of its failure, on lines of its own.
func headline(f *run.Finding) string {
	safe := plainFinding(f)
	return strings.TrimSpace(safe.Headline()+"\n"+safe.See) + "\n"
}

func plainLines(texts []string) (lines []string) {
	for _, text := range texts {
		lines = append(lines, plain.Line(text))
	}
	return lines
}

// What goes before the place, and the step that failed, in the first line of the text of a problem: schemas of the format
// have no attributes for them.
const (
	placeSign  = "at "
	inStepSign = "in step "
)

// placed puts the place of a result's failure, and the first step of it that failed, before its output.
func placed(r *run.Result, output string) string {
	var words []string
	if r.File != "" {
		words = append(words, fmt.Sprintf("%s%s:%d", placeSign, plain.Line(r.File), r.Line))
	}
	if at := slices.IndexFunc(r.Steps, func(s run.Step) bool { return s.Outcome.Bad() }); at >= 0 {
		words = append(words, inStepSign+plain.Line(r.Steps[at].Name))
	}
	switch {
	case words != nil:
		return strings.Join(words, " ") + "\n" + output
	case strings.HasPrefix(output, placeSign), strings.HasPrefix(output, inStepSign):
		return "\n" + output // so that it is not mistaken for one
	}
	return output
}

func caseOf(r *run.Result, group, name string, at *runAt) (testCase, error) {
	c := testCase{ClassName: plain.Line(group), Name: plain.Line(name), Seconds: seconds(r.Seconds)}
	message := plain.Text(r.Message)
	if r.Finding != nil && r.Outcome.Bad() {
		message = headline(r.Finding) + message
	}
	output := placed(r, plain.Text(string(r.Output)))
	switch {
	case r.Outcome == run.Failed:
		c.Failure = &problem{Message: message, Type: string(r.Outcome), Text: output}
	case r.Outcome.Bad() || r.Outcome == run.Lost:
		c.Error = &problem{Message: message, Type: string(r.Outcome), Text: output}
	case r.Outcome == run.Owed:
		c.Skipped = &problem{Message: "failed as expected: " + message, Type: string(r.Outcome)}
	case r.Outcome == run.Skipped:
		c.Skipped = &problem{Message: message}
	case r.Outcome == run.Surprise:
		c.Status, c.Output = string(run.Surprise), message
	case r.Flaky:
		c.Status, c.Output = flaky, plain.Line(r.Message)+"\n"+plain.Text(string(r.Output))
	}
	if r.Entry {
		c.Status = entry
	}
	lines, err := signed(r, at)
	if slices.ContainsFunc([]string{ranSign, stepSign, findingSign}, func(sign string) bool { return strings.HasPrefix(c.Output, sign) }) {
		lines += "\n" // so that the output is not mistaken for such a line
	}
	c.Output = lines + c.Output
	return c, err
}

func (t *totals) add(c testCase) {
	t.Tests++
	t.Seconds += c.Seconds
	switch {
	case c.Failure != nil:
		t.Failures++
	case c.Error != nil:
		t.Errors++
	}
}
