package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/core/hunt"
	"fernrelay/internal/testfiles"
)

// hunted runs a hunt and gives its findings by the victim's name.
func hunted(t *testing.T, dir string, args ...string) (map[string]hunt.Finding, result) {
	t.Helper()
	got := fern(t, dir, append([]string{"hunt", "--json"}, args...)...)
	var report hunt.Report
	if err := json.Unmarshal([]byte(got.stdout), &report); err != nil || got.status != 0 || report.Victims == nil {
		t.Fatalf("status %d, %v\n%s%s", got.status, err, got.stdout, got.stderr)
	}
	findings := map[string]hunt.Finding{}
	for _, f := range report.Victims {
		_, name, _ := strings.Cut(f.ID, "#")
		findings[name] = f
	}
	return findings, got
}

// TestHuntInRealModule searches a module that nobody has prepared for tests that depend on
// their order, and finds one, its culprit, and what that leaves behind.
func TestHuntInRealModule(t *testing.T) {
	t.Parallel()
	dir := copyModule(t, "github.com/spf13/pflag")
	findings, got := hunted(t, dir, "--budget", "2m", "--report", "finding.md")
	f := findings["TestEverything"]
	if f.Verdict != hunt.Polluted || len(f.Culprits) != 1 || len(f.Culprits[0]) != 1 {
		t.Fatalf("found %+v\n%s", findings, got.stderr)
	}
	if c := f.Changed[0]; c.Name != "pflag.CommandLine" || c.File != "flag.go" || c.Line == 0 || !c.Proved {
		t.Errorf("the state is %+v", f.Changed)
	}
	if !strings.Contains(got.stderr, "order coverage: ") || !strings.Contains(got.stderr, "100 % of before/after pairs") {
		t.Errorf("reported of the orders:\n%s", got.stderr)
	}
	text, err := os.ReadFile(filepath.Join(dir, "finding.md"))
	for _, words := range []string{"# `go:.#TestEverything` is polluted", "- with it 5 of 5 failed", "fern-relay -C " + dir + " run --no-record --workers 1 --order-from /dev/stdin", "`pflag.CommandLine.SortFlags`"} {
		if err != nil || !strings.Contains(string(text), words) {
			t.Errorf("%q is not in the report, %v:\n%s", words, err, text)
		}
	}
}

