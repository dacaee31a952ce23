package report

import (
	"strings"
	"testing"

	"fernrelay/core/run"
)

// TestHuntedSumsUp holds the sentence about what hunts in a run found.
func TestHuntedSumsUp(t *testing.T) {
	found := func(verdict string, culprits ...string) *run.Finding {
		f := &run.Finding{Verdict: verdict}
		if len(culprits) > 0 {
			f.Culprits = [][]string{culprits}
		}
		return f
	}
	for name, c := range map[string]struct {
		findings []*run.Finding // of tests that failed; nil for one that was not hunted
		want     string
	}{
		"nothing failed":     {nil, ""},
		"nothing was hunted": {[]*run.Finding{nil, nil}, ""},
		"one culprit":        {[]*run.Finding{found("polluted", "u:g#TestUsage")}, "1 failed: 1 order-dependent (after TestUsage, proved)"},
		"of each": {[]*run.Finding{found("polluted", "u:g#TestUsage"), found("flaky"), found("faulty"), found("faulty"), found("stable"), nil},
			"6 failed: 1 order-dependent (after TestUsage, proved), 1 flaky, 2 faulty, 1 stable, 1 hunt not finished: raise --hunt"},
		"two that act together": {[]*run.Finding{found("polluted", "u:g#one", "u:g#two")}, "1 failed: 1 order-dependent (after one and two, proved)"},
		"one that is missing":   {[]*run.Finding{found("brittle", "u:g#fills")}, "1 failed: 1 order-dependent (without fills, proved)"},
	} {
		ran := run.New()
		ran.Apply(run.Event{Event: run.Finished, ID: "u:g#well", Outcome: run.Passed})
		for i, f := range c.findings {
			id := "u:g#" + strings.Repeat("x", i+1)
			ran.Apply(run.Event{Event: run.Finished, ID: id, Outcome: run.Failed})
			ran.Apply(run.Event{Event: run.Found, ID: id, Finding: f})
		}
		if got := Hunted(ran); got != c.want {
			t.Errorf("%s: %q, not %q", name, got, c.want)
		}
	}
	words := FindingWords(&run.Finding{Verdict: "poll\x1b[31muted", Words: "a\nb"})
	if strings.ContainsAny(words, "\x1b\n") {
		t.Errorf("what a report claims to have found is shown as %q", words)
	}
}

// TestMissingShardsAreNamed holds that shards which never came back are named with their tests and a command that runs
// them, whatever a report claims of its pick.
func TestMissingShardsAreNamed(t *testing.T) {
	m := &run.Merged{Of: 9, Missing: []int{2, 4, 5, 6, 7, 8}, Planned: &run.Planned{Pick: "it's; rm -rf ~ #\n\x1b[31m"}}
	var out strings.Builder
	MissingShards(&out, m, []string{"u:g#a", "u:g#b", "u:g#c", "u:g#d", "u:g#e", "u:g#f", "u:g#g"}, nil)
	got := out.String()
	for _, want := range []string{"7 tests in no report: g#a, g#b", "more", "fern-relay run --shard 2/9 -p $'it\\'s; rm -rf ~ #\\x0a", "--shard 7/9"} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is missing in\n%s", want, got)
		}
	}
	if strings.Contains(got, "\x1b") || strings.Contains(got, "8/9") || strings.Count(got, "\n") != 7 {
		t.Errorf("it prints\n%q", got)
	}
	out.Reset()
	MissingShards(&out, &run.Merged{Of: 2, Missing: []int{1}, Planned: &run.Planned{}}, nil, nil)
	if out.String() != "run what is missing, with the other flags of the plan:\n    fern-relay run --shard 1/2\n" {
		t.Errorf("without a pick it prints\n%s", out.String())
	}
}
