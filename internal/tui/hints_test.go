package tui

import (
	"slices"
	"strings"
	"testing"

	"fernrelay/internal/tui/legtest"
)

// TestHintGoesAfterFirstUse holds that a leg says what to do first until one of those keys is pressed there, and that
// the application remembers it.
func TestHintGoesAfterFirstUse(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	open := func() *App {
		a := newApp(t, legtest.Made(3, 4, 2))
		a.width, a.height = 160, 40
		settle(a, recallHints())
		return a
	}
	shown := func(a *App) bool {
		text, _ := a.screen()
		return strings.Contains(text, "first: ")
	}
	a := open()
	if press(a, "j"); !shown(a) {
		t.Error("Survey says nothing to a newcomer who moves")
	}
	if press(a, "+"); shown(a) {
		t.Error("the hint stays after its key was pressed")
	}
	if press(a, "2"); !shown(a) {
		t.Error("Split says nothing to a newcomer")
	}
	a = open()
	if shown(a) {
		t.Error("the hint of a leg that was used is back")
	}
	if press(a, "2"); !shown(a) {
		t.Error("the hint of a leg that was not used is gone")
	}
}

// TestEditorOpensPlace holds that editors get a line of a file in the form that they take.
func TestEditorOpensPlace(t *testing.T) {
	for _, c := range []struct{ editor, want string }{
		{"vim", "vim +12 /p/a b.go"},
		{"/usr/bin/code --wait", "/usr/bin/code --wait --goto /p/a b.go:12"},
		{"hx", "hx /p/a b.go:12"},
		{"mine --at {line} {file}", "mine --at 12 /p/a b.go"},
	} {
		if got := atPlace(strings.Fields(c.editor), "/p/a b.go", 12); strings.Join(got, " ") != c.want || !slices.Contains(got, "/p/a b.go") && !strings.Contains(got[len(got)-1], "/p/a b.go:12") {
			t.Errorf("%s is called as %q, not %s", c.editor, got, c.want)
		}
	}
}
