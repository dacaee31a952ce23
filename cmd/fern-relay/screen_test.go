package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	"fernrelay/internal/testfiles"
)

// screen is the application in a terminal of tmux.
type screen struct {
	t             *testing.T
	socket        string
	width, height int
}

// open starts a command of the program in a terminal of this size.
func open(t *testing.T, width, height int, dir string, env []string, args ...string) *screen {
	t.Helper()
	return openCommand(t, width, height, dir, env, append([]string{program}, args...)...)
}

// openCommand starts any command in a terminal of this size.
func openCommand(t *testing.T, width, height int, dir string, env []string, words ...string) *screen {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("tmux is missing")
		}
		t.Skip("tmux is missing")
	}
	s := &screen{t: t, socket: filepath.Join(t.TempDir(), "tmux"), width: width, height: height}
	start := []string{"-f", "/dev/null", "new-session", "-d", "-x", fmt.Sprint(width), "-y", fmt.Sprint(height), "-c", dir}
	for _, e := range append(env, "COLORTERM=truecolor") {
		start = append(start, "-e", e)
	}
	start = append(start, "sh", "-c", `"$0" "$@"; echo $? >`+s.status())
	s.tmux(append(start, words...)...)
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", s.socket, "kill-server").Run() })
	return s
}

func (s *screen) tmux(args ...string) string {
	s.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", s.socket}, args...)...).CombinedOutput()
	if err != nil {
		s.t.Fatalf("tmux %v: %v\n%s", args, err, out)
	}
	return string(out)
}

// press sends keys by tmux's names, typed sends text.
func (s *screen) press(keys ...string) { s.tmux(append([]string{"send-keys"}, keys...)...) }

func (s *screen) typed(text string) { s.tmux("send-keys", "-l", text) }

func (s *screen) text() string { return s.tmux("capture-pane", "-p") }

// shows waits until the screen shows all the words.
func (s *screen) shows(words ...string) string {
	s.t.Helper()
	var text string
	for deadline := time.Now().Add(45 * time.Second); time.Now().Before(deadline); time.Sleep(30 * time.Millisecond) {
		text = s.text()
		missing := false
		for _, w := range words {
			missing = missing || !strings.Contains(text, w)
		}
		if !missing {
			return text
		}
	}
	s.t.Fatalf("the screen never showed %q:\n%s", words, text)
	return ""
}

// status is the file to which the program's exit status goes.
func (s *screen) status() string { return s.socket + "-status" }

// ended waits until the program has ended, and holds that it ended well. It answers if the program asks because something
// still runs, as on a slow machine.
func (s *screen) ended() {
	s.t.Helper()
	var status []byte
	waitFor(s.t, "the program to end", func() bool {
		if status, _ = os.ReadFile(s.status()); len(status) > 0 {
			return true
		}
		shown, _ := exec.Command("tmux", "-S", s.socket, "capture-pane", "-p").Output() // it may end meanwhile
		if strings.Contains(string(shown), "q again ends it") {
			_ = exec.Command("tmux", "-S", s.socket, "send-keys", "q").Run()
		}
		return false
	})
	if string(status) != "0\n" {
		s.t.Errorf("the program ended with status %s", status)
	}
}

// whole holds that no line is broken: every line fits, and the frame stands
// where it belongs.
func (s *screen) whole() {
	s.t.Helper()
	lines := strings.Split(strings.TrimSuffix(s.text(), "\n"), "\n")
	if len(lines) != s.height {
		s.t.Errorf("%d lines on a screen of %d", len(lines), s.height)
		return
	}
	for i, line := range lines {
		if w := ansi.StringWidth(line); w > s.width {
			s.t.Errorf("line %d has %d cells of %d: %s", i+1, w, s.width, line)
		}
	}
	if !strings.HasPrefix(lines[0], " fern relay") || s.width >= 120 && !strings.HasPrefix(lines[1], " Survey") || !strings.HasPrefix(lines[s.height-2], " pick") ||
		strings.Trim(lines[2], "─━") != "" || strings.Trim(lines[s.height-3], "─▼") != "" {
		s.t.Errorf("the frame is broken:\n%s", strings.Join(lines, "\n"))
	}
}

