package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/mattn/go-shellwords"

	"fernrelay/internal/testfiles"
)

// TestPicksOnTheCommandLine picks in ways that once selected something else, or nothing without a word.
func TestPicksOnTheCommandLine(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "[tags]\nsluggish = \"took>5s\"\n", "deep/er/ValveOpens deep/x other/Shut", "other/*) exit 1;;")
	if got := fern(t, dir, "run"); got.status != 1 {
		t.Fatal(got.stderr)
	}
	for _, c := range []struct {
		args   []string
		stdout string
		status int
		stderr string
	}{
		{[]string{"list", "-p", "in:deep"}, "c:deep/er#deep/er/ValveOpens c:deep#deep/x", 0, ""},
		{[]string{"list", "-p", "in:deep/."}, "c:deep#deep/x", 0, ""},
		{[]string{"list", "-p", "name:valve"}, "c:deep/er#deep/er/ValveOpens", 0, ""},
		{[]string{"list", "-p", "name:VALVE"}, "", 0, `the pick "name:VALVE" selects no test`},
		{[]string{"list", "-p", "in:other or name:x", "-p", "in:deep"}, "c:deep#deep/x", 0, ""},
		{[]string{"list", "-p", "in:deep", "-p", "was:failed"}, "", 0, "was:failed       0  2 out"},
		{[]string{"list", "-p", "in:[x"}, "", 2, "the wildcards are"},
		{[]string{"list", "-p", "sluggish"}, "", 0, "sluggish       0  3 out"},
		{[]string{"list", "-p", "slugish"}, "", 2, "no test carries the tag"},
		{[]string{"replay", "last-1"}, "", 2, "run last-1 cannot be replayed"},
		{[]string{"replay", "lost"}, "", 2, `"lost" is no run`},
	} {
		got := fern(t, dir, c.args...)
		for id := range strings.FieldsSeq(c.stdout) {
			if !strings.Contains(got.stdout, id) {
				t.Errorf("%s: %q is not in %s", c.args, id, got.stdout)
			}
		}
		if got.status != c.status || !strings.Contains(got.stderr, c.stderr) || c.args[0] == "list" && strings.Count(got.stdout, "#") != strings.Count(c.stdout, "#") {
			t.Errorf("%s ends with %d: %s%s", c.args, got.status, got.stdout, got.stderr)
		}
	}
	if got := fern(t, dir, "run", "-p", "in:deep"); got.status != 0 {
		t.Fatal(got.stderr)
	}
	if got := fern(t, dir, "replay", "last-1"); got.status != 1 || !strings.Contains(got.stdout, "3 picked: 2 passed, 1 failed") {
		t.Errorf("the run before the latest, again: %d %s%s", got.status, got.stdout, got.stderr)
	}
}

// TestEstimatesAreMarked holds that sums of expected times say which part of them nobody has measured.
func TestEstimatesAreMarked(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "", "known new", "known) sleep 0.2;;")
	if got := fern(t, dir, "run", "-p", "name:known"); got.status != 0 {
		t.Fatal(got.stderr)
	}
	for _, args := range [][]string{{"list", "--count", "group"}, {"split", "--shards", "1"}} {
		if got := fern(t, dir, args...); !regexp.MustCompile(`0:00\.4, of which 0:00\.2 estimated`).MatchString(got.stdout) {
			t.Errorf("%s: %s%s", args, got.stdout, got.stderr)
		}
	}
	if got := fern(t, dir, "list", "--count", "group", "-p", "name:known"); strings.Contains(got.stdout, "estimated") {
		t.Errorf("what is measured: %s", got.stdout)
	}
}

// TestFailuresStay holds that a test stays one that failed until it runs again: also if a later run ended
// before it, or skipped it because it ran without what it needs.
func TestFailuresStay(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "[[rule]]\npick = \"name:needs\"\nneeds = [\"base\"]\n", "base one two needs", "one|two|needs) exit 1;;")
	run := func(status int, words string, args ...string) {
		t.Helper()
		if got := fern(t, dir, append([]string{"run", "--workers", "1"}, args...)...); got.status != status || !strings.Contains(got.stdout, words) {
			t.Errorf("run %s ends with %d: %s%s", args, got.status, got.stdout, got.stderr)
		}
	}
	bad := func(want int) {
		t.Helper()
		if got := fern(t, dir, "list", "-p", "was:bad"); strings.Count(got.stdout, "\n") != want {
			t.Errorf("%d are bad, not:\n%s", want, got.stdout)
		}
	}
	run(1, "1 passed, 3 failed")
	run(1, "1 failed, ", "-p", "was:bad", "--stop-after", "1")
	bad(3)
	run(3, "nothing of the pick ran", "-p", "name:needs")
	bad(3)
	run(1, "4 picked: 1 passed, 3 failed", "-p", "was:bad")
	bad(3)
}

