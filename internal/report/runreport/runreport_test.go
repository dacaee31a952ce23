package runreport

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fernrelay/core/run"
	"fernrelay/internal/format"
	"fernrelay/internal/ledger"
	"fernrelay/internal/ledger/ledgertest"
	"fernrelay/internal/testfiles"
)

// hostile is text that would act in a page, a summary or a terminal.
const hostile = "</pre><script>alert(1)</script> | `x` [a](javascript:b) \x1b[2J\u202e &amp; ]]>"

// ran returns a run of tests of which every third fails, and the last with hostile text.
func ran(tests int) *run.Run {
	r := run.New()
	began := time.Date(2026, 11, 3, 9, 0, 0, 0, time.UTC)
	r.Apply(run.Event{Event: run.RunBegins, At: began})
	for n := range tests {
		id := fmt.Sprintf("u:beds/row%d#TestBed%d", n%4, n)
		at := began.Add(time.Duration(n) * time.Second)
		e := run.Event{Event: run.Started, ID: id, Worker: 1 + n%2, Batch: 1 + n%2, At: at}
		r.Apply(e)
		e.Event, e.Outcome, e.Seconds, e.At = run.Finished, run.Passed, run.Took(0.5), at.Add(time.Second/2)
		if n%3 == 2 {
			e.Outcome, e.Failure = run.Failed, run.Failure{Message: fmt.Sprintf("bed %d is dry", n), File: "beds/bed.go", Line: 7 + n}
		}
		if n == tests-1 {
			e.Outcome, e.Failure = run.Failed, run.Failure{Message: hostile, File: hostile, Line: 1, Expected: hostile, Actual: hostile}
			r.Apply(run.Event{Event: run.Output, ID: id, Text: hostile + "\n"})
		}
		r.Apply(e)
	}
	r.Apply(run.Event{Event: run.RunEnds, At: began.Add(time.Duration(tests) * time.Second)})
	return r
}

// kept keeps a run in a ledger with a past, and collects its report.
func kept(t *testing.T, r *run.Run) *About {
	t.Helper()
	l, err := ledger.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	var ids []string
	for _, res := range r.Results {
		ids = append(ids, res.ID)
	}
	if err := ledgertest.Fill(l, ids, 12); err != nil {
		t.Fatal(err)
	}
	number, err := l.Keep(run.Record{Meta: run.Meta{Pick: hostile, Workers: 2, Order: hostile, Source: run.Source{Revision: hostile}}}, r)
	if err != nil {
		t.Fatal(err)
	}
	record, _, err := l.Run(number)
	if err != nil {
		t.Fatal(err)
	}
	a, err := Of(Project{Name: hostile, File: func(string) string { return "beds/bed_test.go" }}, l, record, r)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// write writes a report and returns what it says.
func write(t *testing.T, a *About, name string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	if err := WriteFile(file, a); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if strings.EqualFold(filepath.Ext(name), ".pdf") {
		return testfiles.PDFText(t, data)
	}
	return string(data)
}

// checkPage holds that a page is whole, as every element that begins ends, and that no script of others is in it.
func checkPage(t *testing.T, page string) {
	t.Helper()
	if strings.Contains(page, "alert(1)</script") || strings.Contains(page, "\x1b") || strings.Contains(page, "\u202e") {
		t.Error("the page has hostile text that acts")
	}
	d := xml.NewDecoder(strings.NewReader(page))
	d.Strict, d.AutoClose, d.Entity = false, xml.HTMLAutoClose, xml.HTMLEntity
	var open []string
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatalf("the page is broken within %v: %v", open, err)
		}
		switch token := token.(type) {
		case xml.StartElement:
			open = append(open, token.Name.Local)
		case xml.EndElement:
			if len(open) == 0 || open[len(open)-1] != token.Name.Local {
				t.Fatalf("%s ends within %v", token.Name.Local, open)
			}
			open = open[:len(open)-1]
		}
	}
	if len(open) > 0 {
		t.Errorf("%v do not end", open)
	}
}

// checkSummary holds that a summary has hostile text only as code, or with what makes Markdown of it escaped.
func checkSummary(t *testing.T, summary string) {
	t.Helper()
	fenced := false
	for line := range strings.SplitSeq(summary, "\n") {
		if strings.HasPrefix(line, "```") {
			fenced = !fenced
		}
		isCode := fenced || strings.Contains(line, "``")
		if strings.Contains(strings.ReplaceAll(line, `\<script>`, ""), "<script>") && !isCode {
			t.Errorf("the summary has a line with hostile text that acts: %s", line)
		}
	}
	if fenced {
		t.Error("a block of code does not end")
	}
}

