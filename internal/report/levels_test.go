package report

import (
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
)

func finished(took float64, o run.Outcome, ids ...string) *run.Run {
	r := run.New()
	r.Apply(event(run.RunBegins, "", 0, nil))
	for i, id := range ids {
		r.Apply(event(run.Started, id, 0, func(e *run.Event) { e.Worker = 1 + i }))
		r.Apply(event(run.Finished, id, took, func(e *run.Event) { e.Outcome, e.Worker, e.Message = o, 1+i, "why it was" }))
	}
	r.Apply(event(run.RunEnds, "", took, nil))
	return r
}

func TestLevels(t *testing.T) {
	alone, beside := finished(8, run.Passed, "u:g#a", "u:g#b"), finished(2, run.Passed, "u:g#a", "u:g#b")
	lost := finished(1, run.Lost, "u:g#a")
	differ := []schedule.LevelDifference{{ID: "u:g#b\x1b[1m", Alone: run.Passed, Beside: run.TimedOut, Times: 1, Of: 2}}
	for want, trial := range map[string]*schedule.LevelTrial{
		"the trial is not complete":                                    {Alone: alone, Safe: lost},
		"there is nothing that could run side by side":                 {Alone: alone, Safe: alone},
		`no level is safe: groups cannot run side by side as they are`: {Alone: alone, Safe: alone, Levels: []schedule.TriedLevel{{Together: catalog.GroupLevel, Workers: 4, Run: beside, Differ: differ}}},
		`the finest safe level is group: together = "group"`:           {Alone: alone, Safe: beside, Finest: catalog.GroupLevel, Levels: []schedule.TriedLevel{{Together: catalog.GroupLevel, Workers: 4, Run: beside}, {Together: catalog.TestLevel, Workers: 4, Run: beside, Differ: differ}}},
		`every level is safe: together = "test"`:                       {Alone: alone, Safe: beside, Finest: catalog.TestLevel, Levels: []schedule.TriedLevel{{Together: catalog.TestLevel, Workers: 4, Run: beside}}},
		"not enough overlap to know whether tests can run side by side: 14 of 90 pairs of tests ran at the same time, and nothing differed": {Alone: alone, Safe: beside, Finest: catalog.TestLevel, Levels: []schedule.TriedLevel{{Together: catalog.TestLevel, Workers: 4, Run: beside, Met: 14, Pairs: 90}}},
	} {
		trial.Flaky = []string{"u:g#shaky"}
		var out strings.Builder
		Levels(&out, trial)
		text := out.String()
		if !strings.Contains(text, want) || !strings.Contains(text, "nothing       1        0:08.0  2 passed") || !strings.Contains(text, "u:g#shaky") || strings.Contains(text, "\x1b") {
			t.Errorf("want %q in\n%s", want, text)
		}
		if n := len(trial.Levels); n > 0 && len(trial.Levels[n-1].Differ) > 0 && !strings.Contains(text, "▼ u:g#b  timed-out, and passed alone: 1 of 2 runs") {
			t.Errorf("the difference is not printed:\n%s", text)
		}
	}
}

// TestAsideAndSlow holds what is reported beside the failures.
func TestAsideAndSlow(t *testing.T) {
	r := finished(3, run.Lost, "u:g#a", "u:g#b", "u:g#c")
	r.Apply(event(run.Finished, "u:g#d", 3, func(e *run.Event) {
		e.Outcome, e.Flaky, e.Message = run.Passed, true, "flaky: passed in try 2"
	}))
	r.Apply(event(run.Finished, "u:g#e", 3, func(e *run.Event) { e.Outcome = run.Skipped }))
	var out strings.Builder
	Notes(&out, r)
	want := "▪ u:g#d  flaky: passed in try 2\n∅ 3 lost: why it was\n▫ 1 skipped: no reason given\n"
	if out.String() != want {
		t.Errorf("reported\n%s\nwant\n%s", out.String(), want)
	}
	out.Reset()
	for range 12 {
		id := strings.Repeat("s", 1+len(r.Results))
		r.Apply(event(run.Finished, id, 3, func(e *run.Event) { e.Outcome, e.Seconds = run.Passed, run.Took(float64(len(id))) }))
	}
	Slow(&out, r, 2*time.Second)
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	if len(lines) != 11 || !strings.HasPrefix(lines[0], "slow: sssssssssssssssss took 17.0 s") || lines[10] != "and 2 tests more took longer than 2s" {
		t.Errorf("reported\n%s", out.String())
	}
}
