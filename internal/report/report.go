// Package report prints plans, runs and findings as plain text, for the command line and for logs.
//
//	report.Failures(os.Stdout, r)
//	report.Closing(os.Stdout, r, picked, workers, planned)
package report

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/wording"
)

// The lines of a failed test's output that are printed, and the cells of a line.
const (
	outputLines = 12
	widest      = 400
)

// Failures prints every result that makes the run fail. Results of one group that failed with the same message at
// the same place are printed as one.
func Failures(w io.Writer, run *run.Run) {
	bad := run.Troubled()
	for i := 0; i < len(bad); {
		first := bad[i]
		same := i + 1
		for same < len(bad) && sameCause(first, bad[same]) {
			same++
		}
		failure(w, first, same-i)
		i = same
	}
}

// sameCause reports whether two results of a run failed together: those of a group that could not run at all, or of
// tests that did not run for want of a service.
func sameCause(a, b *run.Result) bool {
	return a.Outcome == run.Errored && b.Outcome == a.Outcome && a.Message == b.Message && (a.Batch == b.Batch || a.Seconds == 0 && b.Seconds == 0)
}

func failure(w io.Writer, r *run.Result, together int) {
	name := plain.Line(r.ID)
	if together > 1 {
		group, _, _ := strings.Cut(name, "#")
		name = fmt.Sprintf("%s, %d tests", group, together)
	}
	fmt.Fprintf(w, "%s %s  %s", r.Outcome.Shape(), name, r.Outcome)
	if r.Seconds > 0 {
		fmt.Fprintf(w, " in %s", history.Short(r.Seconds))
	}
	if at := r.Where(); at != "" {
		fmt.Fprint(w, "  ", plain.Line(at))
	}
	fmt.Fprintln(w)
	if r.Finding != nil {
		found(w, r.Finding)
	}
	message := plain.Text(r.Message)
	indent(w, message)
	failedSteps(w, r)
	compared(w, r)
	output := strings.TrimRight(plain.Text(run.WithoutBlock(string(r.Output), r.Message)), "\n ")
	if output == "" || strings.TrimSpace(output) == strings.TrimSpace(message) {
		return
	}
	lines := strings.Split(output, "\n")
	if cut := len(lines) - outputLines; cut > 0 {
		lines = append([]string{fmt.Sprintf("… %d lines before", cut)}, lines[cut:]...)
	}
	for i := range lines {
		lines[i] = "| " + lines[i]
	}
	indent(w, strings.Join(lines, "\n"))
}

// found prints what a hunt found, before the words of the test itself.
func found(w io.Writer, f *run.Finding) {
	indent(w, FindingWords(f))
	if f.See != "" {
		indent(w, "to see it: "+plain.Line(f.See))
	}
}

// stepsPrinted bounds the failed steps of a test that are named.
const stepsPrinted = 5

// failedSteps names the steps of a test that failed, each with its place and message unless they are the test's.
func failedSteps(w io.Writer, r *run.Result) {
	printed := 0
	for _, s := range r.Steps {
		if !s.Outcome.Bad() {
			continue
		}
		if printed++; printed > stepsPrinted {
			continue
		}
		words := fmt.Sprintf("%s step %s", s.Outcome.Shape(), plain.Line(s.Name))
		if s.File != "" && (s.File != r.File || s.Line != r.Line) {
			words += "  " + plain.Line(s.Where())
		}
		if s.Message != "" && !strings.Contains(r.Message, s.Message) {
			words += ": " + plain.Line(s.Message)
		}
		indent(w, words)
	}
	if more := printed - stepsPrinted; more > 0 {
		indent(w, fmt.Sprintf("and %s that failed", wording.Plural(more, "more step")))
	}
}

func indent(w io.Writer, text string) {
	for line := range strings.SplitSeq(text, "\n") {
		fmt.Fprintf(w, "    %s\n", ansi.Truncate(line, widest, "…"))
	}
}

// First prints what must be known before all else of the results that follow, unless it is empty.
func First(w io.Writer, words string) {
	if words != "" {
		fmt.Fprintln(w, plain.Line(words))
	}
}

