package draw

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/outcome"
	"fernrelay/core/split"
)

func sampleRun(tests int) *outcome.Run {
	run := outcome.NewRun()
	began := time.Unix(1000, 0)
	run.Apply(outcome.Event{Event: outcome.RunBegins, At: began})
	for i := range tests {
		id := fmt.Sprintf("u:g#test <%d> & more", i)
		at := began.Add(time.Duration(i) * time.Second)
		run.Apply(outcome.Event{Event: outcome.Started, ID: id, Worker: 1 + i%3, Batch: 1, At: at})
		run.Apply(outcome.Event{Event: outcome.Finished, ID: id, Worker: 1 + i%3, Batch: 1, Outcome: outcome.All[i%len(outcome.All)],
			Seconds: outcome.Took(2), At: at.Add(2 * time.Second)})
	}
	run.Apply(outcome.Event{Event: outcome.RunEnds, At: began.Add(time.Duration(tests+1) * time.Second)})
	return run
}

func sampleHunt() (hunt.Finding, []hunt.Record) {
	finding := hunt.Finding{ID: "u:g#victim", Verdict: hunt.Polluted, Culprits: [][]string{{"u:g#culprit"}}, Trials: 9, Seconds: 4,
		With: hunt.Times{Runs: 5, Failed: 5}, Without: hunt.Times{Runs: 5},
		Changed: []hunt.Change{{Kind: hunt.Variable, Name: "clock.offset", Before: "0s", After: "3h0m0s"}}}
	return finding, []hunt.Record{
		{Trial: hunt.Trial{Number: 1, Purpose: hunt.Alone}, Told: true, Outcome: outcome.Passed},
		{Trial: hunt.Trial{Number: 2, Purpose: hunt.Halve, Ran: 3, LeftOut: 4}, Told: true, Outcome: outcome.Failed, Shows: true},
		{Trial: hunt.Trial{Number: 3, Purpose: hunt.Halve, Ran: 1, LeftOut: 2}, Told: true, Outcome: outcome.Passed},
		{Trial: hunt.Trial{Number: 4, Purpose: hunt.Halve, Ran: 1, LeftOut: 1}},
	}
}

func sampleWeave() *catalog.Weave {
	c := catalog.New([]catalog.Test{
		{Suite: "u", Group: "irrigation/drip <1>", Name: "a", Tags: []string{"valve"}, Expected: 1},
		{Suite: "u", Group: "irrigation/sprinkle", Name: "b", Tags: []string{"valve"}, Expected: 2},
		{Suite: "u", Group: "shade", Name: "c", Expected: 4},
	})
	return catalog.NewWeave(c, c.Tree(), c.Tags(), func(i int) bool { return i < 2 })
}

func samplePlan(seconds ...float64) (split.Plan, []split.Point) {
	var units []split.Unit
	for i, s := range seconds {
		name := fmt.Sprintf("glass & <%d>", i)
		units = append(units, split.Unit{Name: name, Label: name, Tests: []string{name}, Seconds: s})
	}
	work := split.NewWork(units)
	return work.Plan(split.Fleet{Shards: 3, Starts: map[int]float64{2: 20}}, split.Quick), work.Curve(split.Fleet{}, 60, split.Quick)
}

// TestDrawings writes each drawing in each form: SVG that parses and says what
// it should within its bounds, PDF that begins and ends as one.
func TestDrawings(t *testing.T) {
	dir := t.TempDir()
	finding, records := sampleHunt()
	plan, points := samplePlan(90, 40, 30, 20)
	noPlan, noPoints := samplePlan()
	for name, c := range map[string]struct {
		drawing Drawing
		words   []string
	}{
		"timeline": {Timeline("glass & house, run 7", sampleRun(8)), []string{"glass & house, run 7", "worker 3", "test <3> & more", "1 timed-out", "0:08"}},
		"empty":    {Timeline("empty", outcome.NewRun()), []string{"nothing ran", "worker 1"}},
		"frond":    {Frond(finding, records), []string{"Hunt of u:g#victim", "u:g#culprit", "polluted", "in company 5 of 5 failed", "variable clock.offset"}},
		"weave":    {Weave("glass & house", "valve", sampleWeave()), []string{"glass & house", "pick: valve", "2 of 3 tests, 0:03.0 of 0:07.0 of work", "irrigation", "drip <1>", "valve", "2/3", "held by the pick"}},
		"shards":   {Shards("frost & more", plan), []string{"frost & more", "3 shards; finish 1:30.0, floor 1:30.0", "floor 1:30.0, glass & <0>", "glass & <3>", "1 test"}},
		"curve":    {Curve("frost & more", points, 3), []string{"frost & more", "beyond 2 machines", "knee", "machine time", "1:30:00"}},
		"no plan":  {Shards("", noPlan), []string{"finish 0:00.0"}},
		"no curve": {Curve("", noPoints, 0), []string{"finish by number"}},
		"unended":  {Frond(hunt.Finding{ID: "u:g#v"}, nil), []string{"Hunt of u:g#v"}},
	} {
		svg, pdf := filepath.Join(dir, name+".svg"), filepath.Join(dir, name+".PDF")
		if err := errors.Join(WriteFile(svg, c.drawing), WriteFile(pdf, c.drawing)); err != nil {
			t.Fatal(err)
		}
		data, _ := os.ReadFile(svg)
		said := texts(t, data)
		for _, words := range c.words {
			if !strings.Contains(said, words) {
				t.Errorf("%s does not say %q: %s", name, words, said)
			}
		}
		data, _ = os.ReadFile(pdf)
		if !bytes.HasPrefix(data, []byte("%PDF-")) || !bytes.Contains(data, []byte("%%EOF")) {
			t.Errorf("%s is no PDF", pdf)
		}
	}
	for file, words := range map[string]string{"x.gif": ".svg or .pdf", filepath.Join("no", "x.svg"): "no"} {
		if err := WriteFile(filepath.Join(dir, file), Timeline("", outcome.NewRun())); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", file, err)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(dir, ".new-*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// texts gives the character data of an XML document.
func texts(t *testing.T, document []byte) string {
	t.Helper()
	var said []string
	decoder := xml.NewDecoder(bytes.NewReader(document))
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			return strings.Join(said, " | ")
		}
		if err != nil {
			t.Fatalf("%v\n%s", err, document)
		}
		if text, ok := token.(xml.CharData); ok && len(bytes.TrimSpace(text)) > 0 {
			said = append(said, string(bytes.TrimSpace(text)))
		}
	}
}