// TestHuntAcrossProcesses hunts tests that are programs of their own: one that finds a file
// that another has left, although they share no process, and one that fails only while
// another runs on the other worker.
func TestHuntAcrossProcesses(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "\n[workers]\ncount = 2\nclean = \"rm -f left held\"\n", "dry leaves wet reads holds meets idle", `
leaves) touch left;;
reads) test ! -e left;;
holds) for i in 1 2 3 4; do touch held; sleep 0.1; rm -f held; done;;
meets) for i in 1 2 3 4 5 6; do test ! -e held || exit 1; sleep 0.05; done;;`)
	testfiles.Write(t, dir, map[string]string{"order.txt": "dry\nleaves\nwet\nreads\n"})
	if got := fern(t, dir, "run", "--workers", "1", "--order-from", "order.txt"); got.status != 1 {
		t.Fatalf("status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	findings, _ := hunted(t, dir)
	if f := findings["reads"]; f.Verdict != hunt.Polluted || !slices.Equal(f.Culprits[0], []string{"c:.#leaves"}) {
		t.Errorf("found %+v", findings)
	}
	if got := fern(t, dir, "run", "--together", "test", "-p", "name:holds or name:meets"); got.status != 1 {
		t.Fatalf("status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	findings, got := hunted(t, dir, "meets")
	if f := findings["meets"]; f.Verdict != hunt.Polluted || !f.Overlap || !slices.Equal(f.Culprits[0], []string{"c:.#holds"}) {
		t.Errorf("found %+v\n%s", findings, got.stderr)
	}
	if got := fern(t, dir, "run", "--together", "test", "--keep-apart", "-p", "name:holds or name:meets"); got.status != 0 {
		t.Errorf("kept apart, the status is %d\n%s%s", got.status, got.stdout, got.stderr)
	}
}

// TestHuntOnScreen hunts the demo's pair, is interrupted, goes on where it was after a new
// start, and verifies the pair before and after it is mended.
func TestHuntOnScreen(t *testing.T) {
	t.Parallel()
	cache := t.TempDir()
	start := func() *screen {
		s := open(t, 160, 40, t.TempDir(), []string{"XDG_CACHE_HOME=" + cache}, "demo")
		s.shows("Survey 252 of 252")
		s.press("4")
		return s
	}
	s := start()
	s.shows("Nothing is hunted yet", "order coverage: ", "of before/after pairs")
	s.press("5")
	s.shows("most troubled first", "closes_at_noon", "run 30 · causes")
	s.press("j", "j", "j", "H")
	under := regexp.MustCompile(`alone.*▪\d`) // then one at least is kept
	waitFor(t, "the hunt to be under way", func() bool { return under.MatchString(s.text()) })
	s.press("x")
	s.shows("interrupted", "enter continues it")
	s.press("q")
	s.ended()

	s = start()
	s.shows("interrupted", "closes_at_noon")
	s.press("Enter")
	s.shows("it went on after")
	s.shows("idle", "polluted", "motor_service", "summer_plan", "shade.season", "proved", "shade.go:", "5 of 5 failed", "0 of 5 failed")
	s.whole()
	s.press("v")
	s.shows("11 trials", "polluted")
	config := filepath.Join(cache, "fern-relay", "glasshouse", "fern.toml")
	text, err := os.ReadFile(config)
	if err != nil {
		t.Fatal(err)
	}
	mended := strings.Replace(string(text), `GLASS_MENDED = "off"`, `GLASS_MENDED = "on"`, 1)
	if err := os.WriteFile(config, []byte(mended), 0o644); err != nil || mended == string(text) {
		t.Fatal(err, "the demo has no switch")
	}
	waitFor(t, "the pair to be mended", func() bool { // once the file is read again
		s.press("v")
		return strings.Contains(s.shows("11 trials, 0:"), "is mended")
	})
	s.press("q")
	s.ended()
}

// TestHuntFiles hunts tests that depend on files which others leave in the project, in scripts and in Go, without any
// setting: also when the run that failed has left them there. The project is as it was afterwards.
func TestHuntFiles(t *testing.T) {
	t.Parallel()
	for name, dir := range map[string]string{
		"scripts": scripts(t, "", "first leaves second reads third", "leaves) echo wet > soil.txt;;\nreads) [ ! -e soil.txt ] || { echo \"the soil is wet\"; exit 1; };;"),
		"go":      leavingModule(t),
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if got := fern(t, dir, "run", "--workers", "1"); got.status != 1 {
				t.Fatalf("status %d: %s%s", got.status, got.stdout, got.stderr)
			}
			if err := os.WriteFile(filepath.Join(dir, "notes.txt"), []byte("mine"), 0o644); err != nil {
				t.Fatal(err)
			}
			old := time.Now().Add(-time.Hour)
			if err := os.Chtimes(filepath.Join(dir, "notes.txt"), old, old); err != nil {
				t.Fatal(err)
			}
			got := fern(t, dir, "hunt", "--json")
			var report hunt.Report
			if err := json.Unmarshal([]byte(got.stdout), &report); err != nil || len(report.Victims) != 1 {
				t.Fatalf("status %d, %v: %s%s", got.status, err, got.stdout, got.stderr)
			}
			f := report.Victims[0]
			if f.Verdict != hunt.Polluted || !strings.HasSuffix(strings.ToLower(f.Culprits[0][0]), "leaves") {
				t.Errorf("found %+v", f)
			}
			if len(f.Changed) == 0 || !strings.HasSuffix(f.Changed[0].Name, "soil.txt") || !f.Changed[0].Proved || f.Changed[0].Before != hunt.Absent {
				t.Errorf("what it left is %+v", f.Changed)
			}
			if read(t, dir, "notes.txt") != "mine" {
				t.Error("a file of ours is changed")
			}
		})
	}
}

// leavingModule is a Go module in which a test leaves a file in its folder.
func leavingModule(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"go.mod": "module leaving\n\ngo 1.24\n", "soil/s_test.go": `package soil

import (
	"os"
	"testing"
)

func TestFirst(t *testing.T) {}

func TestLeaves(t *testing.T) {
	if err := os.WriteFile("soil.txt", []byte("wet"), 0o644); err != nil {
		t.Fatal(err)
	}
}

func TestReads(t *testing.T) {
	if _, err := os.Stat("soil.txt"); err == nil {
		t.Fatal("the soil is wet")
	}
}
`})
	return dir
}

