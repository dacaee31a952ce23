// Package quarantine keeps tests whose failures are known from failing a run, until a date.
//
//	tests = list.Mark(tests, time.Now())
//	tests, err = order.Settle(quarantine.Last(tests))
//	s := schedule.New(tests, schedule.Options{})
//
// A quarantined test runs after all others, in a fresh process of its own, right after the culprits that are known to break
// it. So every run shows whether it is still broken, and the culprits break nothing else. [Entry.Streak] counts the runs in a
// row in which it passed all the same.
package quarantine

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
)

// An Entry is one test in quarantine.
type Entry struct {
	ID     string
	Reason string
	Since  time.Time // the day on which it came into quarantine; zero if that is not known
	Until  time.Time // the last day on which its failures are owed
	Hunt   int       // the number of the hunt in the ledger that found the reason; 0 for none
	After  []string  // IDs of the culprits: it fails after them
	Beside []string  // IDs of tests with which it clashes while both run: it never runs beside them
}

// Day is how the dates of an entry are written.
const Day = time.DateOnly

// Ended reports whether the failures of the test are owed no more.
func (e *Entry) Ended(now time.Time) bool { return !now.Before(e.Until.AddDate(0, 0, 1)) }

// Days returns the full days since the test came into quarantine; 0 if that is not known.
func (e *Entry) Days(now time.Time) int {
	if e.Since.IsZero() {
		return 0
	}
	return max(0, int(now.Sub(e.Since).Hours()/24))
}

// known returns what a run says of a failure of the test.
func (e *Entry) known(now time.Time) *catalog.KnownFailure {
	if e.Ended(now) {
		return &catalog.KnownFailure{Words: fmt.Sprintf("its quarantine ended on %s (%s)", e.Until.Format(Day), e.Reason), Ended: true}
	}
	return &catalog.KnownFailure{Words: fmt.Sprintf("in quarantine until %s (%s)", e.Until.Format(Day), e.Reason)}
}

// DaysOwed is how long a test that a hunt found stays in quarantine, unless somebody changes the date.
const DaysOwed = 14

// Mended is the number of passes in a row, in the order that used to break a test, after which it counts as mended, and
// Looked the number of its latest runs that are looked at.
const (
	Mended = 20
	Looked = 60
)

// Streak returns in how many of the latest runs in a row the test passed in the order that used to break it: after its
// culprits, or as the first of its process if it has none. past has what its process had run before it, the latest run
// first; runs in other orders do not count. A test that only clashes with others while both run has no such order.
func (e *Entry) Streak(past []hunt.Past) int {
	streak := 0
	for _, p := range past {
		switch {
		case !e.breaking(p.Before):
		case p.Bad:
			return streak
		default:
			streak++
		}
	}
	return streak
}

// breaking reports whether the tests before it are those that used to break the test.
func (e *Entry) breaking(before []string) bool {
	switch {
	case len(e.Beside) > 0:
		return false
	case len(e.After) == 0:
		return len(before) == 0
	}
	return !slices.ContainsFunc(e.After, func(id string) bool { return !slices.Contains(before, id) })
}

// A List is the tests in quarantine.
type List []Entry

// Mark returns the tests with those in quarantine and their culprits in cells.
func (l List) Mark(tests []catalog.Test, now time.Time) []catalog.Test {
	if len(l) == 0 {
		return tests
	}
	marked := slices.Clone(tests)
	at := make(map[string]int, len(marked))
	for i := range marked {
		at[marked[i].ID] = i
	}
	for i := range l {
		if victim, picked := at[l[i].ID]; picked {
			l[i].mark(marked, at, victim, now)
		}
	}
	return marked
}

// Last returns the tests with those that are in cells at the end, cell by cell.
func Last(tests []catalog.Test) []catalog.Test {
	inCell := func(t catalog.Test) bool { return t.Asks().Cell != "" }
	if !slices.ContainsFunc(tests, inCell) {
		return tests
	}
	return slices.SortedStableFunc(slices.Values(tests), func(a, b catalog.Test) int { return strings.Compare(a.Asks().Cell, b.Asks().Cell) })
}

// from is where the rules of the list come from.
const from = "the quarantine"

// mark marks the victim of an entry, whose place is known, and the culprits that are among the tests.
func (e *Entry) mark(tests []catalog.Test, at map[string]int, victim int, now time.Time) {
	v := &tests[victim]
	v.Ask(func(a *catalog.Asked) { a.Failure = e.known(now) })
	join(tests, victim, victim)
	for _, id := range e.After {
		if culprit, picked := at[id]; picked {
			v.WaitFor(id, from)
			join(tests, victim, culprit)
		}
	}
	for _, id := range e.Beside {
		if other, picked := at[id]; picked {
			v.StayApart(e.ID, from)
			tests[other].StayApart(e.ID, from)
		}
	}
}

// join puts two tests into one cell, with those that share a cell with either.
func join(tests []catalog.Test, a, b int) {
	into, other := tests[a].Asks().Cell, tests[b].Asks().Cell
	if into == "" {
		into = tests[a].ID
	}
	enter := func(a *catalog.Asked) { a.Cell = into }
	tests[a].Ask(enter)
	tests[b].Ask(enter)
	if other == "" || other == into {
		return
	}
	for i := range tests {
		if tests[i].Asks().Cell == other {
			tests[i].Ask(enter)
		}
	}
}

// Has reports whether a test is in quarantine.
func (l List) Has(id string) bool {
	return slices.ContainsFunc(l, func(e Entry) bool { return e.ID == id })
}

// Of returns the entry of a test that a hunt found, from now on for [DaysOwed] days; ok is false unless the outcome of the test
// depends on the order or on chance.
func Of(f hunt.Finding, reason string, now time.Time) (e Entry, ok bool) {
	e = Entry{ID: f.ID, Reason: reason, Since: now, Until: now.AddDate(0, 0, DaysOwed)}
	if len(f.Mended) > 0 {
		return e, false
	}
	switch f.Verdict {
	case hunt.Polluted:
		if f.Overlap {
			e.Beside = f.Culprits[0]
		} else {
			e.After = f.Culprits[0]
		}
	case hunt.Brittle, hunt.Flaky:
	default:
		return e, false
	}
	return e, true
}
