package worktree

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// disorder changes files at random as tests do: it writes, removes, replaces and links files and folders.
func disorder(t *testing.T, random *rand.Rand, dir string) {
	t.Helper()
	names := []string{"a", "b.go", "d/e", "d/f.go", "d/g/h", "new", "d/new", "n/o/p", "link"}
	for range 1 + random.IntN(6) {
		path := filepath.Join(dir, names[random.IntN(len(names))])
		switch random.IntN(7) {
		case 0:
			_ = os.RemoveAll(path)
		case 1:
			_ = os.RemoveAll(filepath.Dir(path) + "/g")
		case 2: // a folder in the place of a file
			_ = os.RemoveAll(path)
			_ = os.MkdirAll(filepath.Join(path, "in"), 0o755)
		case 3: // a file in the place of a folder
			if above := filepath.Dir(path); above != dir {
				_ = os.RemoveAll(above)
				_ = os.WriteFile(above, []byte("was a folder"), 0o644)
			}
		case 4:
			_ = os.RemoveAll(path)
			_ = os.Symlink([]string{"a", "d", "/nowhere", "b.go"}[random.IntN(4)], path)
		case 5:
			_ = os.Chmod(path, []fs.FileMode{0o600, 0o755, 0o400}[random.IntN(3)])
		default:
			_ = os.MkdirAll(filepath.Dir(path), 0o755)
			_ = os.WriteFile(path, fmt.Append(nil, random.IntN(3)), 0o644)
		}
	}
}

// state describes what is below a folder, by path.
func state(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrPermission) {
			return nil // a new folder, which a trial closed
		}
		if err != nil || path == dir {
			return err
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrPermission) {
			return nil // as above
		}
		if err != nil {
			return err
		}
		content, _ := os.ReadFile(path) // "" for what is no file
		if d.Type()&fs.ModeSymlink != 0 {
			to, err := os.Readlink(path)
			content = []byte(to)
			if err != nil {
				return err
			}
		}
		all[strings.TrimPrefix(path, dir+"/")] = fmt.Sprintf("%v %q", info.Mode(), content)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// TestRandomTrials has trials change files at random, ends the hunt well or by a kill at a random moment, and compares the
// project with what it was: each file is as before, and nothing that was set aside is missing.
func TestRandomTrials(t *testing.T) {
	for seed := range uint64(150) {
		random := rand.New(rand.NewPCG(seed, 1))
		dir, store := t.TempDir(), t.TempDir()
		t.Cleanup(func() { _ = exec.Command("chmod", "-R", "u+rwx", dir, store).Run() }) // so that they can be removed
		for _, folder := range []string{"d/g"} {
			if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		for i, name := range []string{"a", "b.go", "d/e", "d/f.go", "d/g/h"} {
			if err := os.WriteFile(filepath.Join(dir, name), fmt.Append(nil, "content ", i), []fs.FileMode{0o644, 0o755, 0o600}[random.IntN(3)]); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.Symlink("a", filepath.Join(dir, "link")); err != nil {
			t.Fatal(err)
		}
		before := state(t, dir)
		s, err := Take(dir, store, Options{Person: func(path string, _ fs.FileMode) bool { return filepath.Ext(path) == ".go" }, Committed: no, Revision: func() string { return "" }})
		if err != nil {
			t.Fatal(err)
		}
		if random.IntN(2) == 0 {
			if err := s.SetAside(func(path string, _ fs.FileMode, _ time.Time) bool { return path == "a" || path == "d/e" }); err != nil {
				t.Fatal(err)
			}
		}
		for range random.IntN(5) {
			disorder(t, random, dir)
			if random.IntN(4) > 0 {
				if _, err := s.Restore(); err != nil {
					t.Fatalf("seed %d: Restore: %v", seed, err)
				}
			}
		}
		if random.IntN(2) == 0 {
			if _, err := s.Close(); err != nil {
				t.Fatalf("seed %d: Close: %v", seed, err)
			}
		} else {
			if err := s.loan.Close(); err != nil {
				t.Fatal(err)
			}
			if _, err := GiveBack(dir, store, func() string { return "" }); err != nil {
				t.Fatalf("seed %d: GiveBack: %v", seed, err)
			}
		}
		now := state(t, dir)
		for name, was := range before {
			if now[name] != was {
				t.Errorf("seed %d: %s was %s and is %s", seed, name, was, now[name])
			}
		}
		if left, err := os.ReadDir(filepath.Join(store, "tree")); err != nil || len(left) > 0 {
			t.Errorf("seed %d: left are %v, %v", seed, left, err)
		}
	}
}
