package main

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "modernc.org/sqlite" // to make ledgers that are none

	"fernrelay/core/plain"
	"fernrelay/internal/testfiles"
)

// hostile is text that acts: every byte but line ends and NUL, and characters that hide, join or reorder.
var hostile = func() string {
	var text strings.Builder
	for b := 1; b < 256; b++ {
		if b != '\n' && b != '\r' && b != '/' && b != '\'' {
			text.WriteByte(byte(b))
		}
	}
	return text.String() + "\x1b]0;title\x07\x1b[2J\u009b2J\u202e\u2066\u200b\u200d\u2060\ufeff\u00ad\u2028\u3164\U000e0041\ufffe"
}()

// TestNothingActs gives hostile text to every command, wherever a test, a report or a file can bring it:
// nothing that a terminal obeys comes out, and what programs read stays whole.
func TestNothingActs(t *testing.T) {
	dir := t.TempDir()
	text, err := json.Marshal(hostile)
	if err != nil {
		t.Fatal(err)
	}
	clean := strings.ToValidUTF8(hostile, "")
	name, err := json.Marshal("=" + clean)
	if err != nil {
		t.Fatal(err)
	}
	line := func(fields string) string { return "{" + fields + "}\n" }
	events := line(`"event":"run","format":"fern-events/1","at":"2026-01-02T03:04:05Z"`) +
		line(`"event":"output","id":`+string(name)+`,"text":`+string(text)) +
		line(`"event":"step","id":`+string(name)+`,"step":`+string(text)+`,"outcome":"failed","message":`+string(text)+`,"file":`+string(text)+`,"line":3`) +
		line(`"event":"finished","id":`+string(name)+`,"outcome":"failed","seconds":1,"message":`+string(text)+`,"file":`+string(text)+`,"line":3,"expected":`+string(text)+`,"actual":"x"`) +
		line(`"event":"end","counts":{}`)
	testfiles.Write(t, dir, map[string]string{
		"fern.toml":    "[project]\nname = " + tomlString(clean) + "\n[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"cat names\"\nrun = \"sh run {name}\"\nresults = \"events\"\n",
		"names":        line(`"name":` + string(name) + `,"group":` + string(text) + `,"file":` + string(text) + `,"tags":["wet"]`),
		"run":          "cat events.jsonl; exit 1\n",
		"events.jsonl": events,
		"broken.xml":   "<testsuite name=\"" + hostile + "\">",
	})
	acts := regexp.MustCompile(`[\x00-\x08\x0b-\x1f\x7f-\x{9f}]`)
	commands := [][]string{{"list"}, {"list", "--json"}, {"list", "--count", "group,tag"}, {"run", "--show", "full", "--events", "e.jsonl", "--junit", "j.xml", "--tap", "t.tap"}, {"run", "--retries", "1", "--took-over", "1ns"},
		{"why", clean}, {"why", "c:", "--json"}, {"split"}, {"split", "--shards", "2", "--json"}, {"merge", "events.jsonl", "broken.xml", "j.xml"}, {"merge", clean}, {"report", "last", "-o", "r.html"}, {"report", "last", "-o", "r.md"},
		{"report", "last", "-o", "r.pdf"}, {"ledger"}, {"ledger", "runs"}, {"ledger", "show", "last"}, {"ledger", "show", "last", "--json"}, {"ledger", "test", "c:"}, {"ledger", "slow"}, {"ledger", "shaky"}, {"ledger", "causes"}, {"ledger", "causes", "--json"},
		{"ledger", "compare", "last"}, {"ledger", "import", "events.jsonl"}, {"ledger", "export", "-o", "all.csv"}, {"ledger", "export", "--json"}, {"ledger", "timings", "-o", "times.csv"}, {"draw", "timeline", "-o", "t.svg"}, {"hunt"}, {"replay", "last"},
		{"run", "--order-from", clean}, {"-C", clean, "list"}, {"list", "-p", clean}, {clean}, {"run", "--" + clean}, {"ledger", "show", clean}}
	for _, args := range commands {
		got := fern(t, dir, args...)
		for _, out := range []string{got.stdout, got.stderr} {
			if at := acts.FindStringIndex(out); at != nil {
				t.Errorf("%.60q: %q comes out, in %q", args, out[at[0]:at[1]], out[max(0, at[0]-30):min(len(out), at[1]+30)])
			}
			for _, r := range out {
				if r != '\n' && r != '\t' && plain.IsUnsafe(r) {
					t.Errorf("%.60q: %U comes out", args, r)
					break
				}
			}
		}
		if strings.Contains(got.stderr, "panic") {
			t.Errorf("%.60q: %s", args, got.stderr)
		}
	}
	for _, file := range []string{"j.xml", "t.svg"} {
		data, err := os.ReadFile(filepath.Join(dir, file))
		if err != nil {
			t.Error(err)
			continue
		}
		for decoder := xml.NewDecoder(bytes.NewReader(data)); ; {
			if _, err := decoder.Token(); errors.Is(err, io.EOF) {
				break
			} else if err != nil {
				t.Errorf("%s is not well-formed: %v", file, err)
				break
			}
		}
	}
	for _, file := range []string{"all.csv", "times.csv"} {
		data, err := os.ReadFile(filepath.Join(dir, file))
		if err != nil || regexp.MustCompile(`(^|[,\n])"?[=+@]`).Match(data) {
			t.Errorf("%s has formulas: %q, %v", file, data, err)
		}
	}
}

