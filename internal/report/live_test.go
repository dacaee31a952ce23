package report

import (
	"strings"
	"testing"
	"time"

	"fernrelay/core/run"
)

// TestLive holds that what belongs to a test is reported together, and only as much as
// is asked for.
func TestLive(t *testing.T) {
	for show, want := range map[string]string{
		ShowSum:   "",
		ShowNames: "▲ u:g#b  0.50 s\n▪ u:g#a\n",
		ShowFull:  "▲ u:g#b  0.50 s\n    said by b\n▪ u:g#a\n    one\n    ▪ step\n    two\n",
	} {
		var out strings.Builder
		l := NewLive(&out, show)
		for _, e := range []run.Event{
			{Event: run.Started, ID: "u:g#a"},
			{Event: run.Output, ID: "u:g#a", Text: "\x1b[31mone\n"},
			{Event: run.Output, ID: "u:g#b", Text: "said by b"},
			{Event: run.StepDone, ID: "u:g#a", Step: "step", Outcome: run.Passed},
			{Event: run.Finished, ID: "u:g#b", Outcome: run.Failed, Seconds: run.Took(0.5)},
			{Event: run.Output, ID: "u:g#a", Text: "two"},
			{Event: run.Finished, ID: "u:g#a", Outcome: run.Passed, Seconds: run.Took(0)},
		} {
			l.Event(e)
		}
		if out.String() != want {
			t.Errorf("%s reports\n%s\nwant\n%s", show, out.String(), want)
		}
	}
}

func TestRepeatedAndMerged(t *testing.T) {
	part := func(name string, results ...string) run.Part {
		r := run.New()
		r.Apply(run.Event{Event: run.RunBegins, At: time.Unix(1, 0), About: run.About{Planned: &run.Planned{Shard: 1, Of: 2, Plan: name}}})
		for _, text := range results {
			id, o, _ := strings.Cut(text, " ")
			r.Apply(run.Event{Event: run.Finished, ID: id, Outcome: run.Outcome(o), Failure: run.Failure{Message: "it leaks"}})
		}
		return run.Part{Name: name, Run: r}
	}
	parts := []run.Part{part("run 1", "u:g#a passed", "u:g#b failed", "u:g#c passed"), part("run 2", "u:g#a passed", "u:g#b passed", "u:g#c skipped"), part("run 3", "u:g#a passed", "u:g#b failed")}
	var out strings.Builder
	Repeated(&out, parts)
	Repeated(&out, parts[:1])
	Part(&out, parts[0], "junit")
	Merged(&out, run.Merge(parts[:2]))
	want := `3 runs: 2 tests differed
    u:g#b  passed 1, failed 2 of 3
    u:g#c  passed 1, skipped 1 of 3
1 run: nothing differed
run 1  junit, shard 1 of 2, 2 passed, 1 failed

▲ u:g#b  failed
    it leaks
u:g#a is in several reports, of which the gravest counts: run 1, run 2
u:g#b is in several reports, of which the gravest counts: run 1, run 2
u:g#c is in several reports, of which the gravest counts: run 1, run 2
not planned alike: run 2 is shard 1 of 2, planned with other flags, unlike run 1: tests may be missing, or run twice
1 of 2 shards came back; missing: 2
3 tests: 2 passed, 1 failed
`
	if out.String() != want {
		t.Errorf("reported\n%s\nwant\n%s", out.String(), want)
	}
}
