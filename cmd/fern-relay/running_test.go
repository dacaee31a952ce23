package main

import (
	"bytes"
	"context"
	"encoding/xml"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"fernrelay/core/run"
	"fernrelay/internal/testfiles"
)

// scripts makes a project of shell scripts: what is listed, and what each test does
// as the branches of a case over its name.
func scripts(t *testing.T, config, list, cases string) string {
	t.Helper()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"./list\"\nrun = \"./check {name}\"\n" + config,
		"list":      "#!/bin/sh\nprintf '" + strings.ReplaceAll(list, " ", "\\n") + "\\n'\n",
		"check":     "#!/bin/sh\ncase $1 in\n" + cases + "\nesac\n",
	})
	for _, name := range []string{"list", "check"} {
		if err := os.Chmod(filepath.Join(dir, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// TestFaults runs what tests may do to a run: each has its one outcome, the status is
// true to them, the reports are whole, and no process is left.
func TestFaults(t *testing.T) {
	dir := scripts(t, "[[suite]]\nname = \"h\"\nkind = \"command\"\nlist = \"echo hangs\"\nrun = \"./check {name}\"\ntimeout = \"2s\"\n", "good flood binary daemon kills shaky", `
flood) yes "the water rises" | head -c 20000000; echo THE END; exit 1;;
binary) head -c 300000 /dev/urandom; printf '\033[2J\377\000'; exit 1;;
daemon) setsid sh -c 'echo $$ >> pids; exec sleep 87654' >/dev/null 2>&1 & setsid sh -c 'echo $$ >> pids; exec sleep 87654' &
	while [ $(cat pids | wc -l) -lt 2 ]; do sleep 0.01; done;;
kills) kill -9 $$;;
hangs) echo $$ >> pids; trap '' TERM INT; sleep 87654;;
shaky) test -e tried || { touch tried; echo "got: 3 want: 4"; exit 1; };;`)
	got := fern(t, dir, "run", "--retries", "1", "--took-over", "1s", "--events", "e.jsonl", "--junit", "j.xml", "--tap", "t.tap")
	want := map[string]run.Outcome{"good": "passed", "flood": "failed", "binary": "failed", "daemon": "passed", "kills": "errored", "hangs": "timed-out", "shaky": "passed"}
	events := readEvents(t, filepath.Join(dir, "e.jsonl"))
	times := map[string]int{}
	for _, e := range events {
		if e.Event == run.Finished {
			times[e.ID[len("c:.#"):]]++
		}
	}
	for id, o := range outcomes(events) {
		if name := id[len("c:.#"):]; o != want[name] || times[name] != 1 {
			t.Errorf("%s: %s, %d times, want %s once", name, o, times[name], want[name])
		}
	}
	for _, words := range []string{"▪ c:.#shaky  flaky: passed in try 2; try 1 failed", "slow: h:.#hangs took ", "it printed 40.0 MB: the first 40.0 MB are in ",
		"7 picked: 2 passed, 1 flaky, 2 failed, 1 errored, 1 timed-out;", "signal 9"} {
		if !strings.Contains(got.stdout, words) {
			t.Errorf("%q is not printed:\n%s", words, got.stdout[:min(len(got.stdout), 4000)])
		}
	}
	report, err := os.ReadFile(filepath.Join(dir, "j.xml"))
	if err != nil || xml.Unmarshal(report, new(struct{})) != nil || got.status != 1 || strings.Contains(got.stdout, "\033") {
		t.Errorf("status %d, %v", got.status, err)
	}
	for _, report := range []string{"j.xml", "t.tap", "e.jsonl"} {
		if again := fern(t, dir, "merge", report); !strings.Contains(again.stdout, "7 tests: 2 passed, 1 flaky, 2 failed, 1 errored, 1 timed-out") {
			t.Errorf("%s says:\n%s", report, again.stdout[len(again.stdout)-min(len(again.stdout), 1000):])
		}
	}
	waitForEnd(t, filepath.Join(dir, "pids"), 4) // hangs has two tries
}

// TestInterrupt presses Ctrl-C once and twice: what runs comes to its end, or not,
// what had not begun is lost, and everything is reported and kept. A reader that goes away
// and a full disk do not end the run either.
func TestInterrupt(t *testing.T) {
	dir := scripts(t, "", "first second", "first) touch began; while [ ! -e go ]; do sleep 0.02; done;;")
	file := func(name string) string { return filepath.Join(dir, name) }
	for presses, want := range []string{1: "1 passed, 1 lost", 2: "2 lost"} {
		if presses == 0 {
			continue
		}
		for _, name := range []string{"began", "go"} {
			if err := os.RemoveAll(file(name)); err != nil {
				t.Fatal(err)
			}
		}
		var stderr lockedBuffer
		cmd := command(dir, "run", "--workers", "1", "--junit", "j.xml")
		cmd.Stderr = &stderr
		var stdout bytes.Buffer
		cmd.Stdout = &stdout
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		waitFor(t, "the first test to run", func() bool { _, err := os.Stat(file("began")); return err == nil })
		for n := range presses {
			if err := cmd.Process.Signal(os.Interrupt); err != nil {
				t.Fatal(err)
			}
			if n == 0 {
				waitFor(t, "the first Ctrl-C to be heard", func() bool { return strings.Contains(stderr.String(), "Ctrl-C again") })
			}
		}
		if presses == 1 {
			testfiles.Write(t, dir, map[string]string{"go": ""})
		}
		_ = cmd.Wait()
		if cmd.ProcessState.ExitCode() != 3 || !strings.Contains(stdout.String(), want+";") || !strings.Contains(stderr.String(), "kept as run") {
			t.Errorf("after %d: status %d\n%s%s", presses, cmd.ProcessState.ExitCode(), stdout.String(), stderr.String())
		}
		if report, err := os.ReadFile(file("j.xml")); err != nil || !bytes.Contains(report, []byte("</testsuites>")) {
			t.Errorf("after %d the report is %s, %v", presses, report, err)
		}
	}
	testfiles.Write(t, dir, map[string]string{"go": ""})
	if got := fern(t, dir, "run", "--junit", "/dev/full"); got.status != 3 || !strings.Contains(got.stderr, "no space left") || !strings.Contains(got.stdout, "2 passed") {
		t.Errorf("with a full disk: status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	reader, writer, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	reader.Close()
	cmd := command(dir, "run", "--show", "names", "--junit", "j.xml")
	cmd.Stdout = writer
	if err := cmd.Run(); err != nil {
		t.Errorf("without a reader: %v", err)
	}
}

// waitForEnd waits until the processes whose numbers are in a file, n of them, have ended.
func waitForEnd(t *testing.T, file string, n int) {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil || len(strings.Fields(string(data))) != n {
		t.Fatalf("processes %q, %v: want %d", data, err, n)
	}
	for _, field := range strings.Fields(string(data)) {
		pid, err := strconv.Atoi(field)
		if err != nil {
			t.Fatal(err)
		}
		waitFor(t, "process "+field+" to end", func() bool { return syscall.Kill(pid, 0) != nil })
	}
}

// lockedBuffer is a buffer that is read while a process writes to it.
type lockedBuffer struct {
	mu   sync.Mutex
	held bytes.Buffer
}

func (b *lockedBuffer) Write(data []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.held.Write(data)
}

func (b *lockedBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.held.String()
}

// TestKilled kills the program in the middle: no process of its tests is left, not
// even one that went away from its group once the project is opened again.
func TestKilled(t *testing.T) {
	dir := scripts(t, "", "only", "only) echo $$ >> pids; setsid sh -c 'echo $$ >> pids; touch began; exec sleep 76543' & sleep 76543;;")
	cmd := command(dir, "run")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	waitFor(t, "the test to run", func() bool { _, err := os.Stat(filepath.Join(dir, "began")); return err == nil })
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	if got := fern(t, dir, "list"); !strings.Contains(got.stderr, "run 1 was killed when 0 of 1 tests had ended") {
		t.Errorf("the next start says %s", got.stderr)
	}
	waitForEnd(t, filepath.Join(dir, "pids"), 2)
}

// TestLimits holds the limits of a test and of a run, and failed first.
func TestLimits(t *testing.T) {
	dir := scripts(t, "", "one/quick two/slow three/bad", "two/slow) sleep 20;;\nthree/bad) exit 1;;")
	if got := fern(t, dir, "run", "-p", "in:two", "--timeout", "100ms"); got.status != 1 || !strings.Contains(got.stdout, "timed out at 100ms") {
		t.Errorf("status %d: %s", got.status, got.stdout)
	}
	got := fern(t, dir, "run", "--run-timeout", "500ms", "--workers", "1", "--order", "as-written")
	if got.status != 3 || !strings.Contains(got.stdout, "the run reached its time limit of 500ms") {
		t.Errorf("status %d: %s", got.status, got.stdout)
	}
	if got := fern(t, dir, "run", "-p", "not in:two"); got.status != 1 {
		t.Fatal(got.stdout)
	}
	got = fern(t, dir, "run", "-p", "not in:two", "--order", "troubled", "--stop-after", "1", "--workers", "1", "--show", "names")
	if !strings.HasPrefix(got.stdout, "▲ c:three#three/bad") || !strings.Contains(got.stdout, "1 failed, 1 skipped") {
		t.Errorf("failed first: %s", got.stdout)
	}
}

// TestTrialLevels finds the tests of a group that get in each other's way, and leaves
// one that is merely flaky out.
func TestTrialLevels(t *testing.T) {
	dir := scripts(t, "", "a/one b/two b/three c/shaky", `
b/*) touch here.$$; n=0
	until [ $n -gt 20 ] || [ $(ls here.* | wc -l) -gt 1 ]; do sleep 0.05; n=$((n + 1)); done
	rm here.$$; [ $n -gt 20 ];;
a/*) sleep 1;;
c/*) sleep 1; if [ -e odd ]; then rm odd; exit 1; fi; touch odd;;`)
	got := fern(t, dir, "run", "--trial-levels", "--workers", "4")
	for _, words := range []string{"groups        4", "nothing differs", "other outcome", "c:c#c/shaky", "▲ c:b#b/", "and passed alone", `the finest safe level is group: together = "group"`} {
		if !strings.Contains(got.stdout, words) {
			t.Errorf("%q is not printed:\n%s", words, got.stdout)
		}
	}
	if got.status != 0 { // the flaky one passes in the run of the safe level, its third
		t.Errorf("status %d:\n%s", got.status, got.stdout)
	}
}

// TestOrderCover runs the series of orders as the ledger grows.
func TestOrderCover(t *testing.T) {
	dir := scripts(t, "", "a b c d", "*) echo $1 >> log;;")
	if got := fern(t, dir, "run", "--order", "new-pairs", "--repeat", "4", "--workers", "1"); got.status != 0 {
		t.Fatal(got.stdout, got.stderr)
	}
	data, err := os.ReadFile(filepath.Join(dir, "log"))
	if err != nil {
		t.Fatal(err)
	}
	names, pairs := strings.Fields(string(data)), map[string]bool{}
	for i := range names {
		if i%4 > 0 {
			pairs[names[i-1]+names[i]] = true
		}
	}
	if len(names) != 16 || len(pairs) != 12 {
		t.Errorf("%v has %d pairs side by side, want all 12", names, len(pairs))
	}
}

// TestOnChange changes files under the program: what they touch runs again, what
// failed first, and a run that they touch is superseded.
func TestOnChange(t *testing.T) {
	dir := t.TempDir()
	body := func(words string) string {
		return "package p\n\nimport (\n\t\"os\"\n\t\"testing\"\n\t\"time\"\n)\n\nfunc TestA(t *testing.T) {}\n\nfunc TestB(t *testing.T) {\n\t" + words + "\n\t_, _ = os.Stat, time.Sleep\n}\n"
	}
	hangs := `_ = os.WriteFile("began", nil, 0o644); time.Sleep(time.Hour)`
	testfiles.Write(t, dir, map[string]string{"go.mod": "module example.org/m\n\ngo 1.26\n", "p/p_test.go": body(""),
		"q/q_test.go": "package q\n\nimport \"testing\"\n\nfunc TestQ(t *testing.T) {}\n"})
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, "run", "--on-change", "--show", "names", "--workers", "1")
	cmd.Dir = dir
	var out lockedBuffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	described := func(words string) {
		t.Helper()
		waitFor(t, words, func() bool { return strings.Contains(out.String(), words) })
	}
	described("3 passed;")
	described("waiting for files to change")
	testfiles.Write(t, dir, map[string]string{"p/p_test.go": body(`t.Fatal("wet")`)})
	described("2 picked: 1 passed, 1 failed;")
	testfiles.Write(t, dir, map[string]string{"p/p_test.go": body(hangs)})
	waitFor(t, "the test to hang", func() bool { _, err := os.Stat(filepath.Join(dir, "p", "began")); return err == nil })
	testfiles.Write(t, dir, map[string]string{"p/p_test.go": body("")})
	described("files changed, and it is run again")
	described("2 picked: 2 passed;")
	lines := strings.Split(out.String(), "\n")
	if last := slices.IndexFunc(lines, func(line string) bool { return strings.HasPrefix(line, "2 picked: 2 passed") }); !strings.Contains(strings.Join(lines[last-4:last], " "), "TestB") {
		t.Errorf("it reported\n%s", out.String())
	}
	if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("it ended with %v\n%s", err, out.String())
	}
}
