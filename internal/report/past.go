package report

import (
	"cmp"
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"fernrelay/core/cause"
	"fernrelay/core/history"
	"fernrelay/core/order"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/ledger"
	"fernrelay/internal/wording"
)

// Between writes an interval: 4–19 %.
func Between(i history.Interval) string { return fmt.Sprintf("%.0f–%.0f %%", 100*i.Low, 100*i.High) }

// RunName names a run with its day and revision: run 7, 12 Nov, 9ab03f1.
func RunName(k *run.Record) string {
	words := fmt.Sprintf("run %d, %s", k.Number, k.Began.Format("2 Jan"))
	if k.Revision != "" {
		words += ", " + Revision(k)
	}
	return words
}

// Revision returns a run's revision, with a + if the tree differed from it.
func Revision(k *run.Record) string {
	if k.Dirty {
		return plain.Line(k.Revision) + "+"
	}
	return plain.Line(k.Revision)
}

// Runs lists runs, the latest first.
func Runs(w io.Writer, runs []*run.Record) {
	rows := [][]string{{"run", "began", "revision", "outcome", "wall", "work", "workers", "order", "pick"}}
	for i := len(runs) - 1; i >= 0; i-- {
		k := runs[i]
		wall := "–"
		if k.Wall() > 0 {
			wall = history.ClockTenths(k.Wall())
		}
		rows = append(rows, []string{fmt.Sprint(k.Number), k.Began.Format("2006-01-02 15:04"), cmp.Or(Revision(k), "–"), Counts(k.Counts), wall,
			history.ClockTenths(k.Work), fmt.Sprint(k.Workers), orderOf(k), cmp.Or(plain.Line(k.Pick), "all") + in(k) + from(k)})
	}
	table(w, rows)
}

// in says of which crossing a run is, empty for none.
func in(k *run.Record) string {
	if k.Crossing == "" {
		return ""
	}
	return "  in " + plain.Line(k.Crossing)
}

func from(k *run.Record) string {
	if k.Imported == "" {
		return ""
	}
	return "  from " + plain.Line(k.Imported)
}

// Counts returns counts of outcomes in words.
func Counts(counts map[run.Outcome]int) string {
	return (&run.Run{Counts: counts}).Summary()
}

// Size prints how large a ledger is.
func Size(w io.Writer, s ledger.Size, retention string) {
	fmt.Fprintf(w, "%s of %s, %s", wording.Plural(s.Runs, "run"), wording.Plural(s.Tests, "test"), wording.Bytes(s.Bytes))
	if s.Runs > 0 {
		fmt.Fprintf(w, "; from %s to %s", s.First.Format("2006-01-02"), s.Last.Format("2006-01-02"))
	}
	if s.Imported > 0 {
		fmt.Fprintf(w, "; %d imported", s.Imported)
	}
	fmt.Fprintf(w, "\n%s\n", retention)
}

// Causes prints the causes of a run's failures.
func Causes(w io.Writer, causes []history.KnownCause) {
	failures := 0
	for _, c := range causes {
		failures += len(c.Results)
	}
	fmt.Fprintf(w, "%s, %s\n", wording.Plural(failures, "failure"), wording.Plural(len(causes), "cause"))
	for _, c := range causes {
		fmt.Fprintf(w, "\n%s  %s\n", wording.Plural(len(c.Results), "test"), CauseWords(c))
		if at := CausePlace(c.Cause); at != "" {
			fmt.Fprintf(w, "    %s\n", at)
		}
		for i, r := range c.Results {
			if i == causeTests {
				fmt.Fprintf(w, "    … and %s more\n", wording.Plural(len(c.Results)-i, "test"))
				break
			}
			fmt.Fprintf(w, "    %s %s%s\n", r.Outcome.Shape(), plain.Line(r.ID), badSteps(r))
		}
		if c.Since != nil {
			fmt.Fprintf(w, "    since %s\n", RunName(c.Since))
		}
	}
}