// TestOnlyWhatRanIsOwed holds that an expected failure excuses no test that could not run.
func TestOnlyWhatRanIsOwed(t *testing.T) {
	t.Parallel()
	dir := scripts(t, `
[[suite]]
name = "gone"
kind = "command"
list = "echo absent"
run = "./nowhere {name}"

[[suite]]
name = "unit"
kind = "go"
dir = "unit"

[[rule]]
pick = "name:/./"
expect-fail = "known"
`, "fails dies", "fails) exit 1;;\ndies) kill -9 $$;;")
	testfiles.Write(t, dir, map[string]string{
		"unit/go.mod":               "module unit\n\ngo 1.24\n",
		"unit/broken/b_test.go":     "package broken\n\nimport \"testing\"\n\nfunc TestBroken(t *testing.T) { undefined() }\n",
		"unit/panics/panic_test.go": "package panics\n\nimport \"testing\"\n\nfunc TestPanics(t *testing.T) { panic(\"known\") }\n",
	})
	got := fern(t, dir, "run", "--events", "e.jsonl")
	outcomes := outcomes(readEvents(t, filepath.Join(dir, "e.jsonl")))
	for id, want := range map[string]string{"c:.#fails": "owed", "c:.#dies": "owed", "gone:.#absent": "errored", "unit:broken#TestBroken": "errored", "unit:panics#TestPanics": "owed"} {
		if string(outcomes[id]) != want {
			t.Errorf("%s is %s, want %s", id, outcomes[id], want)
		}
	}
	if got.status != 1 {
		t.Errorf("status %d: %s%s", got.status, got.stdout, got.stderr)
	}
	testfiles.Write(t, dir, map[string]string{"fern.toml": "[workers]\nprepare = \"false\"\n\n" + read(t, dir, "fern.toml")})
	if got := fern(t, dir, "run", "-p", "name:fails"); got.status != 1 || !strings.Contains(got.stdout, "1 errored") {
		t.Errorf("with a worker that cannot be prepared: %d %s%s", got.status, got.stdout, got.stderr)
	}
}

// TestBrokenSuite holds that a suite that cannot be read keeps no other from its work, and that an answer that lacks
// its tests says so by its status.
func TestBrokenSuite(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "[[suite]]\nname = \"devices\"\nkind = \"host\"\nrun = \"./nowhere\"\n", "good bad", "bad) exit 1;;")
	for _, c := range []struct {
		args   string
		status int
		stdout string
	}{
		{"list -p suite:c", 0, "c:.#good"},
		{"list", 2, "c:.#good"},
		{"list -p name:good", 2, "c:.#good"},
		{"run -p 'name:good not suite:devices'", 0, "1 passed"},
		{"run -p 'suite:c'", 1, "1 passed, 1 failed"},
		{"run", 2, "1 passed, 1 failed"},
		{"split --shards 2", 2, ""},
		{"split --shards 2 -p suite:c", 0, "finish"},
		{"run --shard 1/2", 2, ""},
		{"why good", 0, "c:.#good"},
	} {
		words, err := shellwords.Parse(c.args)
		if err != nil {
			t.Fatal(err)
		}
		if got := fern(t, dir, words...); got.status != c.status || !strings.Contains(got.stdout, c.stdout) || !strings.Contains(got.stderr, "suite devices cannot be read, and its tests are missing: ") {
			t.Errorf("%s ends with %d: %s%s", c.args, got.status, got.stdout, got.stderr)
		}
	}
}

func read(t *testing.T, dir, name string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// TestVet holds that a package in which the toolchain's checks find a mistake fails, as with the toolchain, unless
// the suite allows it.
func TestVet(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"go.mod":      "module vetted\n\ngo 1.24\n",
		"a/a_test.go": "package a\n\nimport (\n\t\"fmt\"\n\t\"testing\"\n)\n\nfunc TestA(t *testing.T) { fmt.Printf(\"%d\\n\", \"x\") }\n\nfunc TestToo(t *testing.T) {}\n",
		"b/b_test.go": "package b\n\nimport \"testing\"\n\nfunc TestB(t *testing.T) {}\n",
	})
	got := fern(t, dir, "run")
	if want := "◆ go:a, 2 tests  errored  a/a_test.go:8\n    go:a: go vet finds a mistake (vet = false in fern.toml allows it): fmt.Printf format %d has arg \"x\" of wrong type string\n"; got.status != 1 || !strings.Contains(got.stdout, want) || !strings.Contains(got.stdout, "1 passed, 2 errored") {
		t.Errorf("status %d: %s%s", got.status, got.stdout, got.stderr)
	}
	testfiles.Write(t, dir, map[string]string{"fern.toml": "[[suite]]\nname = \"go\"\nkind = \"go\"\nvet = false\n"})
	if got := fern(t, dir, "run"); got.status != 0 {
		t.Errorf("without the checks: status %d: %s%s", got.status, got.stdout, got.stderr)
	}
}
