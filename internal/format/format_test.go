package format

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/format/events"
	"fernrelay/internal/format/formattest"
	"fernrelay/internal/format/junit"
	"fernrelay/internal/format/lines"
	"fernrelay/internal/format/tap"
)

// readLines reads a report and gives its format and its events, one per line.
func readLines(text string) (name string, lines []string, err error) {
	lines, err = formattest.Lines(func(sink run.Sink) (err error) {
		name, err = Read(strings.NewReader(text), sink)
		return err
	})
	return name, lines, err
}

// utf16 is a text in UTF-16, the lower byte first, behind its mark.
func utf16(text string) string {
	encoded := "\xff\xfe"
	for _, r := range text {
		encoded += string([]byte{byte(r), byte(r >> 8)})
	}
	return encoded
}

func TestRead(t *testing.T) {
	for name, c := range map[string]struct {
		format, text string
		want         []string
		err          string
	}{
		"empty":      {"", " \n", nil, "empty"},
		"tap":        {"tap", "1..1\nok 1 - a\n", []string{"finished a | passed"}, ""},
		"neither":    {"", "hello\n", nil, "it is no report"},
		"tap bailed": {"tap", "Bail out! no power\n", nil, "no power"},
		"utf-16":     {"junit", utf16("<?xml version='1.0' encoding='UTF-16'?><testsuite name='s'><testcase name='é'/></testsuite>"), []string{"finished s#é | passed"}, ""},
		"junit tree": {"junit", "\ufeff<?xml version=\"1.0\"?>\n<testsuites tests=\"99\"><testsuite name=\"all\"><testsuite name=\"pond\"><testcase name=\"a\" time=\"1,000.5\"/></testsuite><testcase classname=\"wall.W\" name=\"b\" time=\"soon\"><failure message=\"got 1, want 2\">wall.go:3: got 1, want 2</failure><system-out>hi</system-out></testcase></testsuite></testsuites>", []string{"finished pond#a | passed | 1000.5 s", "output wall.W#b | hi\nwall.go:3: got 1, want 2", "finished wall.W#b | failed | got 1, want 2 | 2 | 1"}, ""},
		"junit single": {"junit", "<testsuite name='u:g'><testcase classname='g' name='x' file='g.go' line='7'><error type='timed-out' message='late'/></testcase><testcase name='y'><skipped/></testcase><testcase name='z'><error/></testcase></testsuite>",
			[]string{"finished u:g#x | timed-out | late | g.go:7", "finished u:g#y | skipped", "finished u:g#z | errored"}, ""},
		"junit in Latin-1": {"junit", "<?xml version='1.0' encoding='ISO-8859-1'?><testsuite name='s'><testcase name='caf\xe9\x01'/></testsuite>", []string{"finished s#café | passed"}, ""},
		"junit cut off":    {"junit", "<testsuite name='s'><testcase name='a'/><testcase name='b'>", []string{"finished s#a | passed"}, "the XML is broken"},
		"other XML":        {"junit", "<html></html>", nil, "no testsuite"},
		"gojson": {"gojson", "# compiling\n" + `{"Action":"start","Package":"p"}
{"Time":"2026-01-02T03:04:05Z","Action":"run","Package":"p","Test":"TestA"}
{"Action":"output","Package":"p","Test":"TestA","Output":"hello\n"}
{"Action":"run","Package":"p","Test":"TestA/sub"}
{"Action":"fail","Package":"p","Test":"TestA/sub","Elapsed":0.5}
{"Action":"fail","Package":"p","Test":"TestA","Elapsed":1.5}
{"Action":"run","Package":"p","Test":"TestB"}
{"Action":"fail","Package":"p","Elapsed":2}
{"Action":"output","Package":"q","Output":"cannot find z\n"}
{"Action":"fail","Package":"q"}
`, []string{"started p#TestA", "output p#TestA | hello", "step p#TestA | sub | failed | 0.5 s", "finished p#TestA | failed | 1.5 s", "started p#TestB"}, "p#TestB began and did not end\nthe package q failed outside of its tests: cannot find z"},
		"events cut off": {"events", `{"event":"run","format":"fern-events/1","at":"2026-01-02T03:04:05Z"}` + "\n" + `{"event":"finished","at":"2026-01-02T03:04:06Z","id":"u:g#a","outcome":"passed","seconds":1}` + "\n", []string{"run ", "finished u:g#a | passed | 1 s"}, "breaks off"},
		"events halved":  {"events", `{"event":"run","format":"fern-events/1","at":"2026-01-02T03:04:05Z"}` + "\n" + `{"event":"fin`, []string{"run "}, "line 2 is no event"},
		"unsound events": {"events", `{"event":"run","format":"fern-events/1","planned":{"shard":1,"of":1000000000}}` + "\n" +
			`{"event":"finished","at":"2026-01-02T03:04:06Z","worker":-2,"id":"u:g#a","outcome":"exploded","seconds":1e300,"file":"a.go","line":-7}` + "\n" + `{"event":"end"}` + "\n", []string{"run ", "finished u:g#a | lost | a.go:0", "end "}, ""},
		"unsound junit": {"junit", "<testsuite name='s'><testcase name='a' time='1e300'/><testcase name='b' time='Inf'/></testsuite>", []string{"finished s#a | passed", "finished s#b | passed"}, ""},
		"endless line":  {"gojson", `{"Action":"start","Package":"` + strings.Repeat("x", lines.Longest) + "\n", nil, "more than 32 MB"},
		"later events":  {"events", `{"event":"run","format":"fern-events/9"}` + "\n", nil, `"fern-events/9"`},
	} {
		format, got, err := readLines(c.text)
		if format != c.format || strings.Join(got, "\n") != strings.Join(c.want, "\n") {
			t.Errorf("%s: %s reports\n%s\nwant\n%s", name, format, strings.Join(got, "\n"), strings.Join(c.want, "\n"))
		}
		if c.err == "" && err != nil || c.err != "" && (err == nil || !strings.Contains(err.Error(), c.err)) {
			t.Errorf("%s: the error is %v, want %q", name, err, c.err)
		}
	}
}

