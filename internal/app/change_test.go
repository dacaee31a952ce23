package app

import (
	"context"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/testfiles"
)

func idsIn(tests []catalog.Test) string {
	var ids []string
	for _, t := range tests {
		ids = append(ids, strings.TrimPrefix(t.ID, "go:"))
	}
	return strings.Join(ids, " ")
}

// TestChangeRequest holds that a change runs what it touches and what a superseded run
// has left, what failed last time first.
func TestChangeRequest(t *testing.T) {
	r := open(t)
	runTests(t, r, choose(t, r, "one#TestVictim", "one#TestAlwaysBad"))
	r, err := r.Recall()
	if err != nil {
		t.Fatal(err)
	}
	changed := []string{filepath.Join(r.Project.Dir, "one", "x_test.go")}
	q, err := r.ChangeRequest(t.Context(), "not name:Needs", changed, nil, 3)
	if err != nil || idsIn(q.Tests) != "one#TestAlwaysBad one#TestFills one#TestVictim one#TestSpoils" || q.First["go:one#TestAlwaysBad"] != 1 || len(q.First) != 1 || q.Workers != 3 {
		t.Errorf("a change runs %s first %v, %v", idsIn(q.Tests), q.First, err)
	}
	if batch := r.Schedule(q).Batches[0]; batch.Tests[0].Name != "TestAlwaysBad" {
		t.Errorf("the first batch begins with %s", batch.Tests[0].ID)
	}
	left := run.New()
	left.Apply(run.Event{Event: run.Finished, ID: "go:two#TestNeeds", Outcome: run.Lost})
	left.Apply(run.Event{Event: run.Finished, ID: "go:two#TestFills", Outcome: run.Passed})
	if q, err = r.ChangeRequest(t.Context(), "", nil, left, 1); err != nil || idsIn(q.Tests) != "two#TestNeeds" {
		t.Errorf("a superseded run leaves %s, %v", idsIn(q.Tests), err)
	}
}

// TestSources leaves out what git ignores.
func TestSources(t *testing.T) {
	r := open(t)
	dir := r.Project.Dir
	testfiles.Write(t, dir, map[string]string{".gitignore": "*.out\n", "one/written.out": "", "one/y.go": "package one\n"})
	files := []string{filepath.Join(dir, "one", "written.out"), filepath.Join(dir, "one", "y.go")}
	if got := r.sources(context.Background(), files); len(got) != 2 {
		t.Errorf("without git %v are sources", got)
	}
	if out, err := exec.Command("git", "init", "-q", dir).CombinedOutput(); err != nil {
		t.Skipf("git is missing: %v: %s", err, out)
	}
	if got := r.sources(context.Background(), files); !slices.Equal(got, files[1:]) {
		t.Errorf("%v are sources", got)
	}
}
