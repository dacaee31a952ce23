package split

import (
	"fmt"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// LevelTrial reports how finely tests may run side by side without changing their outcomes.
type LevelTrial struct {
	Alone    *run.Run // one after another on one worker
	Unstable []string // IDs of tests that differed when that was repeated; they are not compared
	Levels   []Level  // the coarsest first, up to the first that differs
	Safe     *run.Run // of the finest level at which nothing differed, or Alone
	Finest   Together // that level; empty if there is none
}

// Level reports the trial of one level.
type Level struct {
	Together Together
	Workers  int
	Run      *run.Run
	Differ   []LevelDifference
}

// LevelDifference is a test whose outcome differs from its outcome alone.
type LevelDifference struct {
	ID            string
	Alone, Beside run.Outcome
	Times, Of     int // in how many runs of how many
}

// LevelRun says how the tests run once for a LevelTrial.
type LevelRun struct {
	What     string   // describes the run for people
	Together Together // what never runs side by side; empty for one test after another
	Workers  int
	InOrder  bool // the tests keep their order
}

// TrialLevels runs tests one after another, twice, and then side by side, level by level, until outcomes
// differ; that level runs twice. do runs the tests once.
func TrialLevels(tests []catalog.Test, workers int, do func(LevelRun) (*run.Run, error)) (*LevelTrial, error) {
	alone := LevelRun{What: "one after another", Workers: 1, InOrder: true}
	trial := &LevelTrial{}
	var err error
	if trial.Alone, err = do(alone); err != nil {
		return nil, err
	}
	trial.Safe = trial.Alone
	if trial.Alone.Counts[run.Lost] > 0 {
		return trial, nil
	}
	alone.What += ", once more"
	repeated, err := do(alone)
	if err != nil {
		return nil, err
	}
	stable := trial.compareAlone(repeated)
	for _, level := range levelsOf(tests) {
		same, err := trial.try(level, workers, stable, do)
		if err != nil || !same {
			return trial, err
		}
	}
	return trial, nil
}

// compareAlone notes the tests whose outcomes differ between two runs alone, and returns those of the others.
func (t *LevelTrial) compareAlone(repeated *run.Run) (stable map[string]run.Outcome) {
	stable = map[string]run.Outcome{}
	for _, r := range t.Alone.Results {
		if other := repeated.Result(r.ID); other != nil && sameVerdict(r.Outcome, other.Outcome) {
			stable[r.ID] = r.Outcome
		} else {
			t.Unstable = append(t.Unstable, r.ID)
		}
	}
	return stable
}

// try runs the tests at one level, and a second time if outcomes differ. It reports whether none do.
func (t *LevelTrial) try(level Together, workers int, stable map[string]run.Outcome, do func(LevelRun) (*run.Run, error)) (same bool, err error) {
	how := LevelRun{What: fmt.Sprintf("%ss side by side on %d workers", level, workers), Together: level, Workers: workers}
	var runs []*run.Run
	var differ []LevelDifference
	for len(runs) == 0 || len(runs) == 1 && len(differ) > 0 {
		one, err := do(how)
		if err != nil {
			return false, err
		}
		if one.Counts[run.Lost] > 0 {
			t.Safe = one // which is incomplete, as its exit status says
			return false, nil
		}
		runs = append(runs, one)
		differ = differences(stable, runs)
		how.What += ", once more"
	}
	t.Levels = append(t.Levels, Level{Together: level, Workers: workers, Run: runs[0], Differ: differ})
	if len(differ) > 0 {
		return false, nil
	}
	t.Safe, t.Finest = runs[0], level
	return true, nil
}

// levelsOf returns the levels that divide the tests differently, the coarsest first. If all tests are of one
// suite, the level of suites is the same as one test after another.
func levelsOf(tests []catalog.Test) []Together {
	var levels []Together
	before := 1
	for _, level := range Levels {
		units, err := Units(tests, level)
		if err != nil || len(units) <= before {
			continue
		}
		before = len(units)
		levels = append(levels, level)
	}
	return levels
}

// differences returns the tests whose outcome in any of the runs differs from their outcome alone.
func differences(alone map[string]run.Outcome, runs []*run.Run) []LevelDifference {
	var differ []LevelDifference
	at := map[string]int{}
	for _, run := range runs {
		for _, res := range run.Results {
			was, compared := alone[res.ID]
			if !compared || sameVerdict(was, res.Outcome) {
				continue
			}
			i, known := at[res.ID]
			if !known {
				i = len(differ)
				at[res.ID] = i
				differ = append(differ, LevelDifference{ID: res.ID, Alone: was, Beside: res.Outcome, Of: len(runs)})
			}
			differ[i].Times++
		}
	}
	return differ
}

// sameVerdict reports whether two outcomes are the same, or both bad.
func sameVerdict(a, b run.Outcome) bool { return a == b || a.Bad() && b.Bad() }
