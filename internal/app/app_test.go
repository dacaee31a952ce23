package app

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
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
	dir := t.TempDir()
	files := map[string]string{"go.mod": "module example.org/made\n\ngo 1.26\n"}
	for _, pkg := range []string{"one", "two"} {
		files[pkg+"/x_test.go"] = fmt.Sprintf(source, pkg)
	}
	testfiles.Write(t, dir, files)
	r, err := Open(context.Background(), dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = r.Close() })
	return r
}

// source is that of a package whose tests depend on their order.
const source = `package %s

import ("testing"; "time")

var spoiled, filled bool

func TestFills(t *testing.T) { filled = true }

func TestNeeds(t *testing.T) { if !filled { t.Error("empty") } }

func TestVictim(t *testing.T) { time.Sleep(30 * time.Millisecond); if spoiled { t.Error("got 1, want 2") } }

func TestSpoils(t *testing.T) { spoiled = true }

func TestAlwaysBad(t *testing.T) { t.Error("bad") }
`

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

// TestVerdicts hunts, on real processes, a victim of each verdict that a suite
// can hold for certain. The order under suspicion is that of the latest run in
// which the victim was bad, even where a later run was well.
func TestVerdicts(t *testing.T) {
	r := open(t)
	if victims, err := r.Victims(); err != nil || len(victims) != 0 {
		t.Errorf("victims before any run: %v, %v", victims, err)
	}
	runTests(t, r, choose(t, r, "one#TestFills", "one#TestSpoils", "one#TestAlwaysBad", "one#TestVictim"))
	runTests(t, r, choose(t, r, "one#TestNeeds", "one#TestVictim"))
	victims, err := r.Victims()
	if err != nil || len(victims) != 1 || victims[0].Name != "TestNeeds" {
		t.Errorf("the latest victims are %v, %v", victims, err)
	}
	victims = choose(t, r, "one#TestVictim", "one#TestNeeds", "one#TestAlwaysBad", "two#TestFills")
	reported := 0
	findings, err := r.Hunt(context.Background(), victims, HuntOptions{Workers: 3}, func(hunt.Progress) { reported++ })
	if err != nil {
		t.Fatal(err)
	}
	var found []string
	for _, f := range findings {
		words := strings.TrimPrefix(f.ID, "go:") + " " + string(f.Verdict)
		for _, set := range f.Culprits {
			words += " " + strings.Join(set, ",")
		}
		for _, c := range f.Changed {
			words += fmt.Sprintf(" %s: %s → %s", c.Name, c.Before, c.After)
			if c.Proved {
				words += fmt.Sprintf(", proved at %s:%d", c.File, c.Line)
			}
		}
		found = append(found, words)
	}
	want := []string{
		"one#TestVictim polluted go:one#TestSpoils one.spoiled: false → true, proved at one/x_test.go:5",
		"one#TestNeeds brittle go:one#TestFills one.filled: false → true, proved at one/x_test.go:5",
		"one#TestAlwaysBad faulty",
		"two#TestFills stable",
	}
	if !slices.Equal(found, want) {
		t.Errorf("found\n%s\nwant\n%s", strings.Join(found, "\n"), strings.Join(want, "\n"))
	}
	if reported < 20 {
		t.Errorf("only %d steps were told", reported)
	}
}

// TestHuntStops ends a hunt in its middle: nothing is concluded. Hunted again it goes on
// where it was, unless a file has changed.
func TestHuntStops(t *testing.T) {
	r := open(t)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	findings, err := r.Hunt(ctx, choose(t, r, "one#TestVictim"), HuntOptions{Workers: 1}, func(p hunt.Progress) {
		if len(p.Records) == 2 {
			cancel()
		}
	})
	if err == nil || len(findings) != 0 {
		t.Errorf("found %v, %v", findings, err)
	}
	again := func() (kept int) {
		findings, err := r.Hunt(context.Background(), choose(t, r, "one#TestVictim"), HuntOptions{Workers: 1}, func(p hunt.Progress) { kept = p.Resumed })
		if err != nil || len(findings) != 1 || findings[0].Verdict != hunt.Polluted {
			t.Errorf("found %v, %v", findings, err)
		}
		return kept
	}
	if kept := again(); kept != 1 {
		t.Errorf("%d trials were not made again, want the one that had ended", kept)
	}
	if kept := again(); kept != 0 {
		t.Errorf("after a verdict %d trials were not made again", kept)
	}
}

// TestVerify tries a caught culprit once more, before and after it is mended, and keeps the
// two apart until then.
func TestVerify(t *testing.T) {
	r := open(t)
	ctx, silent := context.Background(), func(hunt.Progress) {}
	victims := choose(t, r, "one#TestVictim")
	if _, err := r.Hunt(ctx, victims, HuntOptions{Workers: 2}, silent); err != nil {
		t.Fatal(err)
	}
	verify := func(r *App) (mended bool) {
		known, err := r.Culprits()
		if err != nil || len(known) != 1 {
			t.Fatalf("known are %v, %v", known, err)
		}
		_, err = r.Hunt(ctx, victims, HuntOptions{Workers: 2, Known: known}, func(p hunt.Progress) { mended = len(p.Finding.Mended) > 0 })
		if err != nil {
			t.Fatal(err)
		}
		return mended
	}
	order := func(r *App) string {
		tests, notes, err := r.KeepApart(choose(t, r, "one#TestSpoils", "one#TestVictim", "two#TestVictim"))
		if err != nil || len(notes) > 0 {
			t.Fatal(notes, err)
		}
		q, err := r.NewRequest("", tests, 2)
		if err != nil {
			t.Fatal(err)
		}
		var ids []string
		for _, t := range q.Tests {
			ids = append(ids, t.ID)
		}
		return strings.Join(ids, " ")
	}
	if verify(r) || order(r) != "go:one#TestVictim go:one#TestSpoils go:two#TestVictim" {
		t.Errorf("still known, they run as %s", order(r))
	}
	testfiles.Write(t, r.Project.Dir, map[string]string{"one/x_test.go": fmt.Sprintf(strings.Replace(source, "spoiled = true", "spoiled = false", 1), "one")})
	mended, err := Open(ctx, r.Project.Dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer mended.Close()
	if !verify(mended) || order(mended) != "go:one#TestSpoils go:one#TestVictim go:two#TestVictim" {
		t.Errorf("mended, they run as %s", order(mended))
	}
	if known, err := mended.Culprits(); err != nil || len(known) != 0 {
		t.Errorf("known are %v, %v", known, err)
	}
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
			t.Errorf("the shard is told as %+v", planned)
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
