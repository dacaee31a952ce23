package worktree

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
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
	options := Options{Skip: func(path string) bool { return path == "tracked.go" }, Person: func(path string, _ fs.FileMode) bool { return path == "tool" }, Committed: no, Revision: func() string { return "" }}
	s, err := Take(dir, store, options)
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
	must(s.SetAside(func(path string, _ fs.FileMode, _ time.Time) bool { return path == "deep/er/b.txt" || path == "tool" }))
	if changed, err := s.Restore(); err != nil || changed {
		t.Errorf("after setting aside: %t, %v", changed, err)
	}
	if _, err := os.Stat(filepath.Join(dir, "tool")); err != nil {
		t.Errorf("a file that people write is set aside: %v", err)
	}
	testfiles.Write(t, dir, map[string]string{"deep/er/b.txt": "of a trial"})
	must(os.RemoveAll(filepath.Join(dir, "gone.txt")))
	if _, err := Take(dir, store, options); !errors.Is(err, ErrBusy) {
		t.Errorf("a second snapshot: %v", err)
	}
	must(s.loan.Close()) // as a kill does
	if _, err := Take(dir, store, options); err == nil {
		t.Error("a snapshot begins before everything is given back")
	}
	notes, err := GiveBack(dir, store, func() string { return "" })
	if err != nil || len(notes) == 0 {
		t.Errorf("giving back: %q, %v", notes, err)
	}
	for name, want := range map[string]string{"deep/er/b.txt": "two\n", "gone.txt": "three\n", "deep/er/b.txt" + Kept: "of a trial"} {
		if data, err := os.ReadFile(filepath.Join(dir, name)); err != nil || string(data) != want {
			t.Errorf("%s is now %q, %v, want %q", name, data, err, want)
		}
	}
	if notes, err := GiveBack(dir, store, func() string { return "" }); notes != nil || err != nil {
		t.Errorf("giving back again: %q, %v", notes, err)
	}
	if left, err := os.ReadDir(filepath.Join(store, "tree")); err != nil || len(left) != 0 {
		t.Errorf("%v is left, %v", left, err)
	}
}

// TestNothingOfAPersonIsLost has trials and a person change files, and holds that what comes once is kept in the project,
// and what comes with each trial is not.
func TestNothingOfAPersonIsLost(t *testing.T) {
	dir, store := t.TempDir(), t.TempDir()
	before := map[string]string{"trials.log": "0", "source.go": "package a", "notes.txt": "mine", "own.go": "package b", "stamp.go": "package c", "left.txt": "by a run before"}
	testfiles.Write(t, dir, before)
	s, err := Take(dir, store, Options{Person: func(path string, _ fs.FileMode) bool { return filepath.Ext(path) == ".go" }, Committed: no, Revision: func() string { return "" }})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.SetAside(func(path string, _ fs.FileMode, _ time.Time) bool { return path == "left.txt" }); err != nil {
		t.Fatal(err)
	}
	for trial := range 4 {
		testfiles.Write(t, dir, map[string]string{"trials.log": fmt.Sprint("of trial ", trial), "made/by/trial.txt": "x", fmt.Sprintf("made/tmp%d1.out", trial): "y", "own.go": "as a test writes it", "stamp.go": fmt.Sprint("package c", trial), "left.txt": "by a trial"})
		if trial == 2 {
			testfiles.Write(t, dir, map[string]string{"source.go": "package edited", "notes.txt": "edited", "new_test.go": "package new"})
		}
		if changed, err := s.Restore(); err != nil || !changed {
			t.Fatalf("after trial %d: %t, %v", trial, changed, err)
		}
	}
	notes, err := s.Close()
	if err != nil || len(notes) != 3 {
		t.Errorf("the notes are %q, %v", notes, err)
	}
	got := map[string]string{}
	err = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			data, _ := os.ReadFile(path)
			got[filepath.Base(path)] = string(data)
		}
		return err
	})
	want := maps.Clone(before)
	maps.Copy(want, map[string]string{"source.go" + Kept: "package edited", "notes.txt" + Kept: "edited", "new_test.go": "package new"})
	if err != nil || !maps.Equal(got, want) {
		t.Errorf("the project has %v, %v; want %v", got, err, want)
	}
	if data, err := os.ReadFile(filepath.Join(store, Replaced, "made/by/trial.txt")); err != nil || string(data) != "x" {
		t.Errorf("what trials made is %q, %v", data, err)
	}
	if versions, _ := filepath.Glob(filepath.Join(store, Replaced, "stamp.go*")); len(versions) != 4 {
		t.Errorf("of a source that each trial changed there are %v", versions)
	}
}

func no(string) bool { return false }

// TestAnotherRevision has a person check out another revision during a hunt, before and after a kill, and holds that the
// files of that revision stay, and that the person's other files come back.
func TestAnotherRevision(t *testing.T) {
	for _, killed := range []bool{false, true} {
		dir, store := t.TempDir(), t.TempDir()
		testfiles.Write(t, dir, map[string]string{"a.go": "one", "gone.go": "one", "edited.go": "by hand", "notes.txt": "mine"})
		revision := "one"
		o := Options{Person: func(path string, _ fs.FileMode) bool { return filepath.Ext(path) == ".go" },
			Committed: func(path string) bool { return path == "a.go" || path == "gone.go" }, Revision: func() string { return revision }}
		s, err := Take(dir, store, o)
		if err != nil {
			t.Fatal(err)
		}
		revision = "two"
		testfiles.Write(t, dir, map[string]string{"new/b.go": "two", "a.go": "two", "edited.go": "by a trial", "notes.txt": "by a trial"})
		if err := os.Remove(filepath.Join(dir, "gone.go")); err != nil {
			t.Fatal(err)
		}
		if killed {
			if err := s.loan.Close(); err != nil {
				t.Fatal(err)
			}
			_, err = GiveBack(dir, store, o.Revision)
		} else {
			_, err = s.Close()
		}
		if err != nil {
			t.Error(err)
		}
		for name, want := range map[string]string{"new/b.go": "two", "a.go": "two", "gone.go": "", "edited.go": "by hand", "notes.txt": "mine"} {
			if data, _ := os.ReadFile(filepath.Join(dir, name)); string(data) != want {
				t.Errorf("killed %t: %s is %q, want %q", killed, name, data, want)
			}
		}
	}
}
