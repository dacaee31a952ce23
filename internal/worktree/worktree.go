// Package worktree puts the files of a project back as they were.
//
// Tests may leave files behind in the project, or change its own. A hunt takes a snapshot before its trials, and restores it
// between them, so that each trial finds the same files:
//
//	s, err := worktree.Take(dir, data, person)
//	defer s.Close()
//	...
//	changed, err := s.Restore()
//
// If the process is killed, the next command gives back what the hunt borrowed:
//
//	notes, err := worktree.GiveBack(dir, data)
//
// A file that a person changes during the hunt looks like one that a trial changed. What comes back with another trial is
// the trials'. What came once may be a person's, so that it is never removed: a file that is new stays, and a changed one is
// kept beside the restored one, see [Kept].
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
	"sync"
	"syscall"
	"time"

	"fernrelay/internal/owned"
)

// The bounds of a snapshot.
const (
	mostFiles   = 20_000
	mostBytes   = 256 << 20 // of all copies
	largestFile = 32 << 20  // that is copied
)

// ErrBusy says that another process has a snapshot of the folder.
var ErrBusy = owned.ErrBusy

// ErrTooLarge says that a folder has more files than a snapshot follows.
var ErrTooLarge = fmt.Errorf("it has more than %d files, or more than %d MB", mostFiles, mostBytes>>20)

// A Snapshot is the files of a folder at one moment. It is safe for use by several goroutines.
type Snapshot struct {
	dir      string
	skip     func(path string) bool
	revision func() string

	mu      sync.Mutex
	loan    *owned.Loan
	files   map[string]entry // that trials find, by path relative to dir, with slashes
	special map[string]bool  // what there was that is not followed: sockets, pipes and devices; committed files of another revision
	folders map[string]int   // by pattern: how often an empty folder was removed that is new
	removed map[string]bool  // those folders
}

// Replaced is the folder in the project's data for what trials left or changed, until the next snapshot.
const Replaced = "replaced"

// Kept ends the name of a file that is kept beside a restored one.
const Kept = ".fern-kept"

// entry is what is known of a file, a link or a folder.
type entry struct {
	owned.Borrowed
	written string // changes whenever somebody writes to the file, even if its time is put back
}

// A Change is a file that differs from the snapshot.
type Change struct {
	Path          string // relative to the folder, with slashes
	Before, After string // in words: "(absent)", or the size and the beginning of the content
}

// Options say what a snapshot follows.
type Options struct {
	// Skip reports whether a file is left as trials make it, by its path relative to the folder; nil for none. Version
	// control, Fern Relay's data and node_modules are always left out.
	Skip func(path string) bool
	// Person reports whether a file is one that people write, such as a source, rather than one that tests write.
	Person func(path string, mode fs.FileMode) bool
	// Committed reports whether the present revision has a file as it is, and Revision returns that revision, "" without
	// version control. If it is another one later, a person has changed those files, and they stay as they are.
	Committed func(path string) bool
	Revision  func() string
}

// Take takes a snapshot of a folder, with copies of its files in the project's data. A folder has one snapshot at a time.
func Take(dir, data string, o Options) (*Snapshot, error) {
	dir, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return nil, err
	}
	loan, err := owned.Borrow(dir, data)
	if err != nil {
		return nil, err
	}
	s := &Snapshot{dir: dir, skip: o.Skip, revision: o.Revision, loan: loan, special: map[string]bool{}, folders: map[string]int{}, removed: map[string]bool{}}
	if s.files, err = s.list(); err == nil {
		err = s.copyAll(o)
	}
	if err == nil {
		err = owned.RemoveData(data, Replaced)
	}
	if err != nil {
		return nil, errors.Join(err, loan.End()) // nothing was touched
	}
	return s, nil
}

// SetAside moves the files away that left selects, by their paths and when they were changed. Close puts them back.
func (s *Snapshot) SetAside(left func(path string, mode fs.FileMode, changed time.Time) bool) error {
	var aside []owned.Moved
	for path, e := range s.files {
		if e.Mode.IsRegular() && !e.Person && left(path, e.Mode, e.Changed) {
			aside = append(aside, owned.Moved{Path: path, Aside: true})
		}
	}
	if err := s.loan.Move(aside); err != nil {
		return err
	}
	for _, m := range aside {
		delete(s.files, m.Path)
	}
	return nil
}

// list returns what is in the folder now. It does not enter other mounts.
func (s *Snapshot) list() (map[string]entry, error) {
	files := map[string]entry{}
	mount, err := owned.MountAt(s.dir)
	if err != nil {
		return nil, err
	}
	err = filepath.WalkDir(s.dir, func(path string, d fs.DirEntry, err error) error {
		switch {
		case path == s.dir:
			return err
		case err != nil:
			return nil // it is gone, or nobody may read it
		case d.IsDir() && owned.LeavesOut(d.Name()):
			return filepath.SkipDir
		case d.IsDir():
			if at, err := owned.MountAt(path); err != nil || at != mount {
				return filepath.SkipDir
			}
		}
		below, err := filepath.Rel(s.dir, path)
		if err != nil {
			return err
		}
		name := filepath.ToSlash(below)
		if s.skip != nil && s.skip(name) {
			return nil
		}
		if e, err := look(path, name); err == nil && !s.special[name] { // otherwise it is gone
			files[name] = e
		}
		if len(files) > mostFiles {
			return ErrTooLarge
		}
		return nil
	})
	return files, err
}

