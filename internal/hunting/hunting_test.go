package hunting

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/testfiles"
)

// open makes a Go module with two packages whose tests depend on their order,
// and opens it.
func open(t *testing.T) Hunting {
	t.Helper()
	r, err := app.Open(context.Background(), testfiles.OrderDependent(t), nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = r.Close() })
	return Of(r)
}

func choose(t *testing.T, r Hunting, endings ...string) []catalog.Test {
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

func runTests(t *testing.T, r Hunting, tests []catalog.Test) *run.Run {
	t.Helper()
	run, _, err := r.Run(context.Background(), app.Request{Tests: tests, InOrder: true, Workers: 2}, func(run.Event) {})
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
	findings, err := r.Hunt(context.Background(), victims, Options{Workers: 3}, func(hunt.Progress) { reported++ })
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
		t.Errorf("only %d steps were reported", reported)
	}
}

// TestHuntStops ends a hunt in its middle: nothing is concluded. Hunted again it goes on
// where it was, unless a file has changed.
func TestHuntStops(t *testing.T) {
	r := open(t)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	findings, err := r.Hunt(ctx, choose(t, r, "one#TestVictim"), Options{Workers: 1}, func(p hunt.Progress) {
		if len(p.Records) == 2 {
			cancel()
		}
	})
	if err == nil || len(findings) != 0 {
		t.Errorf("found %v, %v", findings, err)
	}
	again := func() (kept int) {
		findings, err := r.Hunt(context.Background(), choose(t, r, "one#TestVictim"), Options{Workers: 1}, func(p hunt.Progress) { kept = p.Resumed })
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
	if _, err := r.Hunt(ctx, victims, Options{Workers: 2}, silent); err != nil {
		t.Fatal(err)
	}
	verify := func(r Hunting) (mended bool) {
		known, err := r.Culprits()
		if err != nil || len(known) != 1 {
			t.Fatalf("known are %v, %v", known, err)
		}
		_, err = r.Hunt(ctx, victims, Options{Workers: 2, Known: known}, func(p hunt.Progress) { mended = len(p.Finding.Mended) > 0 })
		if err != nil {
			t.Fatal(err)
		}
		return mended
	}
	order := func(r Hunting) string {
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
	file := filepath.Join(r.Project.Dir, "one/x_test.go")
	source, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	testfiles.Write(t, r.Project.Dir, map[string]string{"one/x_test.go": strings.Replace(string(source), "spoiled = true", "spoiled = false", 1)})
	reopened, err := app.Open(ctx, r.Project.Dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer reopened.Close()
	mended := Of(reopened)
	if !verify(mended) || order(mended) != "go:one#TestSpoils go:one#TestVictim go:two#TestVictim" {
		t.Errorf("mended, they run as %s", order(mended))
	}
	if known, err := mended.Culprits(); err != nil || len(known) != 0 {
		t.Errorf("known are %v, %v", known, err)
	}
}