// TestDemoOnScreen does the whole job on the demo, on a large and on the
// smallest screen: pick, split, run, a failure arrives, hunt it, read the
// culprit and what it left, quit.
func TestDemoOnScreen(t *testing.T) {
	t.Parallel()
	for _, size := range []struct{ width, height int }{{160, 40}, {80, 24}} {
		t.Run(fmt.Sprintf("%dx%d", size.width, size.height), func(t *testing.T) {
			t.Parallel()
			s := open(t, size.width, size.height, t.TempDir(), []string{"XDG_CACHE_HOME=" + t.TempDir()}, "demo")
			s.shows("glasshouse", "Survey 252 of 252", "irrigation")
			s.whole()

			s.press("/")
			s.typed("in:seedbank or in:ledger-book")
			s.shows("35 of 252 tests", "Survey 35 of 252")
			s.typed(" or frsot")
			s.shows("column 34", `did you mean "frost"`, "35 of 252 tests")
			s.whole()
			s.press("BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace")
			s.press("Enter")
			s.shows("q quit")
			s.whole()

			s.press("2")
			s.shows("finish by number of shards", "floor", "4 shards")
			s.press("[", "[")
			s.shows("2 shards")
			s.whole()

			s.press("Enter")
			s.shows("sums_by_quarter", "another export is under way", "▲1")
			s.whole()
			s.shows("35/35", "took ")

			s.press("h")
			s.shows("polluted", "exports_the_year")
			s.whole()
			if size.width < 120 {
				s.press("Tab")
			}
			s.shows("export.lock", "(absent)", "the year", "5 of 5 failed", "0 of 5 failed")
			s.whole()

			s.press("?")
			s.shows("Keys, words and shapes", "copies a command that shows the failure")
			s.whole()
			s.press("?", "q")
			s.ended()
		})
	}
}

// TestCtrlCOnScreen quits in the middle of a run: the run is kept.
func TestCtrlCOnScreen(t *testing.T) {
	t.Parallel()
	cache := t.TempDir()
	s := open(t, 100, 30, t.TempDir(), []string{"XDG_CACHE_HOME=" + cache}, "demo")
	s.shows("Survey 252 of 252")
	s.press("r")
	s.shows("Watch", "4 of 4 workers busy", "/252")
	s.press("C-c")
	s.ended()
	got := fern(t, filepath.Join(cache, "fern-relay", "glasshouse"), "draw", "timeline", "-o", filepath.Join(cache, "run.svg"))
	data, err := os.ReadFile(filepath.Join(cache, "run.svg"))
	if got.status != 0 || err != nil || !strings.Contains(string(data), "glasshouse, demo data, run 31") || !strings.Contains(string(data), "lost") {
		t.Errorf("the interrupted run is not kept: status %d, %v\n%s", got.status, err, got.stderr)
	}
}

// TestHardNames shows a project whose names and outputs are hostile.
func TestHardNames(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	long := strings.Repeat("LongName", 25)
	testfiles.Write(t, dir, map[string]string{
		"go.mod": "module example.org/hard\n\ngo 1.26\n",
		"hard_test.go": fmt.Sprintf(`package hard

import ("fmt"; "testing")

func Test%s(t *testing.T) { t.Fatal("\x1b[31mred\x1b[0m \x1b]0;title\x07 \x00 \xff end") }

func TestFlood(t *testing.T) {
	for i := range 20000 { fmt.Println("line", i, "\x1b[2J\x1b[H") }
	t.Fatal("flooded")
}
`, long),
	})
	s := open(t, 80, 24, dir, nil)
	s.shows("Survey 2 of 2")
	s.whole()
	s.press("r")
	s.shows("took ", "flooded", "LongNameLongName", "red")
	s.whole()
	s.press("Tab")
	s.shows("hard_test.go")
	s.whole()
	s.press("q")
	s.ended()
}

// TestWithoutColour shows what colours report by shades and shapes as well, and a
// terminal that is too small by one clear line.
func TestWithoutColour(t *testing.T) {
	t.Parallel()
	s := open(t, 120, 40, t.TempDir(), []string{"XDG_CACHE_HOME=" + t.TempDir(), "NO_COLOR=1"}, "demo")
	text := s.shows("Survey 252 of 252", "▐", "░", "▓")
	if plain := s.tmux("capture-pane", "-p", "-e"); strings.Contains(plain, "\x1b[38;") || strings.Contains(plain, "\x1b[48;") {
		t.Errorf("there are colours:\n%q\n%s", plain, text)
	}
	s.tmux("resize-window", "-x", "70", "-y", "20")
	s.shows("fern relay needs 80×24 cells")
}

