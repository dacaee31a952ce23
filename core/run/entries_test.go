package run

import (
	"strings"
	"testing"
)

// applied returns the run of some results, each as "ID outcome", with an ! before an entry.
func applied(results ...string) *Run {
	r := New()
	for _, text := range results {
		text, entry := strings.CutPrefix(text, "!")
		id, o, _ := strings.Cut(text, " ")
		r.Apply(Event{Event: Finished, ID: id, Outcome: Outcome(o), Entry: entry, Seconds: Took(1), Failure: Failure{Message: o}})
	}
	return r
}

// TestCountsOfEntriesAndSeveralResults holds what a run of some results is: entries fail it and count as no tests, of several results of
// a test the worst counts, and tests that a build explains are not missing.
func TestCountsOfEntriesAndSeveralResults(t *testing.T) {
	for _, c := range []struct {
		results []string
		summary string
		status  int
		tests   int
		several string
	}{
		{[]string{"s:g#a passed"}, "1 passed", 0, 1, ""},
		{[]string{"s:g#a passed", "!s:g#process errored"}, "1 passed, 1 error beyond the tests", 1, 1, ""},
		{[]string{"s:g#a passed", "!s:g#process timed-out", "!s:h#process errored"}, "1 passed, 2 errors beyond the tests", 1, 1, ""},
		{[]string{"!s:g#build errored", "s:g#a lost", "s:g#b lost", "s:h#c passed"}, "1 passed, 2 lost, 1 error beyond the tests", 1, 3, ""},
		{[]string{"!s:g#build errored", "s:g#a lost", "s:h#c lost"}, "2 lost, 1 error beyond the tests", 3, 2, ""},
		{[]string{"!s:g#process errored", "s:g#a lost"}, "1 lost, 1 error beyond the tests", 3, 1, ""},
		{[]string{"s:g#build errored", "s:g#a lost"}, "1 errored, 1 lost", 3, 2, ""}, // a test of that name
		{[]string{"s:g#a passed", "s:g#a failed"}, "1 failed", 1, 1, "1 test has several results, of which the worst counts: s:g#a"},
		{[]string{"s:g#a failed", "s:g#a passed", "s:g#a passed"}, "1 failed", 1, 1, "1 test has several results, of which the worst counts: s:g#a"},
		{[]string{"s:g#a skipped", "s:g#a passed", "s:g#b owed", "s:g#b errored"}, "1 passed, 1 errored", 1, 2, "2 tests have several results, of which the worst counts: s:g#a, s:g#b"},
		{[]string{"s:g#a lost", "s:g#a passed"}, "1 passed", 0, 1, ""}, // as of a run that is resumed
		{[]string{"s:g#a passed", "s:g#a lost"}, "1 passed", 0, 1, ""},
	} {
		r := applied(c.results...)
		replayed := New()
		r.Replay(replayed.Apply)
		merged := Merge([]Part{{Name: "1", Run: r}}).Run
		for what, r := range map[string]*Run{"": r, " replayed": replayed, " merged": merged} {
			if r.Summary() != c.summary || r.ExitStatus() != c.status || r.Tests() != c.tests {
				t.Errorf("%v%s: %s, status %d, %d tests; want %s, status %d, %d tests", c.results, what, r.Summary(), r.ExitStatus(), r.Tests(), c.summary, c.status, c.tests)
			}
		}
		if got := r.Several(); got != c.several {
			t.Errorf("%v: Several returned %q, want %q", c.results, got, c.several)
		}
		if merged.Note != c.several {
			t.Errorf("%v: the merged run notes %q, want %q", c.results, merged.Note, c.several)
		}
	}
	r := applied("s:g#a failed", "!s:g#process errored", "!s:h#build errored")
	if bad := r.Troubled(); len(bad) != 3 || bad[0].ID != "s:h#build" {
		t.Errorf("in trouble are %v, want the build first", bad)
	}
}

// TestSourcesDiffer holds which sources may be mixed: revisions cut to different lengths are the same, and what is not known differs
// from nothing.
func TestSourcesDiffer(t *testing.T) {
	for _, c := range []struct {
		a, b   Source
		differ bool
	}{
		{Source{}, Source{Revision: "4f2a9c1"}, false},
		{Source{Revision: "4f2a9c1"}, Source{Revision: "4f2a9c1d8e"}, false},
		{Source{Revision: "4f2a9c1"}, Source{Revision: "4f2a9c1", Dirty: true}, false}, // no source differs
		{Source{Revision: "4f2a9c1"}, Source{Revision: "4f2a9c1", Content: "81d2"}, true},
		{Source{Revision: "4f2a9c1", Content: "81d2"}, Source{Revision: "4f2a9c1", Content: "81d3"}, true},
		{Source{Revision: "4f2a9c1"}, Source{Revision: "77aa001"}, true},
	} {
		if c.a.Differs(c.b) != c.differ || c.b.Differs(c.a) != c.differ {
			t.Errorf("%v and %v differ: %t, want %t", c.a, c.b, c.a.Differs(c.b), c.differ)
		}
	}
	a, b := applied("s:g#a passed"), applied("s:g#b passed")
	a.Apply(Event{Event: RunBegins, About: About{Meta: &Meta{Source: Source{Revision: "4f2a9c1"}}}})
	b.Apply(Event{Event: RunBegins, About: About{Earlier: &Source{Revision: "77aa001"}}}) // as an earlier version wrote it
	merged := Merge([]Part{{Name: "1.xml", Run: a}, {Name: "2.xml", Run: b}, {Name: "3.xml", Run: applied()}})
	if want := "mixed: 2.xml is of 77aa001, and 1.xml of 4f2a9c1"; len(merged.Mixed) != 1 || merged.Run.Mixed != want || merged.Run.Meta != nil {
		t.Errorf("merged are %q, of %v; want %q", merged.Mixed, merged.Run.Meta, want)
	}
}
