package main

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"fernrelay/core/catalog"
)

// shardSizes returns how many tests each shard of a plan has.
func shardSizes(t *testing.T, got result) (sizes []int) {
	t.Helper()
	var plan struct {
		Shards []struct{ Tests []string }
	}
	if err := json.Unmarshal([]byte(got.stdout), &plan); err != nil {
		t.Fatalf("%v: %s%s", err, got.stdout, got.stderr)
	}
	for _, s := range plan.Shards {
		sizes = append(sizes, len(s.Tests))
	}
	return sizes
}

// TestTogetherIsDecidedOnce holds that runs, plans and shards keep the same tests together: scripts, each a process of
// its own, not at all, unless fern.toml or a rule says so; and that shards and workers without tests are explained.
func TestTogetherIsDecidedOnce(t *testing.T) {
	t.Parallel()
	const list = "a b c d"
	const meets = "*) touch here.$1; until [ $(ls here.* | wc -l) -eq 4 ]; do sleep 0.01; done;;"
	if got := fern(t, scripts(t, "timeout = \"20s\"\n", list, meets), "run", "--workers", "4"); got.status != 0 {
		t.Errorf("scripts of one folder do not run side by side: %s%s", got.stdout, got.stderr)
	}
	together := scripts(t, "together = \"group\"\n", list, "")
	got := fern(t, together, "split", "--shards", "3", "--json")
	if sizes := shardSizes(t, got); sizes[0] != 4 || !strings.Contains(got.stderr, "2 of 3 shards have nothing to run: all 4 tests are one group: together = \"test\" divides it") {
		t.Errorf("one group is divided into %v: %s", sizes, got.stderr)
	}
	if got := fern(t, together, "run", "--shard", "2/3"); got.status != 0 || !strings.Contains(got.stderr, "shard 2 of 3 has no test; 2 of 3 shards have nothing") {
		t.Errorf("an empty shard: %d %s%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, together, "run", "--workers", "2"); !strings.Contains(got.stderr, "1 of 2 workers has nothing to run") {
		t.Errorf("a worker without tests: %s", got.stderr)
	}
	divided := scripts(t, "together = \"test\"\n\n[[rule]]\npick = \"name:/^[ab]$/\"\ntogether = \"group\"\n", list, "")
	got = fern(t, divided, "split", "--shards", "4", "--json")
	if sizes := shardSizes(t, got); sizes[0] != 2 || sizes[2] != 1 || sizes[3] != 0 {
		t.Errorf("two that stay together and two others are divided into %v: %s", sizes, got.stderr)
	}
	ran := 0
	for _, shard := range []string{"1/3", "2/3", "3/3"} {
		got := fern(t, divided, "run", "--shard", shard, "--events", "e.jsonl")
		if n := len(outcomes(readEvents(t, filepath.Join(divided, "e.jsonl")))); got.status != 0 || n == 0 {
			t.Errorf("shard %s ran %d tests: %s", shard, n, got.stderr)
		} else {
			ran += n
		}
	}
	if ran != 4 {
		t.Errorf("the shards ran %d tests of 4", ran)
	}
	if got := fern(t, scripts(t, "[[rule]]\npick = \"name:a\"\ntogether = \"never\"\n", list, ""), "list"); got.status != 2 || !strings.Contains(got.stderr, string(catalog.FileLevel)) {
		t.Errorf("a level that is none: %d %s", got.status, got.stderr)
	}
}

// TestIsolatedByRule holds that the rule isolate gives a test a process of its own, so that its state reaches no other.
func TestIsolatedByRule(t *testing.T) {
	t.Parallel()
	dir := trouble(t, goSuite)
	if got := fern(t, dir, "run", "-p", "in:state"); got.status != 1 {
		t.Fatalf("in one process all is well: %s", got.stdout)
	}
	dir = trouble(t, goSuite+"\n[[rule]]\npick = \"name:TestRaises\"\nisolate = \"test\"\n")
	if got := fern(t, dir, "run", "-p", "in:state"); got.status != 0 {
		t.Errorf("status %d: %s%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, dir, "list", "-p", "rule:isolate", "--json"); !strings.Contains(got.stdout, `"isolate":"test"`) {
		t.Errorf("the list says %s%s", got.stdout, got.stderr)
	}
}

// TestMachinesTakeTimeToStart holds that plans for machines include the time that fern.toml says, or that runs took before
// their first test, and that plans for workers here do not.
func TestMachinesTakeTimeToStart(t *testing.T) {
	t.Parallel()
	start := func(dir string, args ...string) float64 {
		t.Helper()
		var plan struct {
			Shards []struct {
				Start float64 `json:"start_s"`
			}
		}
		got := fern(t, dir, append([]string{"split", "--shards", "2", "--json"}, args...)...)
		if err := json.Unmarshal([]byte(got.stdout), &plan); err != nil || len(plan.Shards) != 2 {
			t.Fatalf("%v: %s%s", err, got.stdout, got.stderr)
		}
		return plan.Shards[1].Start
	}
	said := scripts(t, "\n[fleet]\nstart = \"90s\"\n", "a b", "")
	if s := start(said); s != 90 {
		t.Errorf("a machine starts in %g s", s)
	}
	if words := fern(t, said, "split", "--shards", "2").stdout; !strings.Contains(words, "each machine takes 90.0 s to start") {
		t.Errorf("the plan is %s", words)
	}
	learned := scripts(t, "\n[workers]\nprepare = \"sleep 1.1\"\n", "a b", "")
	if got := fern(t, learned, "run", "--workers", "2"); got.status != 0 {
		t.Fatal(got.stderr)
	}
	if s := start(learned); s < 1 {
		t.Errorf("after a run that was prepared for 1.1 s a machine starts in %g s", s)
	}
	if s := start(learned, "--here"); s != 0 {
		t.Errorf("a worker here starts in %g s", s)
	}
}