// surveyProject is a Go module whose fern.toml people wrote comments into.
func surveyProject(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	test := func(pkg, tags string) string {
		return "package " + pkg + "\n\nimport \"testing\"\n\n//fern:tags " + tags + "\nfunc TestOne(t *testing.T) {}\n\n//fern:tags wet\nfunc TestTwo(t *testing.T) { t.Fatal(\"leaks\") }\n"
	}
	testfiles.Write(t, dir, map[string]string{
		"go.mod": "module example.org/garden\n\ngo 1.26\n", "pond/p_test.go": test("pond", "wet deep"), "wall/w_test.go": test("wall", "dry"),
		"fern.toml": "# our garden\n[[suite]]\nname = \"u\" # short\nkind = \"go\"\n\n[picks] # for the desk\nall-wet = \"wet\"\n",
	})
	return dir
}

// TestSurveyOnScreen narrows by cells and undoes, saves the pick, and finds it
// again after a new start.
func TestSurveyOnScreen(t *testing.T) {
	t.Parallel()
	dir, home := surveyProject(t), t.TempDir()
	start := func() *screen { return open(t, 160, 40, dir, []string{"XDG_CONFIG_HOME=" + home}) }
	s := start()
	s.shows("Survey 4 of 4", "pond", "wall")
	s.press("+")
	s.shows("pick  in:pond wet", "Survey 2 of 4", "wet +")
	s.press("Right", "-")
	s.shows("in:pond wet not (in:pond deep)", "Survey 1 of 4")
	s.press("BSpace")
	s.shows("pick  in:pond wet ", "Survey 2 of 4")
	s.press("Left", "Tab", "Down", "y")
	s.shows("why TestTwo", "it carries the tag wet from the function")
	s.press("Enter", "q")
	s.ended()

	s = start()
	s.shows("Survey 4 of 4")
	s.press("/")
	s.typed("we")
	s.shows("wet", "saved:all-wet", "saved pick")
	s.press("Tab")
	s.typed(" not deep")
	s.press("Enter")
	s.shows("Survey 2 of 4", "q quit")
	s.whole()
	s.press("s")
	s.shows("Save the pick: wet not deep", "fern.toml")
	s.typed("shallow")
	s.press("Enter")
	s.shows("saved in fern.toml: saved:shallow picks it again")
	s.press("q")
	s.ended()

	s = start()
	s.shows("Survey 4 of 4")
	s.press("/")
	s.typed("saved:sh")
	s.shows("saved:shallow", "saved pick")
	s.press("Tab", "Enter")
	s.shows("pick  saved:shallow", "Survey 2 of 4")
	s.press("q")
	s.ended()
	want := "# our garden\n[[suite]]\nname = \"u\" # short\nkind = \"go\"\n\n[picks] # for the desk\nall-wet = \"wet\"\nshallow = 'wet not deep'\n"
	if text, err := os.ReadFile(filepath.Join(dir, "fern.toml")); err != nil || string(text) != want {
		t.Errorf("fern.toml is now\n%s\n%v", text, err)
	}
}

// TestMarkOnScreen rules a test for the session and into fern.toml, which is then
// broken and mended while the application is open, as are the sources.
func TestMarkOnScreen(t *testing.T) {
	t.Parallel()
	dir := surveyProject(t)
	file := filepath.Join(dir, "fern.toml")
	s := open(t, 160, 40, dir, []string{"XDG_CONFIG_HOME=" + t.TempDir()})
	s.shows("Survey 4 of 4")
	s.press("Tab", "Down", "R")
	s.shows("Set or clear a rule", "1 test: id:u:pond#TestTwo")
	s.press("Down", "Down", "Down", "Down")
	s.typed("the pump")
	s.press("Enter")
	s.shows("1 rule of this session only", "skip (session)", "from this session only")
	s.press("R", "Right", "Right", "Down", "Down", "Down", "Right", "Down")
	s.typed("it leaks")
	s.shows("fern.toml", "it leaks")
	s.press("Enter")
	s.shows("expect-fail  it leaks from fern.toml:10")
	s.whole()
	text, err := os.ReadFile(file)
	want := "\n[[rule]]\npick = 'id:u:pond#TestTwo'\nexpect-fail = 'it leaks'\n"
	if err != nil || !strings.HasPrefix(string(text), "# our garden\n") || !strings.Contains(string(text), "[picks] # for the desk\n") || !strings.HasSuffix(string(text), want) {
		t.Fatalf("fern.toml is now\n%s\n%v", text, err)
	}

	testfiles.Write(t, dir, map[string]string{"fern.toml": strings.Replace(string(text), "[picks]", "[picks", 1)})
	s.shows("fern.toml:6:")
	s.press("Up")
	s.shows("fern.toml:6:", "TestOne")
	testfiles.Write(t, dir, map[string]string{"fern.toml": strings.Replace(string(text), "u:pond#TestTwo", "u:wall#TestTwo", 1)})
	s.shows("q quit")
	s.press("Tab", "Down")
	s.shows("expect-fail  it leaks")
	testfiles.Write(t, dir, map[string]string{"wall/more_test.go": "package wall\n\nimport \"testing\"\n\nfunc TestThree(t *testing.T) {}\n", "shed/s_test.go": "package shed\n\nimport \"testing\"\n\nfunc TestFour(t *testing.T) {}\n"})
	s.shows("Survey 6 of 6", "shed")
	s.press("q")
	s.ended()
}