// causeTests bounds the tests of a cause that are printed.
const causeTests = 20

// badSteps is the path of steps on which a test went wrong.
func badSteps(r *run.Result) string {
	for _, s := range r.Steps {
		if s.Outcome.Bad() {
			return "  in " + plain.Line(s.Name)
		}
	}
	return ""
}

// CauseWords returns in a line, cut if it is too long, what the failures of a cause have in common.
func CauseWords(c history.KnownCause) string {
	words := cut(plain.Line(c.Words), 300)
	if c.Lacks != nil {
		return lackWords(*c.Lacks) + ": " + words
	}
	return words
}

func lackWords(r cause.Resource) string {
	forms := map[string]string{"answer": "nobody answers", "file": "a file is missing", "port": "a port is taken", "program": "a program is missing",
		"module": "a module is missing", "permission": "permission is denied", "room": "the disk is full", "memory": "there is no memory left",
		"files": "too many files are open", "host": "a host is not known"}
	words := forms[r.Kind]
	if r.Name != "" {
		words += " (" + plain.Line(r.Name) + ")"
	}
	return words
}

// CausePlace returns the origin of a cause: clock/clock.go:41 from step(), and how it was reached.
func CausePlace(c cause.Cause) string {
	if c.Origin.File == "" {
		return ""
	}
	words := plain.Line(c.Origin.String())
	if f := c.Origin.Function; f != "" {
		words += " from " + shortFunction(f) + "()"
	}
	return words
}

// shortFunction is a function's name without its package's path.
func shortFunction(name string) string {
	name = plain.Line(name)
	name = name[strings.LastIndexByte(name, '/')+1:]
	if _, short, ok := strings.Cut(name, "."); ok && !strings.Contains(short, "/") {
		return short
	}
	return name
}

// Shaky lists the tests that do not always pass, the most troubled first.
func Shaky(w io.Writer, p *history.Past, tests []int) {
	if len(tests) == 0 {
		fmt.Fprintf(w, "every test passed whenever it ran, in %s\n", wording.Plural(len(p.Runs), "run"))
		return
	}
	rows := [][]string{{"passed", "of", "changes", "flaky", "last bad", "test"}}
	for _, at := range tests {
		f := &p.Figures[at]
		last := "–"
		if f.LastBad >= 0 {
			last = RunName(p.Runs[f.LastBad])
		}
		rows = append(rows, []string{wording.Percent(f.Rate), wording.Plural(f.Ran, "run"), fmt.Sprint(f.Flips), Between(f.Flaky), last, plain.Line(p.History.IDs[at])})
	}
	table(w, rows)
	fmt.Fprintf(w, "%s in the latest %s; flaky: how likely the outcome changes from one run to the next, in 19 of 20 cases\n", wording.Plural(len(tests), "test"), wording.Plural(len(p.Runs), "run"))
}

// Slowest prints where the time goes.
func Slowest(w io.Writer, s *history.Slowness) {
	fmt.Fprintf(w, "%s of work, %s on %s\n", history.ClockTenths(s.Work), history.ClockTenths(s.Finish), wording.Plural(s.Workers, "worker"))
	held := false
	for _, part := range []struct {
		name string
		slow []history.Slow
	}{{"tests", s.Tests}, {"groups", s.Groups}, {"files", s.Files}} {
		if len(part.slow) == 0 {
			continue
		}
		fmt.Fprintln(w)
		rows := [][]string{{part.name, "of all", "finish without it", "", "", ""}}
		for _, slow := range part.slow {
			gain := "–"
			if slow.Gain >= 0.005 {
				gain = "−" + history.Short(slow.Gain)
			} else {
				held = true
			}
			since := ""
			if slow.Since > 0 {
				since = fmt.Sprintf("from run %d on", slow.Since)
			}
			rows = append(rows, []string{history.Short(slow.Seconds), wording.Percent(slow.Share), gain, plain.Line(slow.Name), wording.TimeChange(slow.Seconds, slow.Before), since})
		}
		table(w, rows)
	}
	if held {
		fmt.Fprintln(w, "\n–: other tests set the finish; fern-relay split --here says which")
	}
}

