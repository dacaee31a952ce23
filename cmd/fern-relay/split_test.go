package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/internal/testfiles"
)

// times writes a file of timings of so many groups of tests, and gives its text.
func times(t *testing.T, dir string, groups, tests int) string {
	t.Helper()
	text := "id,seconds,spread,setup\n"
	for g := range groups {
		for i := range tests {
			text += fmt.Sprintf("u:g%d#t%d,%g,0.01,0.1\n", g, i, 0.1+float64((g*7+i*13)%29)/10)
		}
	}
	testfiles.Write(t, dir, map[string]string{"times.csv": text})
	return text
}

type jsonPlan struct {
	Shards []struct {
		Shard   int
		Seconds float64
		Tests   []string
	}
	Finish      float64 `json:"finish_s"`
	Floor       float64 `json:"floor_s"`
	Optimal     bool
	Fingerprint string
}

func planOf(t *testing.T, dir string, args ...string) jsonPlan {
	t.Helper()
	got := fern(t, dir, append([]string{"split", "--timings", "times.csv", "--json"}, args...)...)
	var p jsonPlan
	if err := json.Unmarshal([]byte(got.stdout), &p); err != nil || got.status != 0 {
		t.Fatalf("%v: status %d, %v\n%s", args, got.status, err, got.stderr)
	}
	return p
}

// TestSplit plans a file of timings in the ways there are.
func TestSplit(t *testing.T) {
	dir := t.TempDir()
	text := times(t, dir, 30, 10)
	plan := planOf(t, dir, "--shards", "5")
	if !plan.Optimal || plan.Finish != plan.Floor || len(plan.Shards) != 5 {
		t.Errorf("the plan is %+v", plan)
	}
	lines := strings.Split(strings.TrimSpace(text), "\n")
	turned := lines[0] + "\n"
	for i := len(lines) - 1; i > 0; i-- {
		turned += lines[i] + "\n"
	}
	testfiles.Write(t, dir, map[string]string{"times.csv": turned})
	if again := planOf(t, dir, "--shards", "5"); again.Fingerprint != plan.Fingerprint {
		t.Error("the order of the file changes the plan")
	}

	within := planOf(t, dir, "--within", fmt.Sprint(plan.Finish+0.001, "s"))
	if len(within.Shards) != 5 {
		t.Errorf("%d shards are said to be needed for what 5 do", len(within.Shards))
	}
	if got := fern(t, dir, "split", "--timings", "times.csv", "--within", "500ms"); got.status != 2 || !strings.Contains(got.stderr, "as g") || !strings.Contains(got.stderr, "--together test") {
		t.Errorf("what cannot be met ends with %d: %s", got.status, got.stderr)
	}
	late := planOf(t, dir, "--shards", "5", "--late", "2=20s", "--pin", "g7=3")
	if late.Shards[1].Seconds > plan.Finish-15 || !strings.Contains(strings.Join(late.Shards[2].Tests, " "), "u:g7#t0") {
		t.Errorf("the shard that begins late takes %g s", late.Shards[1].Seconds)
	}

	got := fern(t, dir, "split", "--timings", "times.csv", "--shards", "3", "--matrix", "--files", "out", "--svg", "plan.svg", "--pdf", "plan.pdf")
	var jobs []struct {
		Shard, Of int
		Label     string
	}
	if err := json.Unmarshal([]byte(got.stdout), &jobs); err != nil || len(jobs) != 3 || jobs[2].Shard != 3 || jobs[2].Of != 3 || strings.Count(got.stdout, "\n") != 1 {
		t.Errorf("the matrix is %s, %v\n%s", got.stdout, err, got.stderr)
	}
	seen := 0
	for k := 1; k <= 3; k++ {
		ids, err := os.ReadFile(filepath.Join(dir, "out", fmt.Sprintf("shard-%d.txt", k)))
		if err != nil {
			t.Fatal(err)
		}
		seen += strings.Count(string(ids), "\n")
	}
	if seen != 300 {
		t.Errorf("the files hold %d of 300 tests", seen)
	}
	fern(t, dir, "split", "--timings", "times.csv", "--shards", "2", "--files", "out")
	if left, _ := filepath.Glob(filepath.Join(dir, "out", "*")); len(left) != 2 {
		t.Errorf("after another plan there are %v", left)
	}
	testfiles.Write(t, dir, map[string]string{"out/shard-3.txt": "what I noticed about shard 3\n", "out/shard-4.txt": "u:g1#t0\n"})
	got = fern(t, dir, "split", "--timings", "times.csv", "--shards", "1", "--files", "out")
	if left, _ := filepath.Glob(filepath.Join(dir, "out", "*")); got.status != 2 || len(left) != 4 || !strings.Contains(got.stderr, "shard-3.txt, which is not of this plan") {
		t.Errorf("beside a file of somebody else: status %d: %s, left are %v", got.status, got.stderr, left)
	}

	if got := fern(t, dir, "split", "--timings", "times.csv", "--shards", "31"); got.status != 0 || !strings.Contains(got.stdout, "1 shard is empty") {
		t.Errorf("of an empty shard it says %s%s", got.stdout, got.stderr)
	}
	if got := fern(t, dir, "split", "--timings", "times.csv"); got.status != 0 || !strings.Contains(got.stdout, "the knee") {
		t.Errorf("the curve is %s%s", got.stdout, got.stderr)
	}
	testfiles.Write(t, dir, map[string]string{"twice.csv": "id,seconds\na,1\nb,1\na,2\nb,3\n"})
	if got := fern(t, dir, "split", "--timings", "twice.csv", "--shards", "2", "-v", "--files", "none"); got.status != 2 || !strings.Contains(got.stderr, "line 5: the id \"b\" is already in line 3") {
		t.Errorf("about IDs that occur twice it says %s", got.stderr)
	}
	if _, err := os.Stat(filepath.Join(dir, "none")); err == nil {
		t.Error("something was written in spite of the mistake")
	}
}

