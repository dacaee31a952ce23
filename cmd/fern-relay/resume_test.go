package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fernrelay/internal/testfiles"
)

// TestResume kills a run in the middle with SIGKILL: the next start reports it and
// keeps what it had, and --resume runs the rest and only the rest.
func TestResume(t *testing.T) {
	dir := t.TempDir()
	var tests strings.Builder
	for i := range 40 {
		fmt.Fprintf(&tests, "func TestStep%02d(t *testing.T) { step(t, %d) }\n", i, i)
	}
	testfiles.Write(t, dir, map[string]string{"go.mod": "module example.org/long\n\ngo 1.26\n", "long_test.go": `package long

import ("fmt"; "os"; "testing"; "time")

func step(t *testing.T, n int) {
	log, err := os.OpenFile("log", os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil { t.Fatal(err) }
	defer log.Close()
	fmt.Fprintln(log, n)
	if n == 20 {
		if _, err := os.Stat("go-on"); err != nil { time.Sleep(time.Minute) }
	}
	if n == 7 { t.Fatal("seven") }
}

` + tests.String()})
	logged := func() []string {
		data, _ := os.ReadFile(filepath.Join(dir, "log"))
		return strings.Fields(string(data))
	}
	if got := fern(t, dir, "run", "--resume"); got.status != 2 || !strings.Contains(got.stderr, "no run was killed here") {
		t.Errorf("with nothing to resume: status %d: %s", got.status, got.stderr)
	}
	cmd := command(dir, "run", "--workers", "1", "-p", "name:Step")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	waitFor(t, "the run to come to the test that hangs, and to write that down", func() bool {
		journals, _ := filepath.Glob(filepath.Join(dir, ".fern", "runs", "*"))
		if len(journals) != 1 || len(logged()) < 21 {
			return false
		}
		data, _ := os.ReadFile(journals[0])
		return strings.Contains(string(data), "TestStep19\",\"outcome")
	})
	if got := fern(t, dir, "list"); strings.Contains(got.stderr, "killed") {
		t.Errorf("a run that lives is reported to be killed: %s", got.stderr)
	}
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	testfiles.Write(t, dir, map[string]string{"go-on": ""})
	if got := fern(t, dir, "list"); !strings.Contains(got.stderr, "run 1 was killed when 20 of 40 tests had ended: fern-relay run --resume") {
		t.Errorf("the killed run is not reported: %s", got.stderr)
	}
	if got := fern(t, dir, "list"); strings.Contains(got.stderr, "killed") {
		t.Errorf("it is reported again: %s", got.stderr)
	}
	before := len(logged())
	got := fern(t, dir, "run", "--resume", "--junit", "all.xml")
	data, err := os.ReadFile(filepath.Join(dir, "all.xml"))
	if got.status != 1 || !strings.Contains(got.stdout, "20 picked: 20 passed") || !strings.Contains(got.stdout, "together with the earlier part: 39 passed, 1 failed") ||
		err != nil || strings.Count(string(data), "<testcase") != 40 || len(logged())-before != 20 {
		t.Errorf("resumed with status %d, %d tests ran:\n%s%s", got.status, len(logged())-before, got.stdout, got.stderr)
	}
	if got := fern(t, dir, "run", "--resume"); got.status != 2 {
		t.Errorf("what is resumed can be resumed again: %s", got.stdout)
	}
	if left, _ := os.ReadDir(filepath.Join(dir, ".fern", "runs")); len(left) != 0 {
		t.Errorf("left are %v", left)
	}
}
