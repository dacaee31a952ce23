package relay

import (
	"context"
	"errors"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/testfiles"
)

func idsIn(tests []catalog.Test) string {
	var ids []string
	for _, t := range tests {
		ids = append(ids, strings.TrimPrefix(t.ID, "go:"))
	}
	return strings.Join(ids, " ")
}

// TestReadyChanged holds that a change runs what it touches and what a superseded run
// has left, what failed last time first.
func TestReadyChanged(t *testing.T) {
	r := open(t)
	runTests(t, r, choose(t, r, "one#TestVictim", "one#TestAlwaysBad"))
	r, err := r.Recall()
	if err != nil {
		t.Fatal(err)
	}
	changed := []string{filepath.Join(r.Project.Dir, "one", "x_test.go")}
	q, err := r.ReadyChanged("not name:Needs", changed, nil, 3)
	if err != nil || idsIn(q.Tests) != "one#TestAlwaysBad one#TestFills one#TestVictim one#TestSpoils" || q.First["go:one#TestAlwaysBad"] != 1 || len(q.First) != 1 || q.Workers != 3 {
		t.Errorf("a change runs %s first %v, %v", idsIn(q.Tests), q.First, err)
	}
	if batch := r.Schedule(q).Batches[0]; batch.Tests[0].Name != "TestAlwaysBad" {
		t.Errorf("the first batch begins with %s", batch.Tests[0].ID)
	}
	left := run.New()
	left.Apply(run.Event{Event: run.Finished, ID: "go:two#TestNeeds", Outcome: run.Lost})
	left.Apply(run.Event{Event: run.Finished, ID: "go:two#TestFills", Outcome: run.Passed})
	if q, err = r.ReadyChanged("", nil, left, 1); err != nil || idsIn(q.Tests) != "two#TestNeeds" {
		t.Errorf("a superseded run leaves %s, %v", idsIn(q.Tests), err)
	}
}

// TestSources leaves out what git ignores.
func TestSources(t *testing.T) {
	r := open(t)
	dir := r.Project.Dir
	testfiles.Write(t, dir, map[string]string{".gitignore": "*.out\n", "one/written.out": "", "one/y.go": "package one\n"})
	files := []string{filepath.Join(dir, "one", "written.out"), filepath.Join(dir, "one", "y.go")}
	if got := r.Sources(context.Background(), files); len(got) != 2 {
		t.Errorf("without git %v are sources", got)
	}
	if out, err := exec.Command("git", "init", "-q", dir).CombinedOutput(); err != nil {
		t.Skipf("git is missing: %v: %s", err, out)
	}
	if got := r.Sources(context.Background(), files); !slices.Equal(got, files[1:]) {
		t.Errorf("%v are sources", got)
	}
}

// TestTrialLevels plays runs whose outcomes go by the level, and holds what is concluded.
func TestTrialLevels(t *testing.T) {
	var tests []catalog.Test
	for _, id := range []string{"s:g#a", "s:g#b", "s:h#c", "s:h#d"} {
		place, name, _ := strings.Cut(id, "#")
		tests = append(tests, catalog.Test{ID: id, Suite: "s", Group: strings.TrimPrefix(place, "s:"), Name: name, File: place + name[:1]})
	}
	for name, c := range map[string]struct {
		bad                    func(id string, q Request, times int) bool
		finest                 split.Together
		levels, unstable, runs int
		differ                 string
		safe                   int // bad tests in the run that counts
	}{
		"all safe":      {bad: func(string, Request, int) bool { return false }, finest: split.File, levels: 2, runs: 4},
		"always failed": {bad: func(id string, _ Request, _ int) bool { return id == "s:g#a" }, finest: split.File, levels: 2, runs: 4, safe: 1},
		"unstable":      {bad: func(id string, _ Request, times int) bool { return id == "s:g#a" && times%2 == 0 }, finest: split.File, levels: 2, runs: 4, unstable: 1},
		"files meet": {bad: func(id string, q Request, _ int) bool { return id == "s:h#d" && q.Together == split.File }, finest: split.Group, levels: 2, runs: 5,
			differ: "s:h#d failed passed 2/2"},
		"groups meet now and then": {bad: func(id string, q Request, times int) bool {
			return id == "s:g#b" && q.Together == split.Group && times == 2
		}, levels: 1, runs: 4,
			differ: "s:g#b failed passed 1/2"},
	} {
		runs := 0
		trial, err := (&Relay{}).TrialLevels(Request{Tests: tests, Workers: 3}, func(q Request, _ string) (*run.Run, error) {
			r := run.New()
			for _, made := range tests {
				e := run.Event{Event: run.Finished, ID: made.ID, Outcome: run.Passed}
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
		if trial.Finest != c.finest || len(trial.Levels) != c.levels || len(trial.Unstable) != c.unstable || runs != c.runs || differ != c.differ || trial.Safe.Counts[run.Failed] != c.safe {
			t.Errorf("%s: %q is safe after %d levels and %d runs, %q differs, %v are unstable, %d failed", name, trial.Finest, len(trial.Levels), runs, differ, trial.Unstable, trial.Safe.Counts[run.Failed])
		}
	}
	boom := errors.New("boom")
	if _, err := (&Relay{}).TrialLevels(Request{Tests: tests, Workers: 2}, func(Request, string) (*run.Run, error) { return nil, boom }); !errors.Is(err, boom) {
		t.Errorf("a run that cannot be: %v", err)
	}
	interrupted := func(Request, string) (*run.Run, error) {
		r := run.New()
		r.Apply(run.Event{Event: run.Finished, ID: "s:g#a", Outcome: run.Lost})
		return r, nil
	}
	if trial, err := (&Relay{}).TrialLevels(Request{Tests: tests, Workers: 2}, interrupted); err != nil || trial.Safe.ExitStatus() != 3 || len(trial.Levels) != 0 {
		t.Errorf("an interrupted trial: %+v, %v", trial, err)
	}
}

// TestTogether is what a project's suites have in common.
func TestTogether(t *testing.T) {
	for text, want := range map[string]split.Together{"": split.Group, "together = \"test\"": split.Test} {
		dir := t.TempDir()
		testfiles.Write(t, dir, map[string]string{"go.mod": "module example.org/made\n\ngo 1.26\n", "x_test.go": "package x\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {}\n",
			"fern.toml": "[[suite]]\nname = \"u\"\nkind = \"go\"\n" + text + "\n"})
		r, err := Open(context.Background(), dir, nil)
		if err != nil {
			t.Fatal(err)
		}
		defer r.Close()
		if got := r.Together(); got != want {
			t.Errorf("%q: %s", text, got)
		}
	}
}