// TestOldWords reads reports of an earlier version, in which what is flaky was called unstable.
func TestOldWords(t *testing.T) {
	begin := `{"event":"run","format":"fern-events/1","at":"2026-01-02T03:04:05Z"}` + "\n"
	for name, text := range map[string]string{
		"events": begin + `{"event":"finished","at":"2026-01-02T03:04:06Z","id":"u:g#a","outcome":"passed","seconds":1,"unstable":true,"message":"\"unstable\":true"}` + "\n" +
			`{"event":"end"}` + "\n",
		"junit": "<testsuite name='u:g'><testcase name='a' status='unstable'/></testsuite>",
		"tap":   "1..1\nok 1 - u:g#a\n  ---\n  unstable: true\n  ...\n",
	} {
		ran, _, err := ReadRun(strings.NewReader(text))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if r := ran.Result("u:g#a"); r == nil || !r.Flaky || name == "events" && r.Message != `"unstable":true` {
			t.Errorf("%s: read as %+v", name, r)
		}
	}
}

// TestImpossibleDate holds that a report of others with a date that JSON cannot hold can still be merged into events.
func TestImpossibleDate(t *testing.T) {
	const text = `<testsuite name="u:g"><testcase name="a" time="99999999"><failure/><system-out>ran {"worker":1,"batch":1,"at":"9999-12-31T00:00:00Z"}</system-out></testcase></testsuite>`
	ran, _, err := ReadRun(strings.NewReader(text))
	if err != nil || ran.Result("u:g#a").Worker != 1 {
		t.Fatalf("%+v, %v", ran.Result("u:g#a"), err)
	}
	var out strings.Builder
	lines := events.NewWriter(&out)
	ran.Replay(lines.Write)
	if err := lines.Close(); err != nil {
		t.Error(err)
	}
}

// TestRoundTrips holds that a run that is written in each format is read again
// with the same tests and outcomes.
func TestRoundTrips(t *testing.T) {
	ran, at := run.New(), time.Unix(1000, 0).UTC()
	var lines strings.Builder
	eventLines := events.NewWriter(&lines)
	apply := func(e run.Event) {
		e.At = at
		ran.Apply(e)
		eventLines.Write(e)
	}
	apply(run.Event{Event: run.RunBegins, Format: run.Format})
	all := append(slices.Clone(run.Outcomes), run.Passed) // the last one flaky
	for i, o := range all {
		id := fmt.Sprintf("u:g%d#t%d \x1b[1m<%s> # \"水\"", i%2, i, o)
		apply(run.Event{Event: run.Started, ID: id, Worker: 1, Batch: 1})
		apply(run.Event{Event: run.Output, ID: id, Text: "said\n"})
		apply(run.Event{Event: run.Finished, ID: id, Worker: 1, Batch: 1, Outcome: o, Seconds: run.Took(0.5), Flaky: i == len(run.Outcomes), Failure: run.Failure{Message: "why", File: "a.go", Line: 3}})
	}
	apply(run.Event{Event: run.RunEnds, Counts: ran.Counts})
	if err := eventLines.Close(); err != nil {
		t.Fatal(err)
	}
	var asXML, asTAP strings.Builder
	if err := junit.Write(&asXML, ran); err != nil {
		t.Fatal(err)
	}
	if err := tap.Write(&asTAP, ran); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"events": lines.String(), "junit": asXML.String(), "tap": asTAP.String()} {
		again := run.New()
		format, err := Read(strings.NewReader(text), again.Apply)
		if format != name || err != nil || len(again.Results) != len(all) {
			t.Fatalf("%s is read as %s, %v: %d tests\n%s", name, format, err, len(again.Results), text)
		}
		for _, r := range ran.Results {
			id := r.ID
			if name != "events" {
				id = plain.Line(id)
			}
			if got := again.Result(id); got == nil || got.Outcome != r.Outcome || got.Flaky != r.Flaky || got.Seconds != 0.5 {
				t.Errorf("%s: %s is read as %+v, want %+v", name, id, got, r)
			}
		}
	}
}
