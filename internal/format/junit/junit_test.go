package junit

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"regexp"
	"strings"
	"testing"
	"time"

	"fernrelay/core/run"
)

// TestHostileText writes names and outputs that XML does not allow and reads
// them back.
func TestHostileText(t *testing.T) {
	r := run.New()
	at := time.Unix(0, 0)
	hostile := "<script>&\"'\x00\x1b[31m\xff\uFFFE]]>é"
	for _, e := range []run.Event{
		{Event: run.Started, ID: "u:g<1>#" + hostile, At: at},
		{Event: run.Output, ID: "u:g<1>#" + hostile, Text: hostile},
		{Event: run.Finished, ID: "u:g<1>#" + hostile, Outcome: run.Failed, Failure: run.Failure{Message: hostile}, Seconds: run.Took(1.5), At: at},
		{Event: run.Finished, ID: "u:g<1>#owed", Outcome: run.Owed, Failure: run.Failure{Message: "why"}, Seconds: run.Took(0.5), At: at},
		{Event: run.Finished, ID: "u:h#gone", Outcome: run.Lost, At: at},
		{Event: run.Finished, ID: "u:h#late", Outcome: run.TimedOut, At: at},
		{Event: run.Finished, ID: "u:h#left out", Outcome: run.Skipped, Failure: run.Failure{Message: "rain"}, At: at},
		{Event: run.Finished, ID: "u:h#fine", Outcome: run.Passed, At: at},
	} {
		r.Apply(e)
	}
	var out bytes.Buffer
	if err := Write(&out, r); err != nil {
		t.Fatal(err)
	}
	var all testSuites
	if err := xml.Unmarshal(out.Bytes(), &all); err != nil {
		t.Fatalf("%v\n%s", err, out.String())
	}
	if all.Tests != 6 || all.Failures != 1 || all.Errors != 2 || all.Suites[0].Skipped+all.Suites[1].Skipped != 2 || all.Seconds != 2 || len(all.Suites) != 2 {
		t.Errorf("counts %+v in %d suites", all.totals, len(all.Suites))
	}
	first := all.Suites[0]
	if first.Name != "u:g<1>" || first.Tests != 2 || first.Cases[0].ClassName != "g<1>" || !strings.HasPrefix(first.Cases[0].Name, "<script>&\"'") {
		t.Errorf("the first suite is %+v", first)
	}
	if f := first.Cases[0].Failure; f == nil || f.Type != "failed" || f.Message != "<script>&\"'\uFFFD]]>é" || f.Text != f.Message {
		t.Errorf("the failure came as %+v", f)
	}
	if c := all.Suites[1].Cases; c[0].Error == nil || c[0].Error.Type != "lost" || c[1].Error.Type != "timed-out" || c[2].Skipped.Message != "rain" || c[3].Failure != nil {
		t.Errorf("the second suite's cases are %+v", c)
	}
}

// allowedByAll is what the schemas of CI systems have in common, by element, with the
// form of each attribute's value.
var allowedByAll = map[string]map[string]string{
	"testsuites": {"tests": `\d+`, "failures": `\d+`, "errors": `\d+`, "time": `\d+\.\d+`},
	"testsuite": {"name": `.+`, "tests": `\d+`, "failures": `\d+`, "errors": `\d+`, "skipped": `\d+`, "time": `\d+\.\d+`,
		"timestamp": `\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d`},
	"properties": {}, "property": {"name": `.+`, "value": `.*`},
	"testcase": {"name": `.*`, "classname": `.*`, "time": `\d+\.\d+`, "status": `\w+`},
	"failure":  {"message": `(?s).*`, "type": `.*`}, "error": {"message": `(?s).*`, "type": `.*`}, "skipped": {"message": `(?s).*`, "type": `.*`},
	"system-out": {},
}

// TestSchema holds that what is written keeps to it.
func TestSchema(t *testing.T) {
	r := run.New()
	r.Apply(run.Event{Event: run.RunBegins, At: time.Now(), About: run.About{Planned: &run.Planned{Shard: 1, Of: 2}}})
	for i, o := range append(run.Outcomes, run.Passed) {
		id := fmt.Sprintf("u:g%d#\x00\ufffe\xff%d", i%2, i)
		r.Apply(run.Event{Event: run.Output, ID: id, Text: "\x1b[1m\x01\ufffe said ]]>\n"})
		r.Apply(run.Event{Event: run.Finished, ID: id, At: time.Now(), Outcome: o, Flaky: i == len(run.Outcomes), Seconds: run.Took(1e-7), Failure: run.Failure{Message: "two\nlines\x00", File: "a.go", Line: 3}})
	}
	var out bytes.Buffer
	if err := Write(&out, r); err != nil {
		t.Fatal(err)
	}
	decoder := xml.NewDecoder(&out)
	for {
		token, err := decoder.Token()
		if err == io.EOF {
			return
		}
		if err != nil {
			t.Fatal(err)
		}
		element, is := token.(xml.StartElement)
		if !is {
			continue
		}
		allowed, known := allowedByAll[element.Name.Local]
		if !known {
			t.Errorf("the element %s", element.Name.Local)
		}
		for _, a := range element.Attr {
			if form, known := allowed[a.Name.Local]; !known || !regexp.MustCompile("^"+form+"$").MatchString(a.Value) {
				t.Errorf("the attribute %s of %s is %q", a.Name.Local, element.Name.Local, a.Value)
			}
		}
	}
}

// FuzzRead holds that no document breaks the reader.
func FuzzRead(f *testing.F) {
	f.Add(`<testsuites><testsuite name="s" timestamp="2026-01-02T03:04:05"><testcase name="a" time="1"><failure message="m">t</failure></testcase></testsuite></testsuites>`)
	f.Add(`<!DOCTYPE x [<!ENTITY a "b">]><testsuite><testcase name="&a;"/>`)
	f.Fuzz(func(t *testing.T, text string) {
		cases := 0
		_ = Read(strings.NewReader(text), func(e run.Event) {
			if e.Event == run.Finished {
				cases++
			}
		})
		if cases > strings.Count(text, "testcase") {
			t.Fatalf("%d cases come of %q", cases, text)
		}
	})
}
