package tui

import (
	"errors"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/hunt"
	"fernrelay/internal/hunting"
	"fernrelay/internal/progress"
	huntleg "fernrelay/internal/tui/hunt"
	"fernrelay/internal/tui/legtest"
)

// TestPatchFits draws a patch, the search for one and the reason why there is none in all sizes, with hostile text, and
// holds that the verdict's sentence is above it on the least screen.
func TestPatchFits(t *testing.T) {
	diff := "--- a/p_test.go\n+++ b/p_test.go\n@@ -1,3 +1,5 @@\n func TestX(t *testing.T) {\n+\told\x1b[31m := 水\n-\tgone " + strings.Repeat("long ", 60) + "\n"
	for name, known := range map[string]*huntleg.Repair{
		"looking": {Looking: true},
		"none":    {Err: errors.New("variable p.beds: it has a sync.Mutex\x1b[2J, which must not be copied\n" + strings.Repeat("reason ", 90))},
		"a patch": {Patch: &hunting.Patch{Diff: diff, File: "/p/p_test.go", Trials: []string{"TestX alone: passed", strings.Repeat("trial ", 40)}}},
	} {
		for _, size := range [][2]int{{80, 24}, {100, 30}, {160, 40}, {300, 80}} {
			a := newApp(t, legtest.Made(3, 4, 2))
			a.width, a.height, a.leg = size[0], size[1], legHunt
			victim := a.session.Picked.Catalog.Tests[0]
			finding := hunt.Finding{ID: victim.ID, Verdict: hunt.Polluted, Culprits: [][]string{{a.session.Picked.Catalog.Tests[1].ID}}, With: hunt.Times{Runs: 5, Failed: 5}}
			a.hunt.Hunts = []*progress.Hunt{{Victim: victim, Ended: true, Progress: hunt.Progress{Victim: victim.ID, Finding: finding}}}
			a.hunt.Repairs[victim.ID], a.hunt.Patching = known, true
			text, _ := a.screen()
			lines := strings.Split(ansi.Strip(text), "\n")
			if len(lines) > size[1] {
				t.Errorf("%s, %v: %d lines", name, size, len(lines))
			}
			for _, line := range lines {
				if ansi.StringWidth(line) > size[0] || strings.Contains(line, "\x1b") {
					t.Errorf("%s, %v: %q", name, size, line)
				}
			}
			if !strings.Contains(ansi.Strip(text), "fails only after") {
				t.Errorf("%s, %v: the verdict's sentence is not shown:\n%s", name, size, ansi.Strip(text))
			}
		}
	}
}

// TestPatchKeys looks for a patch once, shows and hides it, and offers to write and apply it only while it is shown.
func TestPatchKeys(t *testing.T) {
	a := newApp(t, legtest.Made(3, 4, 2))
	a.width, a.height, a.leg = 160, 40, legHunt
	press(a, "p")
	if a.message == "" || a.hunt.Busy() {
		t.Error("without a hunt p does something")
	}
	victim := a.session.Picked.Catalog.Tests[0]
	h := &progress.Hunt{Victim: victim, Ended: true, Progress: hunt.Progress{Victim: victim.ID}}
	a.hunt.Hunts = []*progress.Hunt{h}
	press(a, "p")
	if !strings.Contains(a.message, "nothing to repair") || a.hunt.Busy() {
		t.Errorf("without a culprit p says %q", a.message)
	}
	h.Progress.Finding = hunt.Finding{ID: victim.ID, Verdict: hunt.Polluted, Culprits: [][]string{{a.session.Picked.Catalog.Tests[1].ID}}}
	press(a, "p") // the tests are no Go tests
	known := a.hunt.Repairs[victim.ID]
	if known == nil || known.Err == nil || a.hunt.Busy() || !a.hunt.Patching {
		t.Fatalf("p finds %+v", known)
	}
	if press(a, "w"); a.sheet != nil {
		t.Error("what is no patch can be written")
	}
	a.hunt.Repairs[victim.ID] = &huntleg.Repair{Patch: &hunting.Patch{Diff: "+x\n", File: "/p/p_test.go"}}
	press(a, "A")
	if a.sheet == nil {
		t.Fatal("A does not ask")
	}
	press(a, "⏎")
	if a.sheet != nil || strings.Contains(a.message, "written") {
		t.Errorf("no is taken for yes: %q", a.message)
	}
	if press(a, "p"); a.hunt.Patching {
		t.Error("p does not hide the patch")
	}
	if press(a, "A"); a.sheet != nil {
		t.Error("a patch that is not shown can be applied")
	}
}