// TestCard prints what the ledger knows of a test.
func TestCard(w io.Writer, c *history.Card) {
	fmt.Fprintf(w, "%s\n", plain.Line(c.ID))
	for _, line := range CardWords(c) {
		fmt.Fprintf(w, "    %s\n", line)
	}
	fmt.Fprintln(w)
	rows := [][]string{}
	reported := 0
	for i := len(c.Cells) - 1; i >= 0 && reported < mostRuns; i-- {
		o := c.Cells[i].Outcome()
		if o == "" {
			continue
		}
		reported++
		k := c.Runs[i]
		rows = append(rows, []string{o.Shape(), string(o), history.Short(float64(c.Cells[i].Seconds)), fmt.Sprintf("run %d", k.Number), k.Began.Format("2006-01-02 15:04"), Revision(k)})
	}
	table(w, rows)
}

// mostRuns bounds the runs of a test that are printed.
const mostRuns = 20

// CardWords returns the facts about a test in lines: its pass rate and how it changes, how flaky it is, its
// culprits, its time, since when it fails.
func CardWords(c *history.Card) []string {
	if c.Ran == 0 {
		return []string{"it did not come to an end in any of these runs"}
	}
	lines := []string{fmt.Sprintf("%d of %d passed, %s%s", c.Ran-c.Bad, c.Ran, wording.Percent(c.Rate), Earlier(c))}
	if c.Flips > 0 {
		lines = append(lines, fmt.Sprintf("%s of outcome; from one run to the next it changes in %s", wording.Plural(c.Flips, "change"), Between(c.Flaky)))
	}
	if c.Caught != nil {
		lines = append(lines, fmt.Sprintf("%s, caught in hunt %d", Sentence(*c.Caught.Finding), c.Caught.Number))
	}
	words := fmt.Sprintf("time %s, %s of all work", history.Short(c.Seconds), wording.Percent(c.Share))
	if c.Changed >= 0 {
		words += fmt.Sprintf("; %s from %s on, when it took %s before", wording.TimeChange(c.Seconds, c.Before), RunName(c.Runs[c.Changed]), history.Short(c.Before))
	}
	lines = append(lines, words)
	if c.First != nil {
		lines = append(lines, "first failed  "+RunName(c.First))
	}
	if c.LastBad >= 0 {
		lines = append(lines, "last failed   "+RunName(c.Runs[c.LastBad]))
	}
	if c.Well != nil {
		lines = append(lines, "last passed   "+RunName(c.Well))
	}
	return lines
}

// Earlier returns the pass rate up to ten runs ago if it was another.
func Earlier(c *history.Card) string {
	if math.Abs(c.Earlier.Share-c.Rate) < 0.01 || c.Earlier.High-c.Earlier.Low > 0.9 {
		return ""
	}
	return fmt.Sprintf(", was %s ten runs ago", wording.Percent(c.Earlier.Share))
}

// OtherPick says what an earlier run picked, if that was something else; "" if it was not.
func OtherPick(before, after *run.Record) string {
	if before.Pick == after.Pick {
		return ""
	}
	return ", which picked " + cmp.Or(plain.Line(before.Pick), "all")
}

// mostCompared bounds the differences of a kind that are printed.
const mostCompared = 30

