package relay

import (
	"fmt"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/split"
)

// LevelTrial is what came of running the same tests more and more finely side by side.
type LevelTrial struct {
	Alone    *run.Run       // one after another on one worker
	Unstable []string       // IDs of tests that differed when that was repeated; they are not compared
	Levels   []Level        // the coarsest first, up to the first that differs
	Safe     *run.Run       // of the finest level at which nothing differed; Alone where there is none
	Finest   split.Together // that level; empty where there is none
}

// Level is what came of one level.
type Level struct {
	Together split.Together
	Workers  int
	Run      *run.Run
	Differ   []Difference
}

// Difference is a test that came out otherwise than alone.
type Difference struct {
	ID            string
	Alone, Beside run.Outcome
	Times, Of     int // in how many runs of how many
}

// TrialLevels runs the tests of a request one after another, twice, and then level by
// level side by side, until outcomes differ; that level runs twice. run runs a request.
func (r *Relay) TrialLevels(q Request, ran func(q Request, what string) (*run.Run, error)) (*LevelTrial, error) {
	alone := q
	alone.Workers, alone.InOrder, alone.Together = 1, true, ""
	trial := &LevelTrial{}
	var err error
	if trial.Alone, err = ran(alone, "one after another"); err != nil {
		return nil, err
	}
	trial.Safe = trial.Alone
	if trial.Alone.Counts[run.Lost] > 0 {
		return trial, nil
	}
	again, err := ran(alone, "one after another, once more")
	if err != nil {
		return nil, err
	}
	stable := map[string]run.Outcome{}
	for _, res := range trial.Alone.Results {
		if other := again.Result(res.ID); other != nil && alike(res.Outcome, other.Outcome) {
			stable[res.ID] = res.Outcome
		} else {
			trial.Unstable = append(trial.Unstable, res.ID)
		}
	}
	for _, level := range levelsOf(q.Tests) {
		q.Together = level
		what := fmt.Sprintf("%ss side by side on %d workers", level, q.Workers)
		runs := make([]*run.Run, 0, 2)
		var differ []Difference
		for len(runs) == 0 || len(runs) == 1 && len(differ) > 0 {
			one, err := ran(q, what)
			if err != nil {
				return nil, err
			}
			if one.Counts[run.Lost] > 0 {
				trial.Safe = one // it is incomplete, as its exit status says
				return trial, nil
			}
			runs = append(runs, one)
			differ = differences(stable, runs)
			what += ", once more"
		}
		trial.Levels = append(trial.Levels, Level{Together: level, Workers: q.Workers, Run: runs[0], Differ: differ})
		if len(differ) > 0 {
			break
		}
		trial.Safe, trial.Finest = runs[0], level
	}
	return trial, nil
}

// levelsOf lists the levels that deal tests out in different ways, the coarsest first.
// Where all are of one suite its level is that of tests one after another.
func levelsOf(tests []catalog.Test) []split.Together {
	var levels []split.Together
	before := 1
	for _, level := range split.Levels {
		units, err := split.Units(tests, level)
		if err != nil || len(units) <= before {
			continue
		}
		before = len(units)
		levels = append(levels, level)
	}
	return levels
}

// differences lists the tests that came out otherwise than alone, in any of the runs.
func differences(alone map[string]run.Outcome, runs []*run.Run) []Difference {
	var differ []Difference
	at := map[string]int{}
	for _, run := range runs {
		for _, res := range run.Results {
			was, compared := alone[res.ID]
			if !compared || alike(was, res.Outcome) {
				continue
			}
			i, known := at[res.ID]
			if !known {
				i = len(differ)
				at[res.ID] = i
				differ = append(differ, Difference{ID: res.ID, Alone: was, Beside: res.Outcome, Of: len(runs)})
			}
			differ[i].Times++
		}
	}
	return differ
}

// alike reports whether two outcomes of a test say the same of it, however it failed.
func alike(a, b run.Outcome) bool { return a == b || a.Bad() && b.Bad() }