// TestSteadySplit holds that a plan is kept but for what has changed.
func TestSteadySplit(t *testing.T) {
	dir := t.TempDir()
	text := times(t, dir, 100, 10)
	got := fern(t, dir, "split", "--timings", "times.csv", "--shards", "8", "--together", "test", "--json")
	testfiles.Write(t, dir, map[string]string{"plan.json": got.stdout})
	before := map[string]int{}
	for _, s := range planOf(t, dir, "--shards", "8", "--together", "test").Shards {
		for _, id := range s.Tests {
			before[id] = s.Shard
		}
	}
	lines := strings.SplitAfter(text, "\n")
	for i := 1; i < 20; i++ { // 2 % of the tests take another time
		id, _, _ := strings.Cut(lines[i*50], ",")
		lines[i*50] = id + ",2.2,0.01,0.05\n"
	}
	testfiles.Write(t, dir, map[string]string{"times.csv": strings.Join(lines, "")})
	fresh := planOf(t, dir, "--shards", "8", "--together", "test")
	steady := planOf(t, dir, "--shards", "8", "--together", "test", "--steady", "plan.json", "--allow", "1")
	moved := 0
	for _, s := range steady.Shards {
		for _, id := range s.Tests {
			if before[id] != s.Shard {
				moved++
			}
		}
	}
	if moved > 50 || steady.Finish > fresh.Finish*1.0101 {
		t.Errorf("%d of 1000 tests moved, the finish is %g and could be %g", moved, steady.Finish, fresh.Finish)
	}
}

// TestShardsPlanAlike runs the shards of one plan as machines without a ledger do:
// every test once, and all with the same fingerprints in their events; a machine
// with other times has others.
func TestShardsPlanAlike(t *testing.T) {
	t.Parallel()
	dir := trouble(t, goSuite)
	pick := "in:order/** or in:tagged or in:needs or in:beside"
	got := fern(t, dir, "list", "--json", "-p", pick)
	text := "id,seconds\n"
	for line := range strings.Lines(got.stdout) {
		var test catalog.Test
		if err := json.Unmarshal([]byte(line), &test); err != nil {
			t.Fatal(err)
		}
		text += fmt.Sprintf("%s,%d\n", test.ID, 1+len(test.Name)%5)
	}
	testfiles.Write(t, dir, map[string]string{"times.csv": text + "unit:gone#TestGone,3\n", "other.csv": "id,seconds\n"})
	covered, prints := map[string]int{}, map[string]bool{}
	shard := func(k, timings string) {
		got := fern(t, dir, "run", "-p", pick, "--shard", k, "--together", "test", "--timings", timings, "--events", "shard.jsonl", "-v")
		events := readEvents(t, filepath.Join(dir, "shard.jsonl"))
		planned := events[0].Planned
		if planned == nil || fmt.Sprintf("%d/%d", planned.Shard, planned.Of) != k {
			t.Fatalf("shard %s is reported as %+v\n%s", k, planned, got.stderr)
		}
		if timings == "times.csv" && !strings.Contains(got.stderr, "has 1 ID that no test of the project has:\n    unit:gone#TestGone") {
			t.Errorf("the unknown ID is not reported: %s", got.stderr)
		}
		prints[planned.Plan+planned.Catalog+planned.Timings] = true
		for id := range outcomes(events) {
			covered[id]++
		}
	}
	shard("1/2", "times.csv")
	if err := os.RemoveAll(filepath.Join(dir, ".fern")); err != nil { // as on another machine
		t.Fatal(err)
	}
	shard("2/2", "times.csv")
	if len(prints) != 1 || len(covered) != strings.Count(text, "\n")-1 {
		t.Errorf("%d plans of %d tests", len(prints), len(covered))
	}
	for id, n := range covered {
		if n != 1 {
			t.Errorf("%s ran in %d shards", id, n)
		}
	}
	shard("1/2", "other.csv")
	if len(prints) != 2 {
		t.Error("other times have the same fingerprints")
	}
	fern(t, dir, "run", "-p", pick)
	fern(t, dir, "ledger", "timings", "-o", "times.csv")
	first, err := os.ReadFile(filepath.Join(dir, "times.csv"))
	if got := fern(t, dir, "ledger", "timings"); err != nil || !strings.HasPrefix(got.stdout, "id,seconds,spread,setup\n") || strings.Count(got.stdout, "\n") != strings.Count(string(first), "\n") {
		t.Errorf("the timings are %s, in the file %s, %v", got.stdout, first, err)
	}
	if got := fern(t, dir, "draw", "curve", "-p", pick, "-o", "curve.svg"); got.status != 0 {
		t.Errorf("the curve is not drawn: %s", got.stderr)
	}
}