func tomlString(text string) string {
	var out strings.Builder
	for _, r := range text {
		fmt.Fprintf(&out, `\U%08x`, r)
	}
	return `"` + out.String() + `"`
}

// TestBrokenLedgers holds that list and run work whatever is in the ledger's place, say so, and that a new ledger
// begins, in the words of no database.
func TestBrokenLedgers(t *testing.T) {
	for name, broken := range map[string]func(t *testing.T, path string){
		"empty":  func(t *testing.T, path string) { writeFile(t, path, "") },
		"text":   func(t *testing.T, path string) { writeFile(t, path, strings.Repeat("text ", 9999)) },
		"folder": func(t *testing.T, path string) { _ = os.Mkdir(path, 0o755) },
		"others": func(t *testing.T, path string) {
			db, err := sql.Open("sqlite", path)
			if err == nil {
				_, err = db.Exec("CREATE TABLE tests (name); PRAGMA user_version = -7")
			}
			if err != nil {
				t.Fatal(err)
			}
			db.Close()
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := scripts(t, "", "a", "a) true;;")
			if err := os.Mkdir(filepath.Join(dir, ".fern"), 0o755); err != nil {
				t.Fatal(err)
			}
			broken(t, filepath.Join(dir, ".fern", "ledger.db"))
			for i, args := range [][]string{{"list"}, {"run"}, {"ledger", "runs"}} {
				got := fern(t, dir, args...)
				if got.status != 0 || regexp.MustCompile(`(?i)sql|no such|malformed|panic`).MatchString(got.stderr) || (i == 0) != strings.Contains(got.stderr, "It is now") {
					t.Errorf("%v ends with %d: %s", args, got.status, got.stderr)
				}
			}
		})
	}
	t.Run("newer", func(t *testing.T) {
		dir := scripts(t, "", "a", "a) true;;")
		if got := fern(t, dir, "run"); got.status != 0 {
			t.Fatal(got.stderr)
		}
		db, err := sql.Open("sqlite", filepath.Join(dir, ".fern", "ledger.db"))
		var version int
		if err == nil {
			err = db.QueryRow("PRAGMA user_version").Scan(&version)
		}
		if err == nil {
			_, err = db.Exec("PRAGMA user_version = 99")
		}
		if err != nil {
			t.Fatal(err)
		}
		if got := fern(t, dir, "list"); got.status != 0 || !strings.Contains(got.stderr, "use a newer fern-relay") {
			t.Errorf("list ends with %d: %s", got.status, got.stderr)
		}
		if got := fern(t, dir, "run"); got.status != 3 || !strings.Contains(got.stdout, "1 passed") || !strings.Contains(got.stderr, "stays, and the next command keeps it") {
			t.Errorf("run ends with %d: %s%s", got.status, got.stdout, got.stderr)
		}
		if _, err = db.Exec(fmt.Sprint("PRAGMA user_version = ", version)); err != nil {
			t.Fatal(err)
		}
		db.Close()
		if got := fern(t, dir, "ledger", "runs"); got.status != 0 || strings.Count(got.stdout, "1 passed") != 2 {
			t.Errorf("afterwards: %s%s", got.stdout, got.stderr)
		}
	})
}

