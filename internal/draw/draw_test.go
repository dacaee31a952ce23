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
	"fernrelay/core/history"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/core/split"
	"fernrelay/internal/testfiles"
)

func sampleRun(tests int) *run.Run {
	r := run.New()
	began := time.Unix(1000, 0)
	r.Apply(run.Event{Event: run.RunBegins, At: began})
	for i := range tests {
		id := fmt.Sprintf("u:g#test <%d> & more", i)
		at := began.Add(time.Duration(i) * time.Second)
		r.Apply(run.Event{Event: run.Started, ID: id, Worker: 1 + i%3, Batch: 1, At: at})
		r.Apply(run.Event{Event: run.Finished, ID: id, Worker: 1 + i%3, Batch: 1, Outcome: run.Outcomes[i%len(run.Outcomes)],
			Seconds: run.Took(2), At: at.Add(2 * time.Second)})
	}
	r.Apply(run.Event{Event: run.RunEnds, At: began.Add(time.Duration(tests+1) * time.Second)})
	return r
}

func sampleHunt() (hunt.Finding, []hunt.Record) {
	finding := hunt.Finding{ID: "u:g#victim", Verdict: hunt.Polluted, Culprits: [][]string{{"u:g#culprit"}}, Trials: 9, Seconds: 4,
		With: hunt.Times{Runs: 5, Failed: 5}, Without: hunt.Times{Runs: 5},
		Changed: []hunt.Change{{Kind: hunt.Variable, Name: "clock.offset", Before: "0s", After: "3h0m0s"}}}
	return finding, []hunt.Record{
		{Trial: hunt.Trial{Number: 1, Purpose: hunt.Alone}, Done: true, Outcome: run.Passed},
		{Trial: hunt.Trial{Number: 2, Purpose: hunt.Halve, Ran: 3, LeftOut: 4}, Done: true, Outcome: run.Failed, Shows: true},
		{Trial: hunt.Trial{Number: 3, Purpose: hunt.Halve, Ran: 1, LeftOut: 2}, Done: true, Outcome: run.Passed},
		{Trial: hunt.Trial{Number: 4, Purpose: hunt.Halve, Ran: 1, LeftOut: 1}},
	}
}

// samplePast is forty runs of a test that comes and goes, one that is slower from the middle on,
// and one that never ran to its end.
func samplePast(t *testing.T) *history.Past {
	t.Helper()
	h := history.NewHistory([]string{"u:g#shaky <b>", "u:g#slower", "u:g#skipped"}, 40)
	var runs []*run.Record
	for r := range 40 {
		runs = append(runs, &run.Record{Number: r + 3, Began: time.Unix(int64(r)*3600, 0), Ended: time.Unix(int64(r)*3600+90, 0), Work: 200, Counts: map[run.Outcome]int{run.Failed: r % 2}})
		h.Set(0, r, history.NewCell([]run.Outcome{run.Passed, run.Failed}[r%2], 0.5))
		h.Set(1, r, history.NewCell(run.Passed, 1+1.2*float64(r/20)+0.001*float64(r%3)))
		h.Set(2, r, history.NewCell(run.Skipped, 0))
	}
	return history.NewPast(runs, h).WithChanges()
}

// TestPages sets more lines than a page holds, and a drawing that is higher than a page.
func TestPages(t *testing.T) {
	lines := []Line{{Text: "Title", Tone: Title}}
	for i := range 100 {
		lines = append(lines, Line{Text: fmt.Sprint("line ", i, strings.Repeat(" long", 99)), Tone: Tone(i % 5), Indent: i % 3, Keep: i % 2})
	}
	pages := Pages(lines)
	var out bytes.Buffer
	if err := WritePages(&out, append(pages, Timeline("many", sampleRun(200)))); err != nil || len(pages) < 3 || len(pages) > 5 {
		t.Fatalf("%d pages, %v", len(pages), err)
	}
	if n := strings.Count(out.String(), "/Type /Page\n"); n != len(pages)+1 {
		t.Errorf("%d pages in the document, want %d", n, len(pages)+1)
	}
}

func sampleWeave() *catalog.Weave {
	c := catalog.New([]catalog.Test{
		{Suite: "u", Group: "irrigation/drip <1>", Name: "a", Tags: []string{"valve"}, Expected: 1},
		{Suite: "u", Group: "irrigation/sprinkle", Name: "b", Tags: []string{"valve"}, Expected: 2},
		{Suite: "u", Group: "shade", Name: "c", Expected: 4},
	})
	return catalog.NewWeave(c, c.Tree(), c.Tags(), func(int) bool { return true }, func(i int) bool { return i < 2 })
}

func samplePlan(seconds ...float64) (split.Plan, []split.Point) {
	var units []schedule.Unit
	for i, s := range seconds {
		name := fmt.Sprintf("glass & <%d>", i)
		units = append(units, schedule.Unit{Name: name, Label: name, Tests: []string{name}, Seconds: s})
	}
	work := split.NewWork(units)
	return work.Plan(split.Fleet{Shards: 3, Starts: map[int]float64{2: 20}}, split.Quick), work.Curve(split.Fleet{}, 60, split.Quick)
}