// TestHuntOutside names state that culprits leave in packages outside the module, and says what was looked at if it is
// not found.
func TestHuntOutside(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"go.mod": "module example.org/made\n\ngo 1.26\n", "p/p_test.go": `package p

import ("bytes"; "log"; "net/http"; "os"; "runtime"; "runtime/debug"; "strings"; "syscall"; "testing"; "time")

func TestQuietsLog(t *testing.T) { log.SetFlags(0) }
func TestWaitsShortly(t *testing.T) { http.DefaultClient.Timeout = time.Second }
func TestServes(t *testing.T) { http.HandleFunc("/", func(http.ResponseWriter, *http.Request) {}) }
func TestMasks(t *testing.T) { syscall.Umask(0o777) }
func TestWrites(t *testing.T) { if old := syscall.Umask(0o22); old == 0o777 { t.Error("no file can be written") } }
func TestNarrows(t *testing.T) { runtime.GOMAXPROCS(1 + runtime.NumCPU()) }
func TestCounts(t *testing.T) { if runtime.GOMAXPROCS(0) > runtime.NumCPU() { t.Error("too many") } }
func TestCollects(t *testing.T) { debug.SetGCPercent(37) }
func TestMeasures(t *testing.T) { if n := debug.SetGCPercent(100); n == 37 { t.Error(n) } }
func TestLimits(t *testing.T) { syscall.Setrlimit(syscall.RLIMIT_FSIZE, &syscall.Rlimit{Cur: 1 << 40, Max: 1 << 41}) }
func TestFills(t *testing.T) { var l syscall.Rlimit; syscall.Getrlimit(syscall.RLIMIT_FSIZE, &l); if l.Cur == 1<<40 { t.Error("limited") } }
var beds = map[string][]*bed{"north": {{name: "a", lamps: []int{1, 2}}}}
type bed struct { name string; lamps []int }
func TestLights(t *testing.T) { beds["north"][0].lamps[1] = 9 }
func TestDark(t *testing.T) { if beds["north"][0].lamps[1] == 9 { t.Error("it shines") } }
func TestLogs(t *testing.T) {
	var b bytes.Buffer
	log.SetOutput(&b)
	log.Print("x")
	log.SetOutput(os.Stderr)
	if !strings.Contains(b.String(), ":") { t.Error("no time in", b.String()) }
}
func TestWaits(t *testing.T) { if http.DefaultClient.Timeout != 0 { t.Error("it waits shortly") } }
func TestServesToo(t *testing.T) { http.HandleFunc("/", func(http.ResponseWriter, *http.Request) {}) }
`})
	if got := fern(t, dir, "run"); got.status != 1 {
		t.Fatalf("the run ends with %d: %s", got.status, got.stderr)
	}
	got := fern(t, dir, "hunt")
	for _, words := range []string{"TestQuietsLog leaves log flags at 0; TestLogs depends on it: restoring only this makes it pass", "TestWaitsShortly leaves net/http.DefaultClient.Timeout at 1000000000; TestWaits depends on it: restoring only this makes it pass",
		"TestServes leaves net/http.DefaultServeMux changed in ", "TestMasks leaves umask at 0777; TestWrites depends on it", "TestNarrows leaves GOMAXPROCS at ", "TestCollects leaves GC percent at 37; TestMeasures depends on it",
		`TestLights leaves p.beds["north"][0].lamps[1] at 9 (p_test.go:`, `variable p.beds["north"][0].lamps[1]: 2 in a fresh run, 9 after`,
		"TestFills fails only after TestLimits", "What they leave was not found among the variables of the module", "packages outside the module were looked at"} {
		if !strings.Contains(got.stdout, words) {
			t.Errorf("%q is not in\n%s%s", words, got.stdout, got.stderr)
		}
	}
}
