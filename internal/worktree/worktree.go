// Package worktree puts the files of a folder back as they were.
//
// Tests may leave files behind in the project. A hunt takes a snapshot before its trials, and restores it between
// them, so that each trial finds the files of a fresh checkout:
//
//	s, err := worktree.Take(dir, store, isTracked)
//	defer s.Close()
//	...
//	changes, err := s.Restore()
package worktree

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
)

// The bounds of a snapshot.
const (
	mostFiles   = 20_000
	mostBytes   = 256 << 20 // of all copies
	largestFile = 32 << 20  // that is copied
)

// ErrBusy says that another process has a snapshot of the folder.
var ErrBusy = errors.New("another hunt of this project is going on")

// ErrTooLarge says that a folder has more files than a snapshot follows.
var ErrTooLarge = fmt.Errorf("it has more than %d files, or more than %d MB", mostFiles, mostBytes>>20)

// A Snapshot is the files of a folder at one moment. It is not safe for use by several goroutines.
type Snapshot struct {
	dir      string
	skip     func(path string) bool
	lock     *os.File         // is locked until Close
	copies   string           // the folder with the copies, by number
	replaced string           // the folder of what Restore replaced
	aside    string           // the folder of what SetAside moved; after a process that was killed, the next snapshot puts it back
	files    map[string]entry // by path relative to dir, with slashes
}

// Replaced is the folder in the store to which Restore moves what it replaces, until the next snapshot: a person may
// have written it.
const Replaced = "replaced"

// entry is what is known of a file, a link or a folder.
type entry struct {
	mode    fs.FileMode
	size    int64
	changed time.Time
	link    string // where a link leads
	copy    int    // the number of its copy, from 1; 0 for none
}

// A Change is a file that differs from the snapshot.
type Change struct {
	Path          string // relative to the folder, with slashes
	Before, After string // in words: "(absent)", or the size and the beginning of the content
}