// Builds prints a line for each build that failed, if that is all that a run did. It reports whether it is.
func Builds(w io.Writer, ran *run.Run) bool {
	if len(ran.Results) == 0 || slices.ContainsFunc(ran.Results, func(r *run.Result) bool { return !r.IsBuild() && !ran.Unbuilt(r) }) {
		return false
	}
	for _, r := range ran.Entries() {
		words, _, more := strings.Cut(r.Message, "\n")
		if more {
			words += " …"
		}
		fmt.Fprintf(w, "%s %s: %s\n", r.Outcome.Shape(), plain.Line(r.Where()), plain.Line(words))
	}
	return true
}

// mostReasons bounds the reasons why tests did not run that are printed.
const mostReasons = 6

// Notes prints what does not fail the run but should be known: tests that
// passed in a later try only, or though they are expected to fail, and why tests were
// skipped or lost.
func Notes(w io.Writer, ran *run.Run) {
	if ran.Note != "" {
		fmt.Fprintf(w, "beside the tests: %s\n", plain.Text(ran.Note))
	}
	for _, r := range ran.Flaky() {
		fmt.Fprintf(w, "%s %s  %s\n", r.Outcome.Shape(), plain.Line(r.ID), plain.Line(r.Message))
	}
	printOwed(w, ran)
	type reason struct {
		outcome run.Outcome
		words   string
	}
	counts := map[reason]int{}
	var reasons []reason
	for _, r := range ran.Results {
		switch r.Outcome {
		case run.Surprise:
			fmt.Fprintf(w, "%s %s  %s\n    %s\n", r.Outcome.Shape(), plain.Line(r.ID), r.Outcome, plain.Line(r.Message))
		case run.Skipped, run.Lost:
			why := reason{r.Outcome, cmp.Or(plain.Line(r.Message), "no reason given")}
			if counts[why]++; counts[why] == 1 {
				reasons = append(reasons, why)
			}
		}
	}
	slices.SortStableFunc(reasons, func(a, b reason) int { return counts[b] - counts[a] })
	for i, why := range reasons {
		if i == mostReasons {
			fmt.Fprintf(w, "%s and for %s\n", why.outcome.Shape(), wording.Plural(len(reasons)-i, "more reason"))
			return
		}
		fmt.Fprintf(w, "%s %d %s: %s\n", why.outcome.Shape(), counts[why], why.outcome, why.words)
	}
}

// Closing prints the result of the run in one line: the counts against the picked tests, and the time from the
// first test on against the plan, 0 if there was none, and against one worker. alone is how long one worker took for the
// same tests, 0 if that is not known: then it is estimated from how long each process takes alone, unless the tests never ran before.
func Closing(w io.Writer, run *run.Run, picked, workers int, planned, alone float64) {
	f := figuresOf(run)
	estimated := " estimated"
	switch {
	case workers == 1:
		f.alone, estimated = f.wall, ""
	case alone > 0:
		f.alone, estimated = alone, ""
	}
	fmt.Fprintf(w, "%d picked: %s; %s on %s", picked, run.Summary(), history.ClockTenths(f.wall), wording.Plural(workers, "worker"))
	if planned > 0 {
		fmt.Fprintf(w, ", planned %s", history.ClockTenths(planned))
	}
	switch {
	case planned <= 0 && estimated != "":
	case estimated != "" && f.noisy > noise*f.alone:
		fmt.Fprintf(w, ", alone %s–%s%s", history.ClockTenths(f.alone), history.ClockTenths(f.noisy), estimated)
		if f.wall > 0 {
			fmt.Fprintf(w, ": %.1f–%.1f ×", f.alone/f.wall, f.noisy/f.wall)
		}
	default:
		fmt.Fprintf(w, ", alone %s%s", history.ClockTenths(f.alone), estimated)
		if f.wall > 0 {
			fmt.Fprintf(w, ": %.1f ×", f.alone/f.wall)
		}
	}
	if f.workers > 1 {
		fmt.Fprintf(w, ", spread %s", history.Short(f.spread))
	}
	if f.steps > 0 {
		fmt.Fprintf(w, "; %s", wording.Plural(f.steps, "step"))
	}
	if f.ready >= 1 {
		fmt.Fprintf(w, "; %s to prepare", history.ClockTenths(f.ready))
	}
	fmt.Fprintln(w)
}

