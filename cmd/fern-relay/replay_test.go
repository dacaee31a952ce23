package main

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/run"
)

// placement gives for each worker the tests that it began, in order.
func placement(t *testing.T, file string) map[int][]string {
	t.Helper()
	begun := map[int][]string{}
	for _, e := range readEvents(t, file) {
		if e.Event == run.Started {
			begun[e.Worker] = append(begun[e.Worker], e.ID)
		}
	}
	return begun
}

func group(id string) string {
	group, _, _ := strings.Cut(id, "#")
	return group
}

// TestReplay repeats a run in a shuffled order on three workers, whole and one
// worker alone.
func TestReplay(t *testing.T) {
	t.Parallel()
	dir := trouble(t, goSuite)
	fern(t, dir, "run", "-p", "in:order/** or in:tagged or in:beside or in:needs", "--workers", "3", "--order", "shuffled", "--seed", "7", "--events", "first.jsonl")
	fern(t, dir, "run", "-p", "in:tagged") // so that it is not the latest
	first := placement(t, filepath.Join(dir, "first.jsonl"))
	got := fern(t, dir, "replay", "1", "--events", "again.jsonl")
	again := placement(t, filepath.Join(dir, "again.jsonl"))
	for worker := 1; worker <= 3; worker++ {
		if !slices.Equal(first[worker], again[worker]) {
			t.Errorf("worker %d began %v, and again %v\n%s", worker, first[worker], again[worker], got.stderr)
		}
		if len(first[worker]) == 0 {
			continue
		}
		fern(t, dir, "replay", "1", "--worker", fmt.Sprint(worker), "--events", "one.jsonl")
		if one := placement(t, filepath.Join(dir, "one.jsonl")); !slices.Equal(one[1], first[worker]) || len(one) != 1 {
			t.Errorf("worker %d alone began %v, in the run %v", worker, one, first[worker])
		}
	}
	order := func(file string) (ids []string) {
		for _, e := range readEvents(t, filepath.Join(dir, file)) {
			if e.Event == run.Started && !strings.HasPrefix(e.ID, "unit:beside#") { // which run side by side
				ids = append(ids, e.ID)
			}
		}
		return ids
	}
	got = fern(t, dir, "run", "-p", "not in:beside", "--workers", "1", "--order-from", "first.jsonl", "--events", "ordered.jsonl")
	// Groups that began side by side on several workers run one after the other, in the order in which they began.
	want := order("first.jsonl")
	rank := map[string]int{}
	for i, id := range slices.Backward(want) {
		rank[group(id)] = i
	}
	slices.SortStableFunc(want, func(a, b string) int { return rank[group(a)] - rank[group(b)] })
	if began := order("ordered.jsonl"); !slices.Equal(began, want) || len(began) == 0 {
		t.Errorf("in the order of the report began %v, want %v\n%s", began, want, got.stderr)
	}
	for args, words := range map[string]string{"99": "no such run", "soon": "write its number", "1 --worker 9": "no worker 9", "1 --worker 0": "--worker is 0"} {
		if got := fern(t, dir, append([]string{"replay"}, strings.Fields(args)...)...); got.status != 2 || !strings.Contains(got.stderr, words) {
			t.Errorf("replay %s: status %d: %s", args, got.status, got.stderr)
		}
	}
}