// look returns what is known of a file now.
func look(path, name string) (entry, error) {
	info, err := os.Lstat(path)
	if err != nil {
		return entry{}, err
	}
	e := entry{Borrowed: owned.Borrowed{Path: name, Mode: info.Mode(), Changed: info.ModTime()}, written: owned.Written(info)}
	e.User, e.Group = owned.OwnerOf(info)
	if e.Mode.IsRegular() {
		e.Size = info.Size()
	}
	if e.Mode&fs.ModeSymlink != 0 {
		e.Link, _ = os.Readlink(path) // "" for one that is gone
	}
	return e, nil
}

// copyAll copies the files, and has the loan name them.
func (s *Snapshot) copyAll(o Options) error {
	size := int64(0)
	for _, e := range s.files {
		if e.Mode.IsRegular() && e.Size <= largestFile {
			size += e.Size
		}
	}
	if size > mostBytes {
		return ErrTooLarge
	}
	all := make([]owned.Borrowed, 0, len(s.files))
	for path, e := range s.files {
		if e.Mode&(fs.ModeNamedPipe|fs.ModeSocket|fs.ModeDevice|fs.ModeIrregular) != 0 {
			s.special[path] = true
			delete(s.files, path)
			continue
		}
		e.Person = e.Mode.IsRegular() && o.Person(path, e.Mode)
		e.Commit = o.Committed(path)
		if e.Mode.IsRegular() && e.Size <= largestFile {
			kept, err := s.loan.Keep(e.Borrowed)
			if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
				return err
			}
			if err == nil { // otherwise it cannot be read, and not be put back
				e.Borrowed = kept
			}
		}
		s.files[path] = e
		all = append(all, e.Borrowed)
	}
	return s.loan.Ready(all, o.Revision())
}

func (s *Snapshot) path(name string) string { return filepath.Join(s.dir, filepath.FromSlash(name)) }

// Changes returns the files that differ from the snapshot, by path. A folder that is new counts as the files in it.
func (s *Snapshot) Changes() ([]Change, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now, err := s.list()
	if err != nil {
		return nil, err
	}
	var changes []Change
	for path, e := range now {
		if before, known := s.files[path]; !e.Mode.IsDir() && (!known || !s.same(before, e)) {
			changes = append(changes, Change{path, s.words(path, before, known), s.describeNow(path, e)})
		}
	}
	for path, e := range s.files {
		if _, there := now[path]; !there && !e.Mode.IsDir() {
			changes = append(changes, Change{path, s.words(path, e, true), absent})
		}
	}
	slices.SortFunc(changes, func(a, b Change) int { return cmp.Compare(a.Path, b.Path) })
	return changes, nil
}

// Touched reports whether anything differs. Others may use the folder meanwhile.
func (s *Snapshot) Touched() (bool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now, err := s.list()
	if err != nil || len(now) != len(s.files) {
		return err == nil, err
	}
	for path, e := range now {
		before, known := s.files[path]
		if !known || !s.same(before, e) {
			return true, nil
		}
	}
	return false, nil
}

// same reports whether a file or folder looks as it did. A file that is written anew has another time, or at
// least another content if its time was put back.
func (s *Snapshot) same(before, now entry) bool {
	if before.Mode.IsDir() && now.Mode.IsDir() {
		return before.Mode == now.Mode
	}
	if before.Mode != now.Mode || before.Size != now.Size || before.Link != now.Link {
		return false
	}
	if !before.Mode.IsRegular() || before.written == now.written {
		return true
	}
	return before.Changed.Equal(now.Changed) && (before.Sum == "" || s.loan.Holds(before.Borrowed))
}

// absent is the value of a file that is not there.
const absent = "(absent)"

func (s *Snapshot) words(path string, e entry, known bool) string {
	switch {
	case !known:
		return absent
	case e.Sum != "":
		return describe(s.loan.Content(e.Borrowed), e)
	}
	return describe(nil, e)
}

// shown is how much of a file's content is part of its description, in bytes.
const shown = 60

// describe returns the size of a file and, if it is short text, its beginning.
func describe(content io.Reader, e entry) string {
	if e.Mode&fs.ModeSymlink != 0 {
		return "a link to " + e.Link
	}
	words := fmt.Sprintf("%d bytes", e.Size)
	if content == nil {
		return words
	}
	data := make([]byte, shown)
	n, _ := io.ReadFull(content, data) // as much as there is
	if text := strings.TrimSpace(string(data[:n])); text != "" && !bytes.ContainsFunc(data[:n], func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' || r == 0xFFFD }) {
		words += fmt.Sprintf(", %q", text)
	}
	return words
}

// describeNow is describe for a file as it is now.
func (s *Snapshot) describeNow(path string, e entry) string {
	if !e.Mode.IsRegular() {
		return describe(nil, e)
	}
	file, err := os.Open(s.path(path))
	if err != nil {
		return describe(nil, e)
	}
	defer file.Close()
	return describe(file, e)
}
