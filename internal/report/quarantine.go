package report

import (
	"fmt"
	"io"
	"strings"
	"time"

	"fernrelay/core/hunt"
	"fernrelay/core/plain"
	"fernrelay/core/quarantine"
	"fernrelay/core/run"
	"fernrelay/internal/wording"
)

// Reason says why a test that a hunt found is in quarantine.
func Reason(f hunt.Finding) string { return plain.Line(string(f.Verdict)) + ": " + Sentence(f) }

// Quarantined prints what became of the tests in quarantine, of a file, in a run, and which of them are mended. streaks has
// for each how many times in a row it passed in the order that used to break it.
func Quarantined(w io.Writer, file string, list quarantine.List, streaks []int, ran *run.Run) {
	counts := map[run.Outcome]int{}
	n := 0
	var mended strings.Builder
	for i := range list {
		r := ran.Result(list[i].ID)
		if r == nil {
			continue
		}
		n++
		counts[r.Outcome]++
		if streaks[i] >= quarantine.Mended {
			fmt.Fprintf(&mended, "mended: %s passed %d times in a row in the order that used to break it: remove it from %s\n", plain.Line(r.ID), streaks[i], plain.Line(file))
		}
	}
	if n > 0 {
		fmt.Fprintf(w, "%s in quarantine: %s\n%s", wording.Plural(n, "test"), Counts(counts), mended.String())
	}
}

// Quarantine lists tests in quarantine: how long each has been in it, until when, and how often in a row it passed in the
// order that used to break it.
func Quarantine(w io.Writer, list quarantine.List, streaks []int, now time.Time) {
	rows := [][]string{{"test", "for", "until", "passes", "hunt", "reason"}}
	for i := range list {
		e := &list[i]
		days := "–"
		if !e.Since.IsZero() {
			days = wording.Plural(e.Days(now), "day")
		}
		until := e.Until.Format(quarantine.Day)
		if e.Ended(now) {
			until += ", ended"
		}
		found := "–"
		if e.Hunt > 0 {
			found = fmt.Sprint(e.Hunt)
		}
		rows = append(rows, []string{plain.Line(e.ID), days, until, passes(e, streaks[i]), found, plain.Line(e.Reason)})
	}
	table(w, rows)
}

// passes says how often in a row a test passed in the order that used to break it.
func passes(e *quarantine.Entry, streak int) string {
	switch {
	case len(e.Beside) > 0:
		return "–"
	case streak >= quarantine.Mended:
		return "mended"
	}
	return fmt.Sprintf("%d of %d", streak, quarantine.Mended)
}
