package schedule

import (
	"fmt"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// LevelTrial reports how finely tests may run side by side without changing their outcomes.
type LevelTrial struct {
	Alone  *run.Run      // one after another on one worker
	Flaky  []string      // IDs of tests that differed when that was repeated; they are not compared
	Levels []TriedLevel  // the coarsest first, up to the first that differs
	Safe   *run.Run      // of the finest level at which nothing differed, or Alone
	Finest catalog.Level // that level; empty if there is none
}

// TriedLevel reports the trial of one level.
type TriedLevel struct {
	Together catalog.Level
	Workers  int
	Run      *run.Run
	Differ   []LevelDifference
	Pairs    int // of units of the level
	Met      int // of those, the ones of which two tests ran at the same time
}

// LevelDifference is a test whose outcome differs from its outcome alone.
type LevelDifference struct {
	ID            string
	Alone, Beside run.Outcome
	Times, Of     int // in how many runs of how many
}

// LevelRun says how the tests run once for a LevelTrial.
type LevelRun struct {
	What     string        // describes the run for people
	Together catalog.Level // what never runs side by side; empty for one test after another
	Workers  int
	InOrder  bool           // the tests keep their order
	First    map[string]int // by ID, from 1: the rank of tests whose batches go before others
}

// TrialLevels runs tests one after another, twice, and then side by side, level by level, until outcomes
// differ; that level runs twice. Each level runs up to a number of times, in other orders, until all pairs of its units
// have run at the same time. do runs the tests once.
func TrialLevels(tests []catalog.Test, workers, times int, do func(LevelRun) (*run.Run, error)) (*LevelTrial, error) {
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
		same, err := trial.try(tests, level, workers, max(1, times), stable, do)
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
			t.Flaky = append(t.Flaky, r.ID)
		}
	}
	return stable
}

// try runs the tests at one level, and once more if outcomes differ. It reports whether none do.
func (t *LevelTrial) try(tests []catalog.Test, level catalog.Level, workers, times int, stable map[string]run.Outcome, do func(LevelRun) (*run.Run, error)) (same bool, err error) {
	how := LevelRun{What: fmt.Sprintf("%ss side by side on %d workers", level, workers), Together: level, Workers: workers}
	m, err := newMeetings(tests, level)
	if err != nil {
		return false, err
	}
	l := TriedLevel{Together: level, Workers: workers, Pairs: m.pairs()}
	var runs []*run.Run
	for len(runs) == 0 || len(l.Differ) == 0 && len(runs) < times && len(m.met) < l.Pairs || len(runs) == 1 && len(l.Differ) > 0 {
		one, err := do(how)
		if err != nil {
			return false, err
		}
		if one.Counts[run.Lost] > 0 {
			t.Safe = one // which is incomplete, as its exit status says
			return false, nil
		}
		runs = append(runs, one)
		m.note(one)
		l.Differ = differences(stable, runs)
		how.What = fmt.Sprintf("%ss side by side on %d workers, run %d", level, workers, len(runs)+1)
		if len(l.Differ) == 0 {
			how.First = m.rotated(len(runs))
		}
	}
	l.Run, l.Met = runs[0], len(m.met)
	t.Levels = append(t.Levels, l)
	if len(l.Differ) > 0 {
		return false, nil
	}
	t.Safe, t.Finest = runs[0], level
	return true, nil
}

// meetings are the pairs of units of which two tests ran at the same time.
type meetings struct {
	units []Unit
	unit  map[string]int // by the ID of a test
	met   map[[2]int]bool
}

func newMeetings(tests []catalog.Test, level catalog.Level) (*meetings, error) {
	units, err := Units(tests, level)
	m := &meetings{units: units, unit: map[string]int{}, met: map[[2]int]bool{}}
	for u := range units {
		for _, id := range units[u].Tests {
			m.unit[id] = u
		}
	}
	return m, err
}

func (m *meetings) pairs() int { return len(m.units) * (len(m.units) - 1) / 2 }

// note notes which units met in a run.
func (m *meetings) note(r *run.Run) {
	ran := slices.DeleteFunc(slices.Clone(r.Results), func(res *run.Result) bool { return res.Started.IsZero() || res.Worker == 0 })
	slices.SortFunc(ran, func(a, b *run.Result) int { return a.Started.Compare(b.Started) })
	var now []*run.Result // those that still run
	for _, res := range ran {
		now = slices.DeleteFunc(now, func(other *run.Result) bool { return !other.Ended.After(res.Started) })
		for _, other := range now {
			if a, b := m.unit[res.ID], m.unit[other.ID]; a != b && res.Worker != other.Worker {
				m.met[[2]int{min(a, b), max(a, b)}] = true
			}
		}
		now = append(now, res)
	}
}

// rotated returns the ranks of the tests in another order, in which each unit has other neighbours: a round of a tournament of
// all against all (the circle method, as in Kirkman, "On a problem in combinations", 1847).
func (m *meetings) rotated(round int) map[string]int {
	n := len(m.units)
	circle := make([]int, n)
	for i := range circle {
		circle[i] = i
		if i > 0 {
			circle[i] = 1 + (i-1+round)%(n-1)
		}
	}
	first := map[string]int{}
	add := func(u int) {
		for _, id := range m.units[u].Tests {
			first[id] = len(first) + 1
		}
	}
	for i := range n / 2 {
		add(circle[i])
		add(circle[n-1-i])
	}
	if n%2 == 1 {
		add(circle[n/2])
	}
	return first
}

// levelsOf returns the levels that divide the tests differently, the coarsest first. If all tests are of one
// suite, the level of suites is the same as one test after another.
func levelsOf(tests []catalog.Test) []catalog.Level {
	var levels []catalog.Level
	before := 1
	for _, level := range catalog.Levels {
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
