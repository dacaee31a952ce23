package worktree

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"fernrelay/internal/testfiles"
)

// TestRestore changes, removes and adds files, links and folders, and puts all back.
func TestRestore(t *testing.T) {
	dir, store := t.TempDir(), t.TempDir()
	testfiles.Write(t, dir, map[string]string{"a.txt": "one\n", "deep/er/b.txt": "two\n", "tool": "#!/bin/sh\n", "gone.txt": "three\n", "bin": "\x00\x01", ".git/index": "x", "was/folder/c": "c"})
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(os.Chmod(filepath.Join(dir, "tool"), 0o755))
	must(os.Symlink("a.txt", filepath.Join(dir, "link")))
	testfiles.Write(t, dir, map[string]string{"tracked.go": "ours"})
	s, err := Take(dir, store, func(path string) bool { return path == "tracked.go" })
	must(err)
	if changes, err := s.Changes(); err != nil || len(changes) != 0 {
		t.Errorf("at once %v changed, %v", changes, err)
	}
	testfiles.Write(t, dir, map[string]string{"a.txt": "ONE\n", "new/est/d.txt": "four", ".git/index": "y", "tracked.go": "edited", "bin": "\x00\x02\x03"})
	for _, name := range []string{"gone.txt", "deep", "link", "was"} {
		must(os.RemoveAll(filepath.Join(dir, name)))
	}
	must(os.Chmod(filepath.Join(dir, "tool"), 0o600))
	must(os.Symlink("tool", filepath.Join(dir, "link")))
	testfiles.Write(t, dir, map[string]string{"was": "now a file"})
	changes, err := s.Changes()
	must(err)
	words := ""
	for _, c := range changes {
		words += fmt.Sprintf("%s: %s → %s\n", c.Path, c.Before, c.After)
	}
	want := "a.txt: 4 bytes, \"one\" → 4 bytes, \"ONE\"\nbin: 2 bytes → 3 bytes\ndeep/er/b.txt: 4 bytes, \"two\" → (absent)\ngone.txt: 6 bytes, \"three\" → (absent)\n" +
		"link: a link to a.txt → a link to tool\nnew/est/d.txt: (absent) → 4 bytes, \"four\"\ntool: 10 bytes, \"#!/bin/sh\" → 10 bytes, \"#!/bin/sh\"\n" +
		"was: 0 bytes → 10 bytes, \"now a file\"\nwas/folder/c: 1 bytes, \"c\" → (absent)\n"
	if words != want {
		t.Errorf("changed:\n%swant:\n%s", words, want)
	}
	if touched, err := s.Touched(); err != nil || !touched {
		t.Errorf("touched: %t, %v", touched, err)
	}
	must(s.RestoreFile("a.txt"))
	must(s.RestoreFile("new/est/d.txt"))
	if changes, err := s.Changes(); err != nil || len(changes) != 7 {
		t.Errorf("after two files %d changes, %v", len(changes), err)
	}
	if changed, err := s.Restore(); err != nil || !changed {
		t.Errorf("restored: %t, %v", changed, err)
	}
	if changed, err := s.Restore(); err != nil || changed {
		t.Errorf("restored once more: %t, %v", changed, err)
	}
	if touched, err := s.Touched(); err != nil || touched {
		t.Errorf("once restored it is touched: %t, %v", touched, err)
	}
	if _, err := os.Stat(filepath.Join(dir, "new")); err == nil {
		t.Error("a new folder stays")
	}
	if data, err := os.ReadFile(filepath.Join(dir, ".git", "index")); err != nil || string(data) != "y" {
		t.Errorf("what belongs to git is now %q, %v", data, err)
	}
	if data, err := os.ReadFile(filepath.Join(dir, "tracked.go")); err != nil || string(data) != "edited" {
		t.Errorf("what is skipped is now %q, %v", data, err)
	}
	if data, err := os.ReadFile(filepath.Join(store, Replaced, "a.txt")); err != nil || string(data) != "ONE\n" {
		t.Errorf("what was replaced is kept as %q, %v", data, err)
	}
	must(s.SetAside(func(path string, _ fs.FileMode, _ time.Time) bool { return path == "deep/er/b.txt" }))
	if changed, err := s.Restore(); err != nil || changed {
		t.Errorf("after setting aside: %t, %v", changed, err)
	}
	testfiles.Write(t, dir, map[string]string{"deep/er/b.txt": "of a trial"})
	must(os.RemoveAll(filepath.Join(dir, "gone.txt")))
	if _, err := Take(dir, store, s.skip); !errors.Is(err, ErrBusy) {
		t.Errorf("a second snapshot: %v", err)
	}
	must(s.lock.Close())
	s, err = Take(dir, store, s.skip) // as after a process that was killed
	must(err)
	if data, err := os.ReadFile(filepath.Join(dir, "deep", "er", "b.txt")); err != nil || string(data) != "two\n" {
		t.Errorf("what was set aside is now %q, %v", data, err)
	}
	must(s.Close())
	if left, err := os.ReadDir(filepath.Join(store, "tree")); err != nil || len(left) != 0 {
		t.Errorf("%v is left, %v", left, err)
	}
}
