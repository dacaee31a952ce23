package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"fernrelay/internal/testfiles"
)

const watched = `package %

import (
	"fmt"
	"os"
	"testing"
	"time"
)

//fern:after BEFORE
func TestX(t *testing.T) {
	for i := range 5 {
		t.Run(fmt.Sprint("bed ", i), func(t *testing.T) {
			if i == 3 && "%" == "a" {
				t.Errorf("lamp: got lamp red in the west, want lamp amber in the west")
			}
		})
	}
	for _, err := os.Stat(".gate"); "%" == "b" && err != nil; _, err = os.Stat(".gate") {
		time.Sleep(20 * time.Millisecond)
	}
}
`

// TestWatchOnScreen follows a run in the terminal that does it and in a second one:
// steps unfold, the dispatch is held and goes on, results are filtered, and a saved
// file runs what it touches.
func TestWatchOnScreen(t *testing.T) {
	dir := t.TempDir()
	files := map[string]string{"go.mod": "module example.org/m\n\ngo 1.26\n", "fern.toml": "[[suite]]\nname = \"go\"\nkind = \"go\"\n[workers]\ncount = 1\n"}
	for group, before := range map[string]string{"a": "", "b": "go:a#TestX", "c": "go:b#TestX"} {
		source := strings.ReplaceAll(watched, "%", group)
		if before == "" {
			source = strings.Replace(source, "//fern:after BEFORE\n", "", 1)
		}
		files[group+"/x_test.go"] = strings.Replace(source, "BEFORE", before, 1)
	}
	testfiles.Write(t, dir, files)
	second := open(t, 120, 36, dir, nil, "watch")
	second.shows("Nothing runs in this project")
	s := open(t, 120, 36, dir, nil)
	s.shows("3 of 3")
	s.press("3", "r")
	s.shows("Watch ▲1 1/3", "expected  lamp amber in the west", "actual    lamp red in the west", "5 steps, 1 failed", "x_test.go:14", "newest", "ends in")
	s.press("Enter")
	s.shows("enter folds", "▲ bed_3", "▪ bed_4")
	s.press("Enter", "space")
	s.shows("held: workers finish their batches")
	second.shows("▲1 1/3", "lamp: got lamp red")
	second.press("x")
	second.shows("belongs to another process")
	testfiles.Write(t, dir, map[string]string{"b/.gate": ""}) // a hidden file, so that it is no change
	s.shows("Watch ▲1 2/3", "held")
	s.press("space")
	s.shows("Watch ▲1 3/3", "took ", "15 steps", "run 1 ·")
	second.shows("Watch ▲1 3/3", "workers idle")
	s.whole()
	s.press("f")
	s.shows("done, newest first", "passed in")
	s.press("F", "Down")
	s.typed("lamp")
	s.press("Enter")
	if text := s.shows(`done with "lamp"`); strings.Contains(text, "passed in") {
		t.Errorf("the filter leaves what passed:\n%s", text)
	}
	s.press("c")
	s.shows("saving a file runs the picked tests")
	mended := strings.Replace(files["a/x_test.go"], "i == 3", "i == 9", 1)
	testfiles.Write(t, dir, map[string]string{"a/x_test.go": mended})
	s.shows("Watch 1/1", "run 2 ·")
	if err := os.Remove(filepath.Join(dir, "b", ".gate")); err != nil {
		t.Fatal(err)
	}
	testfiles.Write(t, dir, map[string]string{"b/x_test.go": files["b/x_test.go"] + "\n// It waits.\n"})
	s.shows("Watch 0/1", "1 of 1 workers busy")
	testfiles.Write(t, dir, map[string]string{"b/x_test.go": strings.Replace(files["b/x_test.go"], `"b" == "b"`, `"b" == "-"`, 1)})
	s.shows("Watch 1/1", "run 4 ·") // the third was superseded
	second.press("q")
	second.ended()
	s.press("q")
	s.ended()
	if got := fern(t, dir, "replay", "2"); !strings.Contains(got.stdout, "1 picked: 1 passed") {
		t.Errorf("the run that followed the change: %s", got.stdout)
	}
}

// TestHoldInAFlood holds a run and lets it go on while its tests report as fast as they can: the keys and the events wait for
// each other in turn, and neither for good.
func TestHoldInAFlood(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if out, err := exec.Command("go", "build", "-o", filepath.Join(dir, "host"), "../../scripts/made-host").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	testfiles.Write(t, dir, map[string]string{"fern.toml": "[workers]\ncount = 2\n[[suite]]\nname = \"made\"\nkind = \"host\"\nrun = \"./host 20000 0s\"\n"})
	s := open(t, 120, 36, dir, nil)
	s.shows("20000 of 20000")
	s.press("3", "r")
	s.shows("worker 1", "workers busy")
	for range 10 {
		s.press("space", "f", "space", "down")
	}
	s.shows("Watch 20000/20000", "workers idle", "run 1 ·")
	s.press("q")
	s.ended()
}
