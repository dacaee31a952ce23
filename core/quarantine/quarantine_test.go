package quarantine

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/order"
	"fernrelay/core/schedule"
)

func day(text string) time.Time {
	t, err := time.ParseInLocation(Day, text, time.Local)
	if err != nil {
		panic(err)
	}
	return t
}

// TestQuarantinedTestsRunLastAfterTheirCulprits schedules random tests with random lists: every test runs once, what is in
// quarantine comes last, and each victim runs in a fresh process after its culprits, with nothing but other cells' members.
func TestQuarantinedTestsRunLastAfterTheirCulprits(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 1))
		tests := make([]catalog.Test, 2+r.IntN(20))
		for i := range tests {
			tests[i] = catalog.Test{Suite: "go", Group: "pumps", Name: fmt.Sprint("T", i), Expected: r.Float64()}
		}
		c := catalog.New(tests)
		var list List
		for i := range c.Tests {
			if r.IntN(4) > 0 {
				continue
			}
			e := Entry{ID: c.Tests[i].ID, Reason: "known", Until: day("2026-12-01")}
			for range r.IntN(3) {
				if culprit := r.IntN(len(c.Tests)); culprit < i { // else victims may wait for each other
					e.After = append(e.After, c.Tests[culprit].ID)
				}
			}
			list = append(list, e)
		}
		settled, err := order.Settle(Last(list.Mark(c.Tests, day("2026-11-30"))))
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		options := schedule.Options{Workers: 1 + r.IntN(4), InOrder: r.IntN(2) == 0, Lasting: map[string]bool{"go": r.IntN(2) == 0}, Together: catalog.Levels[r.IntN(4)]}
		check(t, fmt.Sprint("seed ", seed), schedule.New(settled, options), list, len(c.Tests))
	}
}

// check holds a schedule to the list.
func check(t *testing.T, name string, s *schedule.Schedule, list List, tests int) {
	t.Helper()
	batchOf, at := map[string]int{}, map[string]int{}
	for b := range s.Batches {
		if b > 0 && s.Batches[b-1].Fresh && !s.Batches[b].Fresh {
			t.Fatalf("%s: batch %d comes after a quarantined one", name, b+1)
		}
		for i := range s.Batches[b].Tests {
			id := s.Batches[b].Tests[i].ID
			batchOf[id], at[id] = b, i
			if fresh := s.Batches[b].Tests[i].Asks().Cell != ""; fresh != s.Batches[b].Fresh {
				t.Fatalf("%s: %s is in batch %d, fresh: %v", name, id, b+1, s.Batches[b].Fresh)
			}
		}
	}
	if len(at) != tests {
		t.Fatalf("%s: %d of %d tests are in the schedule", name, len(at), tests)
	}
	for _, e := range list {
		for _, id := range e.After {
			if batchOf[id] != batchOf[e.ID] || at[id] > at[e.ID] {
				t.Fatalf("%s: %s does not run after %s", name, e.ID, id)
			}
		}
	}
}

func TestStreak(t *testing.T) {
	passed := func(before ...string) hunt.Past { return hunt.Past{Before: before} }
	failed := func(before ...string) hunt.Past { return hunt.Past{Bad: true, Before: before} }
	for _, test := range []struct {
		name string
		of   Entry
		past []hunt.Past
		want int
	}{
		{"after its culprits", Entry{After: []string{"a", "b"}}, []hunt.Past{passed("a", "c", "b"), passed("a"), passed(), passed("b", "a")}, 2},
		{"up to a failure", Entry{After: []string{"a"}}, []hunt.Past{passed("a"), failed("b"), failed("a"), passed("a")}, 1},
		{"without culprits, first of its process", Entry{}, []hunt.Past{passed(), passed("a"), passed(), failed()}, 2},
		{"a clash has no order", Entry{Beside: []string{"a"}}, []hunt.Past{passed(), passed("a")}, 0},
	} {
		if got := test.of.Streak(test.past); got != test.want {
			t.Errorf("%s: %d passes in a row, want %d", test.name, got, test.want)
		}
	}
}

// TestQuarantineEnds holds that the failures of a test are owed until the end of its last day.
func TestQuarantineEnds(t *testing.T) {
	list := List{{ID: "go:pumps#T", Reason: "known", Since: day("2026-11-01"), Until: day("2026-11-15")}}
	tests := catalog.New([]catalog.Test{{Suite: "go", Group: "pumps", Name: "T"}}).Tests
	for _, at := range []struct {
		now   time.Time
		ended bool
	}{{day("2026-11-15").Add(23*time.Hour + 59*time.Minute), false}, {day("2026-11-16"), true}} {
		marked := list.Mark(tests, at.now)
		if got := marked[0].Asks().Failure; got == nil || got.Ended != at.ended {
			t.Errorf("at %s: %+v", at.now, got)
		}
	}
	if slices.ContainsFunc(tests, func(t catalog.Test) bool { return t.Asked != nil }) {
		t.Error("marking changed the tests that it was given")
	}
	if days := list[0].Days(day("2026-11-12")); days != 11 {
		t.Errorf("%d days in quarantine, want 11", days)
	}
}