// TestSplitOnScreen changes a plan in all the ways there are, and runs it.
func TestSplitOnScreen(t *testing.T) {
	t.Parallel()
	s := open(t, 160, 40, t.TempDir(), []string{"XDG_CACHE_HOME=" + t.TempDir()}, "demo")
	s.shows("Survey 252 of 252")
	s.press("/")
	s.typed("in:alarms or in:rounds")
	s.shows("Survey 49 of 252")
	s.press("Enter")
	s.shows("q quit")
	s.press("2")
	s.shows("Split 4 ×", "4 shards", "groups stay together", "Is another machine worth it?", "1 run of 20")
	s.whole()
	s.press("]", "]")
	s.shows("6 shards", "nothing is left for it")
	s.press("t")
	s.shows("files stay together")
	s.press("t")
	s.shows("tests stay together", "6 shards", "rounds#")
	s.whole()
	s.press("l", "l")
	s.shows("4 at once")
	s.press("L", "L", "Down", "w", "w")
	s.shows("30 s late")
	s.press("u")
	s.shows("a shared queue", "19 of 20 by", "queue, one 60 s late")
	s.whole()
	s.press("u", "w", "w", "w", "t", "[", "[")
	s.shows("4 shards", "groups stay together")
	s.press("Up", "p")
	s.shows("• pinned")
	s.press("J", "J")
	s.shows("›  3", "• pinned")
	s.whole()
	s.press("Enter")
	s.shows("Watch 49/49", "49 passed", "took ")
	s.press("q")
	s.ended()
}

// TestRepeatAndStop runs the pick several times and reports what differed, and stops
// after a failure; the reports hold the gravest outcome of each test.
func TestRepeatAndStop(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"go.mod": "module example.org/moody\n\ngo 1.26\n", "m_test.go": `package moody

import ("os"; "testing"; "time")

func TestFine(t *testing.T) {}

func TestMoody(t *testing.T) {
	if _, err := os.Stat("moody"); err == nil { return }
	os.WriteFile("moody", nil, 0o644)
	t.Fatal("in a mood")
}

func TestSlow(t *testing.T) { time.Sleep(400 * time.Millisecond) }

func TestBehind(t *testing.T) {}
`})
	got := fern(t, dir, "run", "--workers", "1", "--repeat", "3", "--show", "names", "--junit", "all.xml")
	if got.status != 1 || !strings.Contains(got.stdout, "3 runs: 1 test differed\n    go:.#TestMoody  passed 2, failed 1 of 3") || strings.Count(got.stdout, "▪ go:.#TestFine") != 3 {
		t.Errorf("repeated with status %d:\n%s%s", got.status, got.stdout, got.stderr)
	}
	data, err := os.ReadFile(filepath.Join(dir, "all.xml"))
	if err != nil || strings.Count(string(data), "<testcase") != 4 || strings.Count(string(data), "<failure") != 1 {
		t.Errorf("the report is %s, %v", data, err)
	}
	if err := os.Remove(filepath.Join(dir, "moody")); err != nil {
		t.Fatal(err)
	}
	got = fern(t, dir, "run", "--workers", "1", "--stop-after", "1")
	if got.status != 1 || !strings.Contains(got.stdout, "the run stopped after 1 that failed") || !regexp.MustCompile(`planned 0\.[3-9]\d s, alone`).MatchString(got.stdout) || !strings.Contains(got.stdout, "1 failed, 2 skipped") {
		t.Errorf("stopped with status %d:\n%s%s", got.status, got.stdout, got.stderr)
	}
}