// Compared prints how a run differs from an earlier one.
func Compared(w io.Writer, before, after *run.Record, c history.Comparison) {
	fmt.Fprintf(w, "%s, against %s%s\n", RunName(after), RunName(before), OtherPick(before, after))
	if c.Same() {
		fmt.Fprintln(w, "the same tests had the same outcomes, and noise explains the differences in time")
		return
	}
	for _, part := range []struct {
		name  string
		list  []history.Difference
		words func(d history.Difference) string
	}{
		{"newly failing", c.Failing, func(d history.Difference) string {
			return d.After.Outcome.Shape() + " " + plain.Line(d.ID) + "  " + cut(plain.Line(d.After.Message), 120)
		}},
		{"mended", c.Mended, func(d history.Difference) string { return d.After.Outcome.Shape() + " " + plain.Line(d.ID) }},
		{"slower", c.Slower, timesOf}, {"faster", c.Faster, timesOf},
		{"new", c.New, func(d history.Difference) string { return d.After.Outcome.Shape() + " " + plain.Line(d.ID) }},
		{"gone", c.Gone, func(d history.Difference) string { return plain.Line(d.ID) }},
	} {
		if len(part.list) == 0 {
			continue
		}
		fmt.Fprintf(w, "\n%s  %d\n", part.name, len(part.list))
		for i, d := range part.list {
			if i == mostCompared {
				fmt.Fprintf(w, "    … and %d more\n", len(part.list)-i)
				break
			}
			fmt.Fprintf(w, "    %s\n", part.words(d))
		}
	}
}

func timesOf(d history.Difference) string {
	return fmt.Sprintf("%s  %s, was %s", plain.Line(d.ID), history.Short(d.After.Seconds), history.Short(d.Before.Seconds))
}

// cut cuts a text after a number of characters.
func cut(text string, most int) string {
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return text
}

// Imported prints the result of an import.
func Imported(w io.Writer, i ledger.Imported, took time.Duration) {
	fmt.Fprintf(w, "%s read: %s with %s kept", wording.Plural(i.Files, "file"), wording.Plural(i.Runs, "run"), wording.Plural(i.Tests, "result"))
	if i.Findings > 0 {
		fmt.Fprintf(w, "; %s of hunts", wording.Plural(i.Findings, "finding"))
	}
	if i.Known > 0 {
		fmt.Fprintf(w, "; %s left out, known already", wording.Plural(i.Known, "file"))
	}
	if len(i.Broken) > 0 {
		fmt.Fprintf(w, "; %s left out, broken", wording.Plural(len(i.Broken), "file"))
	}
	fmt.Fprintf(w, "; %s\n", took.Round(10*time.Millisecond))
}

// Shown prints a run: how it was, its counts, its failures by cause, and where they are.
func Shown(w io.Writer, k *run.Record, run *run.Run, causes []history.KnownCause) {
	fmt.Fprintf(w, "%s  %s\n", RunName(k), Counts(k.Counts))
	for _, line := range RunWords(k) {
		fmt.Fprintf(w, "    %s\n", line)
	}
	fmt.Fprintln(w)
	if len(causes) > 0 {
		Causes(w, causes)
		fmt.Fprintln(w)
	}
	Failures(w, run)
	Notes(w, run)
}

// RunWords says how a run was, in lines.
func RunWords(k *run.Record) []string {
	words := fmt.Sprintf("%s of work", history.ClockTenths(k.Work))
	if k.Wall() > 0 {
		words += " in " + history.ClockTenths(k.Wall())
	}
	if k.Workers > 0 {
		words += " on " + wording.Plural(k.Workers, "worker")
	}
	lines := []string{fmt.Sprintf("began %s; %s", k.Began.Format("2006-01-02 15:04:05"), words)}
	lines = append(lines, fmt.Sprintf("pick %s; order %s", cmp.Or(plain.Line(k.Pick), "all"), orderOf(k)))
	if k.Crossing != "" {
		lines = append(lines, "crossing "+plain.Line(k.Crossing))
	}
	if k.Machine != "" {
		lines = append(lines, "on "+plain.Line(k.Machine))
	}
	if k.Imported != "" {
		lines = append(lines, "imported from "+plain.Line(k.Imported))
	}
	return lines
}

// orderOf says in which order a run ran its tests, and whether it is a trial.
func orderOf(k *run.Record) string {
	words := cmp.Or(plain.Line(k.Order), order.AsWritten)
	if k.Trial {
		words += ", a trial"
	}
	return words
}