// noise is how many times as long the tests of a run took as they would have on a quiet machine, from which on both are printed.
const noise = 1.25

// Tried sums up a run of an order that was tried. Tests that did not get their turn before it was stopped are no outcome.
func Tried(ran *run.Run) string {
	lost := ran.Counts[run.Lost]
	if lost == 0 {
		return ran.Summary()
	}
	counts := maps.Clone(ran.Counts)
	delete(counts, run.Lost)
	return fmt.Sprintf("%s; stopped before %s", (&run.Run{Counts: counts}).Summary(), wording.Plural(lost, "more test"))
}

// figures are the totals of a run, in seconds and steps.
type figures struct {
	ready  float64 // until the first test
	wall   float64 // from then on
	alone  float64 // of all tests, one after another, as each takes alone
	noisy  float64 // the same as each took in this run
	spread float64 // from the end of the first worker to the end of the last
	steps  int

	workers int // that ran a test
}

func figuresOf(ran *run.Run) figures {
	var f figures
	ends := map[int]time.Time{} // by worker
	for _, r := range ran.Results {
		f.steps += len(r.Steps)
		f.noisy += r.Seconds
		if r.Worker == 0 || r.Outcome == run.Skipped {
			continue
		}
		if r.Ended.After(ends[r.Worker]) {
			ends[r.Worker] = r.Ended
		}
	}
	f.ready, f.wall, f.alone = ran.Prepared(), ran.Wall(), ran.Work+ran.Starts
	f.noisy += ran.Starts
	var all []time.Time
	for _, end := range ends {
		all = append(all, end)
	}
	if f.workers = len(all); f.workers > 1 {
		f.spread = slices.MaxFunc(all, time.Time.Compare).Sub(slices.MinFunc(all, time.Time.Compare)).Seconds()
	}
	return f
}

// owedNamed bounds the owed tests that are named.
const owedNamed = 200

// printOwed prints the names of the tests that failed as expected, with the first line of what they say.
func printOwed(w io.Writer, ran *run.Run) {
	printed := 0
	for _, r := range ran.Results {
		if r.Outcome != run.Owed {
			continue
		}
		if printed++; printed > owedNamed {
			continue
		}
		first, _, _ := strings.Cut(r.Message, "\n")
		fmt.Fprintf(w, "%s %s\n", r.Outcome.Shape(), strings.TrimSuffix(plain.Line(r.ID)+"  owed: "+plain.Line(first), ": "))
	}
	if more := printed - owedNamed; more > 0 {
		fmt.Fprintf(w, "and %s that failed as expected\n", wording.Plural(more, "more test"))
	}
}

// Part prints one report that is merged.
func Part(w io.Writer, p run.Part, kind string) {
	shard := ""
	if of := p.Run.Planned; of != nil {
		shard = fmt.Sprintf(", shard %d of %d", of.Shard, of.Of)
	}
	fmt.Fprintf(w, "%s  %s%s, %s\n", plain.Line(p.Name), kind, shard, p.Run.Summary())
}

// mostTwice bounds the tests in several reports that are named.
const mostTwice = 5

// Merged prints what several reports say together: the failures, the tests in several reports, the shards that are
// missing or were planned differently, and the counts.
func Merged(w io.Writer, m *run.Merged) {
	fmt.Fprintln(w)
	Failures(w, m.Run)
	Notes(w, m.Run)
	for i, twice := range m.Twice {
		if i == mostTwice {
			fmt.Fprintf(w, "and %s more in several reports\n", wording.Plural(len(m.Twice)-i, "test"))
			break
		}
		fmt.Fprintf(w, "%s is in several reports, of which the gravest counts: %s\n", plain.Line(twice.ID), plain.Line(strings.Join(twice.Parts, ", ")))
	}
	for _, words := range m.Unlike {
		fmt.Fprintf(w, "not planned alike: %s: tests may be missing, or run twice\n", plain.Line(words))
	}
	if m.Of > 0 {
		shardsBack(w, m)
	}
	fmt.Fprintf(w, "%s: %s\n", wording.Plural(m.Run.Tests(), "test"), m.Run.Summary())
}