// TestReportsSayTheSame writes a run with hostile names and texts in each form: each has the counts, each failing test and the words
// of its failure, and nothing of it acts.
func TestReportsSayTheSame(t *testing.T) {
	a := kept(t, ran(20))
	forms := map[string]string{}
	for _, ending := range Endings {
		forms[ending] = write(t, a, "run"+strings.ToUpper(ending))
		for _, res := range a.Run.Troubled() {
			name := res.ID[strings.Index(res.ID, "#")+1:]
			if !strings.Contains(forms[ending], name) {
				t.Errorf("the report %s does not name %s", ending, name)
			}
		}
		if ending != ".xml" && !strings.Contains(forms[ending], "7 failures, ") {
			t.Errorf("the report %s does not count 7 failures", ending)
		}
		if ending != ".pdf" && !strings.Contains(forms[ending], "bed 5 is dry") {
			t.Errorf("the report %s lacks a message", ending)
		}
		if strings.ContainsAny(forms[ending], "\x1b\u202e") {
			t.Errorf("the report %s has characters that act", ending)
		}
	}
	checkPage(t, forms[".html"])
	checkSummary(t, forms[".md"])
	back, _, err := format.ReadRun(strings.NewReader(forms[".xml"]))
	if err != nil || len(back.Results) != 20 || run.CountBad(back.Counts) != 7 {
		t.Errorf("the JUnit XML has %d results, %v, %v", len(back.Results), back.Counts, err)
	}
}

// TestReportsAreBounded writes a run of which a thousand tests fail: no form has them all in full, and each says how many it leaves out.
func TestReportsAreBounded(t *testing.T) {
	a := kept(t, ran(3000))
	for ending, most := range map[string]int{".html": 8 << 20, ".md": 1 << 20} {
		text := write(t, a, "run"+ending)
		if len(text) > most || !strings.Contains(text, "1000 failures, ") || !strings.Contains(text, "more") {
			t.Errorf("the report %s has %d bytes, at most %d are expected", ending, len(text), most)
		}
		if ending == ".html" {
			checkPage(t, text)
		}
	}
}

// TestMergedReportSaysWhatIsMissing reports shards of which one never came back, and one was broken, before all else.
func TestMergedReportSaysWhatIsMissing(t *testing.T) {
	l, err := ledger.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	var parts []run.Part
	for k := 1; k <= 2; k++ {
		r := run.New()
		r.Apply(run.Event{Event: run.RunBegins, About: run.About{Planned: &run.Planned{Shard: k, Of: 3, Plan: "p"}}})
		r.Apply(run.Event{Event: run.Finished, ID: fmt.Sprint("u:g#", k), Outcome: run.Passed, Seconds: run.Took(1)})
		parts = append(parts, run.Part{Name: fmt.Sprintf("shard-%d.xml", k), Run: r, Broken: k == 2})
	}
	a, err := OfMerged(Project{Name: "glasshouse", File: func(string) string { return "" }}, l, run.Merge(parts), parts, []string{"shard-2.xml is broken: it ends early"})
	if err != nil {
		t.Fatal(err)
	}
	if len(a.First) != 1 || !strings.Contains(a.First[0], "3") {
		t.Errorf("first it says %q", a.First)
	}
	for _, ending := range []string{".html", ".md"} {
		text := write(t, a, "all"+ending)
		first, missing := strings.Index(text, a.First[0]), strings.Index(text, "shard 3 of 3 is missing")
		if first < 0 || missing < first || !strings.Contains(text, "shard-2.xml is broken") {
			t.Errorf("the report %s says what is missing at %d and %d:\n%s", ending, first, missing, text)
		}
	}
}

// TestCheck refuses files that no report can be written into, and WriteFile leaves nothing there.
func TestCheck(t *testing.T) {
	for _, name := range []string{"run.html", "RUN.MD", "a.b.pdf", "x.xml"} {
		if err := Check(name); err != nil {
			t.Errorf("Check(%q): %v", name, err)
		}
	}
	dir := t.TempDir()
	for name, words := range map[string]string{"run": ".html, .md, .pdf, .xml", "run.doc": ".html, .md, .pdf, .xml", filepath.Join("none", "run.md"): "no such file"} {
		if err := WriteFile(filepath.Join(dir, name), kept(t, ran(2))); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("WriteFile(%q): %v, want %q", name, err, words)
		}
	}
	if left, err := os.ReadDir(dir); err != nil || len(left) > 0 {
		t.Errorf("left are %v, %v", left, err)
	}
}
