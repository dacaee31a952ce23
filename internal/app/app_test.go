package app

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/project"
	"fernrelay/internal/testfiles"
	"fernrelay/internal/workspace"
)

// open makes a Go module with two packages whose tests depend on their order,
// and opens it.
func open(t *testing.T) *App {
	t.Helper()
	r, err := Open(context.Background(), testfiles.OrderDependent(t), nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = r.Close() })
	return r
}

func choose(t *testing.T, r *App, endings ...string) []catalog.Test {
	t.Helper()
	var tests []catalog.Test
	for _, ending := range endings {
		test, err := r.Catalog.Find(ending)
		if err != nil {
			t.Fatal(err)
		}
		tests = append(tests, *test)
	}
	return tests
}

func runTests(t *testing.T, r *App, tests []catalog.Test) *run.Run {
	t.Helper()
	run, _, err := r.Run(context.Background(), Request{Tests: tests, InOrder: true, Workers: 2}, func(run.Event) {})
	if err != nil {
		t.Fatal(err)
	}
	return run
}

// TestRecall holds that a run teaches expected times and outcomes, to this relay
// and to the next that opens the project, and that Recall leaves the present
// tests as they are.
func TestRecall(t *testing.T) {
	r := open(t)
	before := r.Tests
	runTests(t, r, choose(t, r, "one#TestVictim", "one#TestAlwaysBad"))
	recalled, err := r.Recall()
	if err != nil {
		t.Fatal(err)
	}
	again, err := Open(context.Background(), r.Project.Dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	for _, m := range []workspace.Tests{recalled.Tests, again.Tests} {
		victim, _ := m.Catalog.Lookup("go:one#TestVictim")
		other, _ := m.Catalog.Lookup("go:two#TestVictim")
		if !victim.Known || victim.Expected <= 0 || other.Known || m.Runs != 1 {
			t.Errorf("after %d runs, %g s are expected and %g s guessed", m.Runs, victim.Expected, other.Expected)
		}
		if past := m.PastOf("go:one#TestAlwaysBad"); !slices.Equal(past, []run.Outcome{run.Failed}) {
			t.Errorf("the past is %v", past)
		}
	}
	if old, _ := before.Catalog.Lookup("go:one#TestVictim"); old.Known || before.Runs != 0 {
		t.Errorf("the memory before the run has changed")
	}
}

// TestOrigin holds that each run keeps the revision and the state of the tree that it ran on, also the first one, for which git
// is asked while the project opens.
func TestOrigin(t *testing.T) {
	t.Setenv("GIT_CONFIG_GLOBAL", os.DevNull)
	dir := open(t).Project.Dir
	for _, words := range []string{"init -q", "add .", "-c user.name=n -c user.email=e commit -qm made"} {
		if out, err := exec.Command("git", append([]string{"-C", dir}, strings.Fields(words)...)...).CombinedOutput(); err != nil {
			t.Fatalf("git %s: %v\n%s", words, err, out)
		}
	}
	r, err := OpenToRun(t.Context(), dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	for _, dirty := range []bool{false, true} {
		runTests(t, r, choose(t, r, "one#TestFills"))
		record, _, err := r.Ledger().Find("last")
		if err != nil || record.Revision != project.Head(t.Context(), dir) || record.Dirty != dirty {
			t.Errorf("the run keeps revision %q, dirty %t, want dirty %t, %v", record.Revision, record.Dirty, dirty, err)
		}
		testfiles.Write(t, dir, map[string]string{"notes": "new"})
	}
}

// TestPlannedRun holds that a plan is run as it stands: every test on the worker
// of its shard, in the order planned.
func TestPlannedRun(t *testing.T) {
	r := open(t)
	study, err := r.Split(r.Catalog.Tests, catalog.TestLevel, split.Fleet{Shards: 3}, true)
	if err != nil {
		t.Fatal(err)
	}
	plan := study.Plan(split.Thorough)
	q, err := r.PlanRequest("", study.Tests, plan, study.Fleet)
	if err != nil {
		t.Fatal(err)
	}
	run, _, err := r.Run(context.Background(), q, func(run.Event) {})
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range plan.Shards {
		for _, id := range s.Tests() {
			if got := run.Result(id); got == nil || got.Worker != s.Number {
				t.Errorf("%s of shard %d: %+v", id, s.Number, got)
			}
		}
	}
	seen := map[string]int{}
	for _, s := range plan.Shards {
		planned, share := study.Share(plan, s.Number)
		if planned.Of != 3 || planned.Plan != plan.Fingerprint() {
			t.Errorf("the shard is reported as %+v", planned)
		}
		for _, test := range share {
			seen[test.ID]++
		}
	}
	if len(seen) != len(r.Catalog.Tests) {
		t.Errorf("%d of %d tests are in a share", len(seen), len(r.Catalog.Tests))
	}
}

func TestPickAndOrderFile(t *testing.T) {
	r := open(t)
	tests, err := r.Pick("in:two name:/^Test[FS]/")
	if err != nil || len(tests) != 2 {
		t.Errorf("picked %v, %v", tests, err)
	}
	file := filepath.Join(t.TempDir(), "order.txt")
	if err := os.WriteFile(file, []byte("two#TestSpoils\n\n  two#TestFills  \r\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	rule, _, err := r.OrderFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if ordered, err := rule.Apply(tests); err != nil || ordered[0].Name != "TestSpoils" || ordered[1].Name != "TestFills" {
		t.Errorf("ordered %v, %v", ordered, err)
	}
	if _, _, err := r.OrderFile(filepath.Join(t.TempDir(), "none")); err == nil {
		t.Errorf("an order is read from nowhere")
	}
}
