package project

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"fernrelay/internal/testfiles"
)

// TestOrigin holds which changes make another source of a checkout: those of tracked files and of new ones that may be sources, and
// not what tests and runs leave.
func TestOrigin(t *testing.T) {
	dir := t.TempDir()
	git := func(args ...string) {
		t.Helper()
		cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=n", "-c", "user.email=e"}, args...)...)
		cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
	}
	if source := Origin(t.Context(), dir); source.Revision != "" {
		t.Errorf("a folder without git is of %v", source)
	}
	testfiles.Write(t, dir, map[string]string{"a.go": "package a\n", "script": "exit 0\n", "sub/b.go": "package b\n", ".gitignore": "*.log\n"})
	git("init", "-q")
	git("add", ".")
	git("commit", "-qm", "first")
	clean := Origin(t.Context(), dir)
	if clean.Revision == "" || clean.Dirty || clean.Content != "" {
		t.Fatalf("a clean checkout is of %+v", clean)
	}
	seen := map[string]string{} // by content: the change
	for _, c := range []struct {
		name, text    string
		mode          os.FileMode
		dirty, source bool
	}{
		{"a.go", "package a // changed\n", 0o644, true, true},
		{"a.go", "package a // changes\n", 0o644, true, true},
		{"sub/b.go", "package b // changed\n", 0o644, true, true},
		{"new.go", "package a\n", 0o644, true, true},
		{"sub/deep/new.go", "package deep\n", 0o644, true, true},
		{"tool", "#!/bin/sh\n", 0o755, true, true},
		{"script", "exit 0\n", 0o755, true, true},
		{"left-by-a-test", "x", 0o644, true, false},
		{"left.dat", "x", 0o644, true, false},
		{"x.log", "x", 0o644, false, false},
		{"events.go", `{"event":"run","format":"fern-events/1"}`, 0o644, true, false}, // a report, whatever its name
		{"junit.go", "<?xml version=\"1.0\"?>\n<testsuites/>", 0o644, true, false},
	} {
		path := filepath.Join(dir, filepath.FromSlash(c.name))
		testfiles.Write(t, dir, map[string]string{c.name: c.text})
		if err := os.Chmod(path, c.mode); err != nil {
			t.Fatal(err)
		}
		got := Origin(t.Context(), filepath.Join(dir, "sub"))
		if got.Dirty != c.dirty || (got.Content != "") != c.source || got.Differs(clean) != c.source || got.Revision != clean.Revision {
			t.Errorf("with %s: %+v, want dirty %t and another source %t", c.name, got, c.dirty, c.source)
		}
		if c.source {
			if before, known := seen[got.Content]; known {
				t.Errorf("%s with %q is the same source as %s", c.name, c.text, before)
			}
			seen[got.Content] = c.name
		}
		if again := Origin(t.Context(), dir); again != got {
			t.Errorf("with %s, the next call returns %+v, want %+v", c.name, again, got)
		}
		git("reset", "-q", "--hard")
		git("clean", "-qfdx")
	}
	testfiles.Write(t, dir, map[string]string{"new.go": "package a\n"})
	if tracked := TrackedOrigin(t.Context(), dir); tracked != clean {
		t.Errorf("TrackedOrigin returned %+v, want %+v", tracked, clean)
	}
}