// Take takes a snapshot of a folder, with copies of its files in a new folder in store. It leaves out the files, by paths
// relative to dir, that skip selects, what belongs to version control and Fern Relay, and node_modules. Close removes the
// copies. A folder has one snapshot at a time.
func Take(dir, store string, skip func(path string) bool) (*Snapshot, error) {
	folder := filepath.Join(store, "tree")
	s := &Snapshot{dir: dir, skip: skip, copies: filepath.Join(folder, "copies"), replaced: filepath.Join(store, Replaced), aside: filepath.Join(folder, "aside")}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	var err error
	if s.lock, err = os.Open(folder); err != nil {
		return nil, err
	}
	if syscall.Flock(int(s.lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		return nil, errors.Join(ErrBusy, s.lock.Close())
	}
	if err := errors.Join(os.RemoveAll(s.copies), os.RemoveAll(s.replaced), s.putAsideBack(), os.Mkdir(s.copies, 0o755)); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if s.files, err = s.list(); err == nil {
		err = s.copyAll()
	}
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// SetAside moves the files away that left selects, by their paths and when they were changed. Close puts them back.
func (s *Snapshot) SetAside(left func(path string, mode fs.FileMode, changed time.Time) bool) error {
	for path, e := range s.files {
		if !e.mode.IsRegular() || !left(path, e.mode, e.changed) {
			continue
		}
		to := filepath.Join(s.aside, filepath.FromSlash(path))
		if err := errors.Join(os.MkdirAll(filepath.Dir(to), 0o755), os.Rename(s.path(path), to)); err != nil {
			return err
		}
		delete(s.files, path)
	}
	return nil
}

// putAsideBack moves what was set aside into its place again. What trials have left there is moved to the replaced files.
func (s *Snapshot) putAsideBack() error {
	err := filepath.WalkDir(s.aside, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		name, err := filepath.Rel(s.aside, path)
		if err != nil {
			return err
		}
		place := s.path(name)
		if info, err := os.Lstat(place); err == nil {
			if err := s.remove(name, entry{mode: info.Mode()}); err != nil {
				return err
			}
		}
		return errors.Join(os.MkdirAll(filepath.Dir(place), 0o755), os.Rename(path, place))
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return errors.Join(err, os.RemoveAll(s.aside))
}

// Close puts back what was set aside, and removes the copies.
func (s *Snapshot) Close() error {
	return errors.Join(s.putAsideBack(), os.RemoveAll(s.copies), s.lock.Close())
}

// left are the names of folders that a snapshot leaves out.
var left = []string{".git", ".hg", ".svn", ".fern", "node_modules"}

// list returns what is in the folder now.
func (s *Snapshot) list() (map[string]entry, error) {
	files := map[string]entry{}
	err := filepath.WalkDir(s.dir, func(path string, d fs.DirEntry, err error) error {
		switch {
		case path == s.dir:
			return err
		case err != nil:
			return nil // it is gone, or nobody may read it
		case d.IsDir() && slices.Contains(left, d.Name()):
			return filepath.SkipDir
		}
		info, err := d.Info()
		if err != nil {
			return nil
		}
		e := entry{mode: info.Mode(), changed: info.ModTime()}
		if e.mode.IsRegular() {
			e.size = info.Size()
		}
		if e.mode&fs.ModeSymlink != 0 {
			e.link, _ = os.Readlink(path) // "" for one that is gone
		}
		below, err := filepath.Rel(s.dir, path)
		if err != nil {
			return err
		}
		if name := filepath.ToSlash(below); !s.skip(name) {
			files[name] = e
		}
		if len(files) > mostFiles {
			return ErrTooLarge
		}
		return nil
	})
	return files, err
}

func (s *Snapshot) copyAll() error {
	room, n := int64(mostBytes), 0
	for path, e := range s.files {
		if !e.mode.IsRegular() || e.size > largestFile {
			continue
		}
		if room -= e.size; room < 0 {
			return ErrTooLarge
		}
		n++
		if copyFile(s.path(path), s.copyOf(n), 0o600) == nil { // one that cannot be read cannot be put back
			e.copy = n
			s.files[path] = e
		}
	}
	return nil
}

func (s *Snapshot) path(name string) string { return filepath.Join(s.dir, filepath.FromSlash(name)) }
func (s *Snapshot) copyOf(n int) string     { return filepath.Join(s.copies, fmt.Sprint(n)) }

func copyFile(from, to string, mode fs.FileMode) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// Changes returns the files that differ from the snapshot, by path. A folder that is new counts as the files in it.
func (s *Snapshot) Changes() ([]Change, error) {
	now, err := s.list()
	if err != nil {
		return nil, err
	}
	var changes []Change
	for path, e := range now {
		if before, known := s.files[path]; !e.mode.IsDir() && (!known || !before.same(e)) {
			changes = append(changes, Change{path, s.words(path, before, known), describe(s.path(path), e)})
		}
	}
	for path, e := range s.files {
		if _, there := now[path]; !there && !e.mode.IsDir() {
			changes = append(changes, Change{path, s.words(path, e, true), absent})
		}
	}
	slices.SortFunc(changes, func(a, b Change) int { return cmp.Compare(a.Path, b.Path) })
	return changes, nil
}

// Touched reports whether anything differs. Others may use the folder, and the snapshot, meanwhile.
func (s *Snapshot) Touched() (bool, error) {
	now, err := s.list()
	if err != nil || len(now) != len(s.files) {
		return err == nil, err
	}
	for path, e := range now {
		before, known := s.files[path]
		if !known || !before.same(e) {
			return true, nil
		}
	}
	return false, nil
}

// same reports whether a file looks as it did, or both are folders. A file that is written anew has another time.
func (e entry) same(other entry) bool {
	return e.mode.IsDir() && other.mode.IsDir() || e.mode == other.mode && e.size == other.size && e.link == other.link && (!e.mode.IsRegular() || e.changed.Equal(other.changed))
}

// absent is the value of a file that is not there.
const absent = "(absent)"

func (s *Snapshot) words(path string, e entry, known bool) string {
	switch {
	case !known:
		return absent
	case e.copy > 0:
		return describe(s.copyOf(e.copy), e)
	}
	return describe("", e)
}

// shown is how much of a file's content is part of its description, in bytes.
const shown = 60

// describe returns the size of a file and, if it is short text, its beginning.
func describe(path string, e entry) string {
	if e.mode&fs.ModeSymlink != 0 {
		return "a link to " + e.link
	}
	words := fmt.Sprintf("%d bytes", e.size)
	data := make([]byte, shown)
	file, err := os.Open(path)
	if err != nil {
		return words
	}
	defer file.Close()
	n, _ := io.ReadFull(file, data) // as much as there is
	if text := strings.TrimSpace(string(data[:n])); text != "" && !bytes.ContainsFunc(data[:n], func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' || r == 0xFFFD }) {
		words += fmt.Sprintf(", %q", text)
	}
	return words
}

// Restore puts everything back that differs, and reports whether anything did. The error names what cannot be put back.
func (s *Snapshot) Restore() (changed bool, err error) {
	now, err := s.list()
	if err != nil {
		return false, err
	}
	var errs []error
	for _, path := range sortedDown(now) { // what is in a folder before the folder
		e := now[path]
		before, known := s.files[path]
		if known && before.same(e) {
			continue
		}
		changed = true
		if !known || before.mode.Type() != e.mode.Type() {
			errs = append(errs, s.remove(path, e))
		}
	}
	for _, path := range slices.Backward(sortedDown(s.files)) {
		e := s.files[path]
		is, there := now[path]
		if there && e.same(is) {
			continue
		}
		changed = true
		if there && is.mode.Type() == e.mode.Type() {
			errs = append(errs, s.remove(path, is))
		}
		errs = append(errs, s.put(path))
	}
	return changed, errors.Join(errs...)
}

// remove takes what is in a file's place away, and keeps it.
func (s *Snapshot) remove(path string, e entry) error {
	if e.mode.IsDir() {
		err := os.Remove(s.path(path)) // what was in it is gone, or skipped
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTEMPTY) {
			err = nil
		}
		return err
	}
	to := filepath.Join(s.replaced, filepath.FromSlash(path))
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return os.Remove(s.path(path)) // a file is in the way that was replaced before
	}
	if err := os.Rename(s.path(path), to); err != nil {
		return os.RemoveAll(s.path(path))
	}
	return nil
}

// RestoreFile puts one file back.
func (s *Snapshot) RestoreFile(path string) error {
	if info, err := os.Lstat(s.path(path)); err == nil {
		if err := s.remove(path, entry{mode: info.Mode()}); err != nil {
			return err
		}
	}
	if _, known := s.files[path]; !known {
		return nil
	}
	return s.put(path)
}

// put puts a file of the snapshot into its place.
func (s *Snapshot) put(path string) error {
	e, place := s.files[path], s.path(path)
	switch {
	case e.mode.IsDir():
		return os.MkdirAll(place, e.mode.Perm())
	case e.mode&fs.ModeSymlink != 0:
		_ = os.Remove(place) // it may be gone
		return os.Symlink(e.link, place)
	case e.copy == 0:
		return fmt.Errorf("%s was changed and cannot be put back: it is too large or cannot be read", path)
	}
	if err := copyFile(s.copyOf(e.copy), place, e.mode.Perm()); err != nil {
		return err
	}
	return errors.Join(os.Chmod(place, e.mode.Perm()), os.Chtimes(place, time.Time{}, e.changed))
}

// sortedDown returns the paths, what is in a folder before the folder.
func sortedDown(files map[string]entry) []string {
	paths := make([]string, 0, len(files))
	for path := range files {
		paths = append(paths, path)
	}
	slices.SortFunc(paths, func(a, b string) int { return cmp.Compare(b, a) })
	return paths
}
