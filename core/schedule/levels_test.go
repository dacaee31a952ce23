package schedule

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// TestTrialLevels plays runs whose outcomes go by the level, and holds what is concluded.
func TestTrialLevels(t *testing.T) {
	var tests []catalog.Test
	for _, id := range []string{"s:g#a", "s:g#b", "s:h#c", "s:h#d"} {
		place, name, _ := strings.Cut(id, "#")
		tests = append(tests, catalog.Test{ID: id, Suite: "s", Group: strings.TrimPrefix(place, "s:"), Name: name, File: place + name[:1]})
	}
	for name, c := range map[string]struct {
		bad                 func(id string, q LevelRun, times int) bool
		finest              catalog.Level
		levels, flaky, runs int
		differ              string
		safe                int // bad tests in the run that counts
	}{
		"all safe":      {bad: func(string, LevelRun, int) bool { return false }, finest: catalog.FileLevel, levels: 2, runs: 4},
		"always failed": {bad: func(id string, _ LevelRun, _ int) bool { return id == "s:g#a" }, finest: catalog.FileLevel, levels: 2, runs: 4, safe: 1},
		"flaky":         {bad: func(id string, _ LevelRun, times int) bool { return id == "s:g#a" && times%2 == 0 }, finest: catalog.FileLevel, levels: 2, runs: 4, flaky: 1},
		"files meet": {bad: func(id string, q LevelRun, _ int) bool { return id == "s:h#d" && q.Together == catalog.FileLevel }, finest: catalog.GroupLevel, levels: 2, runs: 5,
			differ: "s:h#d failed passed 2/2"},
		"groups meet now and then": {bad: func(id string, q LevelRun, times int) bool {
			return id == "s:g#b" && q.Together == catalog.GroupLevel && times == 2
		}, levels: 1, runs: 4,
			differ: "s:g#b failed passed 1/2"},
	} {
		runs := 0
		trial, err := TrialLevels(tests, 3, 3, func(q LevelRun) (*run.Run, error) {
			r := run.New()
			for i, made := range tests {
				at := time.Unix(100, 0) // all at once
				r.Apply(run.Event{Event: run.Started, ID: made.ID, At: at, Worker: 1 + i})
				e := run.Event{Event: run.Finished, ID: made.ID, Outcome: run.Passed, At: at.Add(time.Second), Worker: 1 + i}
				if c.bad(made.ID, q, runs) {
					e.Outcome = run.Failed
				}
				r.Apply(e)
			}
			runs++
			return r, nil
		})
		if err != nil {
			t.Fatal(err)
		}
		differ := ""
		for _, d := range trial.Levels[len(trial.Levels)-1].Differ {
			differ += d.ID + " " + string(d.Beside) + " " + string(d.Alone) + " " + string(rune('0'+d.Times)) + "/" + string(rune('0'+d.Of))
		}
		if trial.Finest != c.finest || len(trial.Levels) != c.levels || len(trial.Flaky) != c.flaky || runs != c.runs || differ != c.differ || trial.Safe.Counts[run.Failed] != c.safe {
			t.Errorf("%s: %q is safe after %d levels and %d runs, %q differs, %v are flaky, %d failed", name, trial.Finest, len(trial.Levels), runs, differ, trial.Flaky, trial.Safe.Counts[run.Failed])
		}
	}
	boom := errors.New("boom")
	if _, err := TrialLevels(tests, 2, 1, func(LevelRun) (*run.Run, error) { return nil, boom }); !errors.Is(err, boom) {
		t.Errorf("a run that cannot be: %v", err)
	}
	interrupted := func(LevelRun) (*run.Run, error) {
		r := run.New()
		r.Apply(run.Event{Event: run.Finished, ID: "s:g#a", Outcome: run.Lost})
		return r, nil
	}
	if trial, err := TrialLevels(tests, 2, 1, interrupted); err != nil || trial.Safe.ExitStatus() != 3 || len(trial.Levels) != 0 {
		t.Errorf("an interrupted trial: %+v, %v", trial, err)
	}
}

// TestLevelsTurn runs 9 files on 2 workers that take them in the order asked for: in 9 orders each file has run beside
// each other, and fewer orders leave pairs out.
func TestLevelsTurn(t *testing.T) {
	var tests []catalog.Test
	for i := range 9 {
		name := fmt.Sprint("t", i)
		tests = append(tests, catalog.Test{ID: "s:g#" + name, Suite: "s", Group: "g", Name: name, File: name})
	}
	for _, c := range []struct{ times, runs, met int }{{1, 1, 8}, {3, 3, 0}, {20, 0, 36}} {
		runs := 0
		trial, err := TrialLevels(tests, 2, c.times, func(q LevelRun) (*run.Run, error) {
			ordered := slices.Clone(tests)
			slices.SortStableFunc(ordered, func(a, b catalog.Test) int { return q.First[a.ID] - q.First[b.ID] })
			r, free := run.New(), make([]time.Time, q.Workers)
			for i, made := range ordered {
				w := i % q.Workers
				at := free[w].Add(time.Duration(w) * 100 * time.Millisecond)
				free[w] = at.Add(time.Second)
				r.Apply(run.Event{Event: run.Started, ID: made.ID, At: at, Worker: 1 + w})
				r.Apply(run.Event{Event: run.Finished, ID: made.ID, At: free[w], Worker: 1 + w, Outcome: run.Passed})
			}
			runs++
			return r, nil
		})
		if err != nil {
			t.Fatal(err)
		}
		l := trial.Levels[0]
		if l.Pairs != 36 || c.met > 0 && l.Met != c.met || c.runs > 0 && runs != 2+c.runs || runs > 2+9 {
			t.Errorf("of up to %d runs %d met %d of %d pairs", c.times, runs-2, l.Met, l.Pairs)
		}
	}
}
