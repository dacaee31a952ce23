package run

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

func part(name string, planned *Planned, results ...string) Part {
	run := New()
	run.Apply(Event{Event: RunBegins, At: time.Unix(1000, 0), About: About{Planned: planned}})
	for _, text := range results {
		id, o, _ := strings.Cut(text, " ")
		run.Apply(Event{Event: Finished, ID: id, Outcome: Outcome(o), Seconds: Took(1), Failure: Failure{Message: name}})
	}
	return Part{Name: name, Run: run}
}

// TestMerge merges shards of a plan: all there, one missing, one planned otherwise,
// and tests that are reported twice, of which the gravest outcome counts.
func TestMerge(t *testing.T) {
	plan := func(shard, of int, plan, catalog, timings string) *Planned {
		return &Planned{Shard: shard, Of: of, Plan: plan, Catalog: catalog, Timings: timings}
	}
	first := part("1.xml", plan(1, 3, "p", "c", "t"), "a passed", "b failed")
	second := part("2.xml", plan(2, 3, "p", "c", "t"), "c passed", "b passed")
	third := part("3.xml", plan(3, 3, "p", "c", "t"), "d lost")
	again := part("again.xml", nil, "d passed", "a skipped")
	odd := part("odd.xml", plan(3, 4, "q", "c", "u"), "e passed")
	later := part("later.xml", plan(3, 3, "p", "c", "u"), "e passed") // with other times, which make the same plan
	unmet := part("unmet.xml", plan(3, 3, "q", "c", "u"), "e skipped")
	first.Run.Planned.Conditions, unmet.Run.Planned.Conditions = map[string]bool{"env:DEEP=yes": true}, map[string]bool{"env:DEEP=yes": false}
	flags := part("flags.xml", plan(3, 3, "q", "c", "t"))
	stale := part("stale.xml", plan(1, 3, "r", "d", "t"), "old passed")
	for _, c := range []struct {
		parts   []Part
		summary string
		words   string
	}{
		{[]Part{first, second, third, again}, "3 passed, 1 failed", "of 3 missing [] twice b[1.xml 2.xml] d[3.xml again.xml] a[1.xml again.xml]"},
		{[]Part{second, first}, "2 passed, 1 failed", "of 3 missing [3] twice b[2.xml 1.xml]"},
		{[]Part{stale, second, third}, "3 passed, 1 lost", "of 3 missing [] twice stale.xml is shard 1 of 3, planned with other tests, unlike 2.xml stale [1]"},
		{[]Part{first, odd}, "2 passed, 1 failed", "of 3 missing [2] twice odd.xml is shard 3 of 4, planned with another number of shards and other times, unlike 1.xml stale [3]"},
		{[]Part{second, flags}, "2 passed", "of 3 missing [1] twice flags.xml is shard 3 of 3, planned with other flags, unlike 2.xml stale [3]"},
		{[]Part{first, later}, "2 passed, 1 failed", "of 3 missing [2] twice"},
		{[]Part{first, unmet}, "1 passed, 1 failed, 1 skipped", `of 3 missing [2] twice unmet.xml is shard 3 of 3, planned with the condition "env:DEEP=yes" not met, which is met there, unlike 1.xml stale [3]`},
		{[]Part{again}, "1 passed, 1 skipped", "of 0 missing [] twice"},
		{nil, "nothing ran", "of 0 missing [] twice"},
	} {
		m := Merge(c.parts)
		words := []string{fmt.Sprintf("of %d missing %v twice", m.Of, m.Missing)}
		slices.SortStableFunc(m.Twice, func(a, b Twice) int { return strings.Compare(a.Parts[0], b.Parts[0]) })
		var twice []string
		for _, two := range m.Twice {
			twice = append(twice, two.ID+fmt.Sprint(two.Parts))
		}
		words = append(words, m.Unlike...)
		if m.Stale != nil {
			words = append(words, fmt.Sprintf("stale %v", m.Stale))
		}
		got := strings.Join(words, " ")
		for _, two := range twice {
			if !strings.Contains(c.words, two) {
				t.Errorf("%s is reported to be there twice, want %s", two, c.words)
			}
		}
		if m.Run.Summary() != c.summary || !strings.HasPrefix(c.words, strings.TrimSuffix(got, " ")) && len(m.Unlike) == 0 || len(m.Unlike) > 0 && got != c.words {
			t.Errorf("merged are %s: %s; want %s: %s", m.Run.Summary(), got, c.summary, c.words)
		}
		if want := len(m.Missing)+len(m.Unlike) == 0; m.Whole() != want {
			t.Errorf("whole is %t of %s", m.Whole(), got)
		}
	}
	if got := first.Run.Result("b"); got.Outcome != Failed || first.Run.Counts[Failed] != 1 {
		t.Error("merging has changed a part")
	}
}

// TestMergeCounts holds that however parts are cut and doubled, every test is
// counted once, and that replaying the result gives the same run.
func TestMergeCounts(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		var parts []Part
		gravest := map[string]int{}
		for p := range 1 + random.IntN(5) {
			var results []string
			for i := range random.IntN(20) {
				o := random.IntN(len(rank))
				id := fmt.Sprint("t", i)
				results = append(results, id+" "+string(rank[o]))
				if known, ok := gravest[id]; !ok || o < known {
					gravest[id] = o
				}
			}
			parts = append(parts, part(fmt.Sprint(p), nil, results...))
		}
		m := Merge(parts)
		again := New()
		m.Run.Replay(again.Apply)
		for _, run := range []*Run{m.Run, again} {
			if run.Done() != len(gravest) || len(run.Results) != len(gravest) {
				t.Fatalf("%d of %d tests are counted", run.Done(), len(gravest))
			}
			for id, o := range gravest {
				if got := run.Result(id); got.Outcome != rank[o] || got.Seconds != 1 {
					t.Fatalf("%s is %+v, want %s", id, got, rank[o])
				}
			}
		}
	}
}

// TestMergeApart holds that tests of different runs never seem to have run in one process, and on one worker only if no
// machines are named.
func TestMergeApart(t *testing.T) {
	of := func(id string) *Run {
		r := New()
		r.Apply(Event{Event: Started, ID: id, Worker: 1, Batch: 1})
		r.Apply(Event{Event: Finished, ID: id, Worker: 1, Batch: 1, Outcome: Passed})
		return r
	}
	resumed := Merge([]Part{{Run: of("a")}, {Run: of("b")}}).Run
	if a, b := resumed.Result("a"), resumed.Result("b"); a.Worker != b.Worker || a.Batch == b.Batch {
		t.Errorf("on one machine, %+v and %+v", a, b)
	}
	parts := []Part{{Run: of("a")}, {Run: of("b")}}
	parts[0].Run.On("moss")
	parts[1].Run.On("fern")
	shards := Merge(parts).Run
	if a, b := shards.Result("a"), shards.Result("b"); a.Worker == b.Worker || a.Batch == b.Batch || shards.PlaceOf(b.Worker) != (Place{"fern", 1}) {
		t.Errorf("on two machines, %+v and %+v at %+v", a, b, shards.Places)
	}
}