// shardsBack writes how many shards came back, and which are broken or missing.
func shardsBack(w io.Writer, m *run.Merged) {
	fmt.Fprintf(w, "%d of %s came back", m.Of-len(m.Missing)-len(m.Broken)-len(m.Stale), wording.Plural(m.Of, "shard"))
	for _, lack := range []struct {
		word   string
		shards []int
	}{{"broken", m.Broken}, {"of another plan", m.Stale}, {"missing", m.Missing}} {
		if len(lack.shards) > 0 {
			fmt.Fprintf(w, "; %s: %s", lack.word, strings.Trim(strings.Join(strings.Fields(fmt.Sprint(lack.shards)), ", "), "[]"))
		}
	}
	fmt.Fprintln(w)
}

// Lack says which shards of a plan are missing, broken or stale, and how many tests are lost with them; "" if none is.
func Lack(m *run.Merged) string {
	var parts []string
	for _, lack := range []struct {
		word   string
		shards []int
	}{{"missing", m.Missing}, {"broken", m.Broken}, {"of another plan", m.Stale}} {
		if n := len(lack.shards); n > 0 {
			are := "are"
			if n == 1 {
				are = "is"
			}
			parts = append(parts, fmt.Sprintf("%s of %d %s %s", numbered(lack.shards), m.Of, are, lack.word))
		}
	}
	if parts == nil {
		return ""
	}
	words := "incomplete: " + strings.Join(parts, ", ")
	if lost := m.Run.Counts[run.Lost]; lost > 0 {
		return words + "; " + wording.Plural(lost, "test") + " lost"
	}
	return words + "; which tests these have is not known here"
}

// numbered names shards, as in "shards 2, 3".
func numbered(shards []int) string {
	words := "shard "
	if len(shards) > 1 {
		words = "shards "
	}
	return words + strings.Trim(strings.Join(strings.Fields(fmt.Sprint(shards)), ", "), "[]")
}

// MissingShards prints the tests of the plan that no report has and those of reports that it does not have, as far as they are known,
// and how to run the shards that never came back.
func MissingShards(w io.Writer, m *run.Merged, lost, beyond []string) {
	if len(lost) > 0 {
		fmt.Fprintf(w, "%s in no report: %s\n", wording.Plural(len(lost), "test"), namedTests(lost))
	}
	if len(beyond) > 0 {
		fmt.Fprintf(w, "%s of the reports not in the plan: %s\n", wording.Plural(len(beyond), "test"), namedTests(beyond))
	}
	again := slices.Sorted(slices.Values(slices.Concat(m.Missing, m.Stale)))
	if len(again) == 0 {
		return
	}
	pick := ""
	if m.Planned.Pick != "" {
		pick = " -p " + Quote(m.Planned.Pick)
	}
	fmt.Fprintln(w, "run what is missing, with the other flags of the plan:")
	for _, k := range again[:min(len(again), shardsNamed)] {
		fmt.Fprintf(w, "    fern-relay run --shard %d/%d%s\n", k, m.Of, pick)
	}
}

// shardsNamed bounds the missing shards for which a command is printed.
const shardsNamed = 5

// mostSlow bounds the slow tests that are printed.
const mostSlow = 10

// Slow prints the tests of a run that took longer than a limit, the slowest first.
func Slow(w io.Writer, ran *run.Run, limit time.Duration) {
	var slow []*run.Result
	for _, r := range ran.Results {
		if r.Seconds > limit.Seconds() {
			slow = append(slow, r)
		}
	}
	slices.SortStableFunc(slow, func(a, b *run.Result) int { return cmp.Compare(b.Seconds, a.Seconds) })
	for i, r := range slow {
		if i == mostSlow {
			fmt.Fprintf(w, "and %s more took longer than %s\n", wording.Plural(len(slow)-i, "test"), limit)
			return
		}
		fmt.Fprintf(w, "slow: %s took %s, more than %s\n", plain.Line(r.ID), history.Short(r.Seconds), limit)
	}
}