// TestDrawings writes each drawing in each form: SVG that parses and says what
// it should within its bounds, PDF that says the same.
func TestDrawings(t *testing.T) {
	dir := t.TempDir()
	finding, records := sampleHunt()
	plan, points := samplePlan(90, 40, 30, 20)
	noPlan, noPoints := samplePlan()
	past := samplePast(t)
	chart := func(name string) Drawing {
		c, err := Named(name, OfPast)
		if err != nil {
			t.Fatal(err)
		}
		d, err := c.Draw(Data{Title: "glass & house", Past: past, Tests: past.Order(history.ByTrouble, func(string) bool { return true })})
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	for name, c := range map[string]struct {
		drawing Drawing
		words   []string
	}{
		"timeline": {Timeline("glass & house, run 7", sampleRun(8)), []string{"glass & house, run 7", "worker 3", "test <3> & more", "1 timed-out", "0:08"}},
		"empty":    {Timeline("empty", run.New()), []string{"nothing ran", "worker 1"}},
		"frond":    {Frond(finding, records), []string{"Hunt of u:g#victim", "u:g#culprit", "polluted", "in company 5 of 5 failed", "variable clock.offset"}},
		"weave":    {weave("glass & house", "valve", sampleWeave()), []string{"glass & house", "pick: valve", "2 of 3 tests, 0:03.0 of 0:07.0 of work", "irrigation", "drip <1>", "valve", "2/3", "picked"}},
		"shards":   {Shards("frost & more", plan), []string{"frost & more", "3 shards; finish 1:30.0, floor 1:30.0", "floor 1:30.0, glass & <0>", "glass & <3>", "1 test"}},
		"curve":    {curve("frost & more", points, 3), []string{"frost & more", "beyond 2 machines", "knee", "machine time", "1:30:00"}},
		"history":  {chart("history"), []string{"glass & house, runs 3 to 42", "3 of 3 tests", "g#shaky <b>", "50 %", "100 %", "timed-out"}},
		"slow":     {chart("slow"), []string{"the slowest", "g#slower", "2.20 s  up 2.2 ×", "time, the median"}},
		"trend":    {chart("trend"), []string{"the work of all tests, and the wall time", "42", "a test failed"}},
		"no plan":  {Shards("", noPlan), []string{"finish 0 s"}},
		"no curve": {curve("", noPoints, 0), []string{"finish by number"}},
		"unended":  {Frond(hunt.Finding{ID: "u:g#v"}, nil), []string{"Hunt of u:g#v"}},
	} {
		svg, pdf := filepath.Join(dir, name+".svg"), filepath.Join(dir, name+".PDF")
		if err := errors.Join(WriteFile(svg, c.drawing), WriteFile(pdf, c.drawing)); err != nil {
			t.Fatal(err)
		}
		data, _ := os.ReadFile(svg)
		said := map[string]string{"SVG": texts(t, data)}
		data, _ = os.ReadFile(pdf)
		said["PDF"] = testfiles.PDFText(t, data)
		for form, text := range said {
			for _, words := range c.words {
				if !strings.Contains(text, words) {
					t.Errorf("%s as %s does not say %q: %s", name, form, words, text)
				}
			}
		}
	}
	checkPDF(t, dir)
	for file, words := range map[string]string{"x.gif": ".svg or .pdf", filepath.Join("no", "x.svg"): "no"} {
		if err := WriteFile(filepath.Join(dir, file), Timeline("", run.New())); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", file, err)
		}
	}
	if _, err := ChartsOf(OfPast)[1].Draw(Data{Past: history.NewPast(nil, history.NewHistory(nil, 0))}); !errors.Is(err, run.ErrNoRecord) {
		t.Errorf("of no runs there is %v", err)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, ".*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// checkPDF holds that a PDF shows names in other alphabets, a box for what its fonts do not have, and stays small.
func checkPDF(t *testing.T, dir string) {
	t.Helper()
	ran := run.New()
	start := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	for i, name := range []string{"θερμοκήπιο", "теплица", "ßłőž č", "▲ ◆ ∅", "温室"} {
		seconds := 5.0
		at := start.Add(time.Duration(i) * 5 * time.Second)
		ran.Apply(run.Event{Event: run.Started, At: at, ID: "u:g#" + name, Worker: 1})
		ran.Apply(run.Event{Event: run.Finished, At: at.Add(5 * time.Second), ID: "u:g#" + name, Worker: 1, Outcome: run.Passed, Seconds: &seconds})
	}
	file := filepath.Join(dir, "alphabets.pdf")
	if err := WriteFile(file, Timeline("Теплица", ran)); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(file)
	if err != nil || len(data) > 60_000 {
		t.Errorf("the PDF has %d bytes, %v", len(data), err)
	}
	text := testfiles.PDFText(t, data)
	for _, want := range []string{"Теплица", "θερμοκήπιο", "теплица", "ßłőž č", "▲ ♦ Ø", "□□"} {
		if !strings.Contains(text, want) {
			t.Errorf("the PDF does not say %q: %s", want, text)
		}
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
