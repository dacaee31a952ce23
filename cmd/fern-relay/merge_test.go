package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fernrelay/internal/testfiles"
)

// TestMergeCommand merges the reports of three shards, each in another format, and
// then with a shard missing and a report broken.
func TestMergeCommand(t *testing.T) {
	t.Parallel()
	dir := trouble(t, goSuite)
	worst := 0
	for k := 1; k <= 3; k++ {
		got := fern(t, dir, "run", "-p", "in:order/** or in:tagged or in:crash", "--shard", fmt.Sprint(k, "/3"), "--together", "test",
			"--junit", fmt.Sprint(k, ".xml"), "--tap", fmt.Sprint(k, ".tap"), "--events", fmt.Sprint(k, ".jsonl"))
		worst = max(worst, got.status)
		if err := os.RemoveAll(filepath.Join(dir, ".fern", "ledger.db")); err != nil { // as on another machine
			t.Fatal(err)
		}
	}
	whole := fern(t, dir, "run", "-p", "in:order/** or in:tagged or in:crash")
	got := fern(t, dir, "merge", "1.xml", "2.tap", "3.jsonl", "--junit", "all.xml", "--tap", "all.tap", "--events", "all.jsonl")
	if got.status != whole.status || worst != 1 || whole.status != 1 || !strings.Contains(got.stdout, "2.tap  tap, shard 2 of 3") || !strings.Contains(got.stdout, "3 of 3 shards came back") {
		t.Errorf("merged with status %d, the whole run ended with %d, the worst shard with %d:\n%s%s", got.status, whole.status, worst, got.stdout, got.stderr)
	}
	summary := got.stdout[strings.LastIndex(strings.TrimSpace(got.stdout), "\n"):]
	for _, name := range []string{"all.xml", "all.tap", "all.jsonl"} {
		if again := fern(t, dir, "merge", name); !strings.HasSuffix(again.stdout, summary) {
			t.Errorf("%s says %s, want %s", name, again.stdout, summary)
		}
	}
	data, err := os.ReadFile(filepath.Join(dir, "2.xml"))
	if err != nil {
		t.Fatal(err)
	}
	testfiles.Write(t, dir, map[string]string{"half.xml": string(data[:len(data)*2/3])})
	got = fern(t, dir, "merge", "1.xml", "half.xml", "1.tap", "nowhere.xml", "--tap", "rest.tap")
	if got.status != 3 {
		t.Errorf("what is not whole ends with %d", got.status)
	}
	for _, words := range []string{"half.xml: the XML is broken", "nowhere.xml", "missing: 3", "is in several reports", "1 of 3 shards came back; broken: 2; missing: 3",
		"tests in no report", "fern-relay run --shard 3/3 -p 'in:order/** or in:tagged or in:crash'"} {
		if !strings.Contains(got.stdout+got.stderr, words) {
			t.Errorf("it does not say %q:\n%s%s", words, got.stdout, got.stderr)
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "rest.tap")); err != nil {
		t.Errorf("what there is is not written: %v", err)
	}
}

// TestMergeStaleShard merges three shards, of which one is of an earlier plan, in any order of the files: the report names the shard, the
// tests that nobody ran, the test that the plan no longer has, and how to run the shard.
func TestMergeStaleShard(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "", "old1 old2 old3", "")
	shard := func(k int, file string) {
		if got := fern(t, dir, "run", "--shard", fmt.Sprint(k, "/3"), "--junit", file); got.status != 0 {
			t.Fatalf("shard %d: %d %s%s", k, got.status, got.stdout, got.stderr)
		}
		if err := os.RemoveAll(filepath.Join(dir, ".fern", "ledger.db")); err != nil { // as on another machine
			t.Fatal(err)
		}
	}
	shard(2, "stale.xml")
	testfiles.Write(t, dir, map[string]string{"list": "#!/bin/sh\nprintf 'a\\nb\\nc\\nd\\ne\\nf\\ng\\n'\n"})
	shard(1, "1.xml")
	shard(3, "3.xml")
	for _, files := range [][]string{{"stale.xml", "1.xml", "3.xml"}, {"1.xml", "3.xml", "stale.xml"}} {
		got := fern(t, dir, append([]string{"merge", "-o", "out.md"}, files...)...)
		if got.status != 3 {
			t.Errorf("%v: status %d", files, got.status)
		}
		for _, words := range []string{"incomplete: shard 2 of 3 is of another plan", "stale.xml is shard 2 of 3, planned with other tests", "2 of 3 shards came back; of another plan: 2", "fern-relay run --shard 2/3", "lost: the report of its shard is missing, broken or of another plan", "in no report: .#", "1 test of the reports not in the plan: .#old"} {
			if !strings.Contains(got.stdout, words) {
				t.Errorf("%v: %q is missing in\n%s%s", files, words, got.stdout, got.stderr)
			}
		}
	}
}