func writeFile(t *testing.T, path, text string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// TestResultsThatCannotBeWritten holds that a full or closed standard output ends with 3 and words, and
// a reader that has seen enough with the command's own status and without any.
func TestResultsThatCannotBeWritten(t *testing.T) {
	dir := scripts(t, "", "a b", "a) true;;\nb) exit 1;;")
	shell := func(script string) result {
		cmd := exec.Command("bash", "-c", script, program)
		cmd.Dir = dir
		return finish(t, cmd)
	}
	for script, want := range map[string]int{
		`$0 list > /dev/full`: 3, `$0 list >&-`: 3, `$0 list > /dev/null`: 0, `$0 list | true; exit ${PIPESTATUS[0]}`: 0, `$0 list --json | head -c 1 >/dev/null; exit ${PIPESTATUS[0]}`: 0,
		`$0 run > /dev/full`: 3, `$0 run >&-`: 3, `$0 run | true; exit ${PIPESTATUS[0]}`: 1, `$0 split --json --shards 2 >&-`: 3, `$0 ledger export > /dev/full`: 3,
	} {
		got := shell(script)
		reported := strings.Contains(got.stderr, "the results cannot be written to standard output")
		if got.status != want || reported != (want == 3) {
			t.Errorf("%s ends with %d, want %d: %s", script, got.status, want, got.stderr)
		}
	}
	for _, script := range []string{`$0 < /dev/null`, `$0 demo | cat; exit ${PIPESTATUS[0]}`, `TERM=dumb $0`} {
		if got := shell(script); got.status != 2 || !strings.Contains(got.stderr, "the application needs a terminal, and ") || !strings.Contains(got.stderr, " without one") {
			t.Errorf("%s ends with %d: %s", script, got.status, got.stderr)
		}
	}
}

// TestRemovedWhileRunning holds that a run says so whose .fern is removed under it.
func TestRemovedWhileRunning(t *testing.T) {
	dir := scripts(t, "", "a", "a) test ! -e armed || rm -r .fern;;")
	if got := fern(t, dir, "run"); got.status != 0 {
		t.Fatal(got.stderr)
	}
	writeFile(t, filepath.Join(dir, "armed"), "")
	if got := fern(t, dir, "run"); got.status != 3 || !strings.Contains(got.stderr, "the ledger was removed while the run went on, and with it all earlier runs") {
		t.Errorf("the run ends with %d: %s%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, dir, "ledger", "runs"); got.status != 0 || strings.Count(got.stdout, "1 passed") != 1 {
		t.Errorf("afterwards: %s%s", got.stdout, got.stderr)
	}
}

// TestPathsAndPermissions holds where suites and files may be, and that reports obey the umask and replace links.
func TestPathsAndPermissions(t *testing.T) {
	parent := t.TempDir()
	dir := filepath.Join(parent, "in")
	suite := func(project, name, folder string) {
		testfiles.Write(t, dir, map[string]string{"run": "exit 0\n", "../out/run": "exit 0\n",
			"fern.toml": fmt.Sprintf("[project]\n%s\n[[suite]]\nname = %q\nkind = \"command\"\ndir = %q\nlist = \"echo a\"\nrun = \"sh run {name}\"\n", project, name, folder)})
	}
	for _, c := range []struct {
		project, name, folder, words string
	}{
		{"", "../../evil", ".", "fern.toml:4:1: a suite's name is"}, {"", ".", ".", "a suite's name is"}, {"", "a\\b", ".", "a suite's name is"},
		{"", "c", "../out", "outside the project"}, {"", "c", "/tmp", "outside the project"}, {"", "c", "link", "outside the project"},
		{"outside = true", "c", "../out", ""}, {"outside = true", "c", filepath.Join(parent, "out"), ""},
	} {
		suite(c.project, c.name, c.folder)
		_ = os.Symlink("../out", filepath.Join(dir, "link"))
		got := fern(t, dir, "run")
		if (got.status == 0) != (c.words == "") || !strings.Contains(got.stderr, c.words) {
			t.Errorf("name %q in %q ends with %d: %s", c.name, c.folder, got.status, got.stderr)
		}
	}
	suite("", "c", ".")
	writeFile(t, filepath.Join(dir, "target"), "precious")
	for _, name := range []string{"j.xml", "t.tap", "e.jsonl", "r.html"} {
		if err := os.Symlink("target", filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command("sh", "-c", "umask 027; $0 run --junit j.xml --tap t.tap --events e.jsonl && $0 report last -o r.html && $0 run --junit /dev/stdout", program)
	cmd.Dir = dir
	if got := finish(t, cmd); got.status != 0 || !strings.Contains(got.stdout, "<testsuites") {
		t.Fatalf("status %d: %s%s", got.status, got.stdout, got.stderr)
	}
	for _, name := range []string{"j.xml", "t.tap", "e.jsonl", "r.html"} {
		if info, err := os.Lstat(filepath.Join(dir, name)); err != nil || info.Mode() != 0o640 {
			t.Errorf("%s: %v, %v", name, info.Mode(), err)
		}
	}
	if data, _ := os.ReadFile(filepath.Join(dir, "target")); string(data) != "precious" {
		t.Errorf("what the links led to is now %q", data)
	}
	if got := fern(t, dir, "list"); strings.Contains(got.stderr, "note") {
		t.Errorf("a harmless project is warned of: %s", got.stderr)
	}
	testfiles.Write(t, dir, map[string]string{"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"echo a\"\nrun = \"sh -c 'test {name}'\"\n"})
	if got := fern(t, dir, "list"); got.status != 0 || !strings.Contains(got.stderr, "puts a test's name into a shell script") {
		t.Errorf("a name in a script: %s", got.stderr)
	}
}

// TestSignals holds that a run ends as each signal asks, and that nothing of it is left.
func TestSignals(t *testing.T) {
	for _, c := range []struct {
		wrapper string
		signal  syscall.Signal
		status  int
		words   string
	}{
		{"", syscall.SIGHUP, 3, ""}, {"", syscall.SIGTERM, 3, ""}, {"", syscall.SIGQUIT, 3, "goroutine 1 ["}, {"trap '' HUP; ", syscall.SIGHUP, 0, ""},
	} {
		t.Run(fmt.Sprint(c.wrapper, c.signal), func(t *testing.T) {
			t.Parallel()
			dir := scripts(t, "[workers]\nclean = \"touch cleaned\"\n", "a", "a) touch began; while test ! -e go-on; do sleep 0.02; done;;")
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			cmd := exec.CommandContext(ctx, "sh", "-c", c.wrapper+"exec $0 run --junit j.xml", program)
			var stderr bytes.Buffer
			cmd.Dir, cmd.Stderr = dir, &stderr
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			waitFor(t, "the test to run", func() bool { _, err := os.Stat(filepath.Join(dir, "began")); return err == nil })
			if err := cmd.Process.Signal(c.signal); err != nil {
				t.Fatal(err)
			}
			if c.status == 0 { // the signal has no effect, however long one waits; the test may end now
				writeFile(t, filepath.Join(dir, "go-on"), "")
			}
			_ = cmd.Wait()
			if got := cmd.ProcessState.ExitCode(); got != c.status || !strings.Contains(stderr.String(), c.words) {
				t.Errorf("it ends with %d, want %d: %s", got, c.status, stderr.String())
			}
			for _, file := range []string{"cleaned", "j.xml"} {
				if _, err := os.Stat(filepath.Join(dir, file)); err != nil {
					t.Error(err)
				}
			}
			if left, _ := os.ReadDir(filepath.Join(dir, ".fern", "slots")); len(left) > 0 {
				t.Errorf("records are left: %v", left)
			}
		})
	}
}

// TestOddFiles opens, through a link, a project with pipes, devices and circles of links that have the names of Go files. The
// toolchain itself would wait for the pipes.
func TestOddFiles(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "odd")
	testfiles.Write(t, dir, map[string]string{"go.mod": "module odd\n\ngo 1.24\n", "a_test.go": "package odd\n\nimport \"testing\"\n\nfunc TestA(t *testing.T) {}\n", "sub/b.go": "package sub\n"})
	for _, name := range []string{"pipe_test.go", "pipe.go", "sub/pipe.go", "data.txt"} {
		if err := syscall.Mkfifo(filepath.Join(dir, name), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	link := filepath.Join(t.TempDir(), "link")
	for name, to := range map[string]string{filepath.Join(dir, "zero_test.go"): "/dev/zero", filepath.Join(dir, "sub", "zero.go"): "/dev/zero", filepath.Join(dir, "loop_test.go"): "loop_test.go",
		filepath.Join(dir, "self"): ".", filepath.Join(dir, "sub", "up"): "..", link: dir} {
		if err := os.Symlink(to, name); err != nil {
			t.Fatal(err)
		}
	}
	for _, args := range [][]string{{"list"}, {"run"}, {"hunt", "TestA"}} {
		cmd := command(link, args...)
		limit := time.AfterFunc(time.Minute, func() { _ = cmd.Process.Kill() })
		got := finish(t, cmd)
		limit.Stop()
		if got.status != 0 || args[0] == "list" && got.stdout != "go:.#TestA        –  a_test.go:5\n" {
			t.Errorf("%s exits %d: %s%s", args, got.status, got.stdout, got.stderr)
		}
	}
}
