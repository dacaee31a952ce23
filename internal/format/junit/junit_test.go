package junit

import (
	"bytes"
	"encoding/xml"
	"strings"
	"testing"
	"time"

	"fernrelay/core/outcome"
)

// TestHostileText writes names and outputs that XML does not allow and reads
// them back.
func TestHostileText(t *testing.T) {
	run := outcome.NewRun()
	at := time.Unix(0, 0)
	hostile := "<script>&\"'\x00\x1b[31m\xff\uFFFE]]>é"
	for _, e := range []outcome.Event{
		{Event: outcome.Started, ID: "u:g<1>#" + hostile, At: at},
		{Event: outcome.Output, ID: "u:g<1>#" + hostile, Text: hostile},
		{Event: outcome.Finished, ID: "u:g<1>#" + hostile, Outcome: outcome.Failed, Message: hostile, Seconds: outcome.Took(1.5), At: at},
		{Event: outcome.Finished, ID: "u:g<1>#owed", Outcome: outcome.Owed, Message: "why", Seconds: outcome.Took(0.5), At: at},
		{Event: outcome.Finished, ID: "u:h#gone", Outcome: outcome.Lost, At: at},
		{Event: outcome.Finished, ID: "u:h#late", Outcome: outcome.TimedOut, At: at},
		{Event: outcome.Finished, ID: "u:h#left out", Outcome: outcome.Skipped, Message: "rain", At: at},
		{Event: outcome.Finished, ID: "u:h#fine", Outcome: outcome.Passed, At: at},
	} {
		run.Apply(e)
	}
	var out bytes.Buffer
	if err := Write(&out, run); err != nil {
		t.Fatal(err)
	}
	var all testSuites
	if err := xml.Unmarshal(out.Bytes(), &all); err != nil {
		t.Fatalf("%v\n%s", err, out.String())
	}
	if all.Tests != 6 || all.Failures != 1 || all.Errors != 2 || all.Skipped != 2 || all.Seconds != 2 || len(all.Suites) != 2 {
		t.Errorf("counts %+v in %d suites", all.totals, len(all.Suites))
	}
	first := all.Suites[0]
	if first.Name != "u:g<1>" || first.Tests != 2 || first.Cases[0].ClassName != "g<1>" || !strings.HasPrefix(first.Cases[0].Name, "<script>&\"'") {
		t.Errorf("the first suite is %+v", first)
	}
	if f := first.Cases[0].Failure; f == nil || f.Type != "failed" || f.Message != "<script>&\"'\uFFFD\uFFFD]]>é" || f.Text != f.Message {
		t.Errorf("the failure came as %+v", f)
	}
	if c := all.Suites[1].Cases; c[0].Error == nil || c[0].Error.Type != "lost" || c[1].Error.Type != "timed-out" || c[2].Skipped.Message != "rain" || c[3].Failure != nil {
		t.Errorf("the second suite's cases are %+v", c)
	}
}