// TestRunOnScreen quits during a run only after a question, keeps the tests of a pick that asks for failures when
// they pass alone, and copies a command.
func TestRunOnScreen(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "", "leak victim wait", `
leak) touch spoiled;;
victim) [ ! -e spoiled ];;
wait) until [ -e open ]; do sleep 0.01; done;;`)
	if got := fern(t, dir, "run", "--workers", "1", "-p", "not name:wait"); got.status != 1 {
		t.Fatal(got.stdout, got.stderr)
	}
	if err := os.Remove(filepath.Join(dir, "spoiled")); err != nil {
		t.Fatal(err)
	}
	s := open(t, 120, 36, dir, nil)
	s.shows("Survey 3 of 3")
	s.press("3", "h")
	s.shows("nothing has run in this session")
	s.press("/")
	s.typed("was:failed")
	s.press("Enter")
	s.shows("Survey 1 of 3", "q quit")
	s.press("r")
	s.shows("1/1", "no failures; one test failed before", "h hunts it")
	s.shows("pick  was:failed", "1 of 3 tests")
	s.press("5")
	s.shows("most troubled first", "victim", "50 %")
	s.press("/")
	s.press("C-u")
	s.typed("name:wait")
	s.shows("pick  name:wait", "esc") // the line is edited now, so that what follows is not the screen before it
	s.press("Enter")
	s.shows("pick  name:wait", "q quit")
	s.press("3", "r")
	s.shows("worker", "0/1")
	s.press("q")
	s.shows("a run is going, and 1 test would be lost: q again ends it")
	s.press("4")
	s.shows("Nothing is hunted yet")
	if err := os.WriteFile(filepath.Join(dir, "open"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	s.shows("1/1")
	s.press("q")
	s.ended()
}

// TestBeginOnScreen opens the application on a folder without tests, writes fern.toml from there, and sees the tests.
func TestBeginOnScreen(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"checks/sows.sh": "#!/bin/sh\n", "checks/waters.sh": "#!/bin/sh\n"})
	for _, name := range []string{"sows.sh", "waters.sh"} {
		if err := os.Chmod(filepath.Join(dir, "checks", name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	s := open(t, 80, 24, dir, nil)
	s.shows("There is no fern.toml yet", "checks", "2 scripts", "write fern.toml")
	s.press("Enter")
	s.shows("2 of 2", "sows.sh")
	s.press("q")
	s.ended()

	dir = t.TempDir()
	testfiles.Write(t, dir, map[string]string{"beds": "#!/bin/sh\n[ \"$1\" = list ] && echo north\nexit 0\n"})
	if err := os.Chmod(filepath.Join(dir, "beds"), 0o755); err != nil {
		t.Fatal(err)
	}
	s = open(t, 120, 30, dir, nil, "init")
	s.shows("There are no tests here yet", "add a program")
	s.press("a")
	s.shows("A program that lists and runs tests")
	s.press("Down")
	s.typed("beds")
	s.press("Enter")
	s.shows("run is empty")
	s.press("Down")
	s.typed("./beds list")
	s.press("Down")
	s.typed("./beds {name}")
	s.press("Enter")
	s.shows("list = './beds list'", "write fern.toml and list the tests")
	s.press("Enter")
	s.ended()
	if got := fern(t, dir, "list"); got.status != 0 || !strings.Contains(got.stdout, "beds:.#north") {
		t.Errorf("the tests of the program that was described: status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
}
