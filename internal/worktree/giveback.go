package worktree

import (
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"

	"fernrelay/core/lazy"
	"fernrelay/internal/owned"
)

// Close gives everything back, and removes the copies once each file is in its place. The notes name what a person may have
// changed meanwhile. If a file cannot be put back, the copies stay, and the next command tries again.
func (s *Snapshot) Close() (notes []string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, err := s.restore(); err != nil {
		return nil, errors.Join(err, s.loan.Close())
	}
	return s.giveBack()
}

// GiveBack completes what a hunt borrowed whose process was killed. It touches only files of the snapshot: others may be
// new. revision is that of [Options]. The notes say what it did.
func GiveBack(dir, data string, revision func() string) (notes []string, err error) {
	loan, err := owned.Reclaim(dir, data)
	if loan == nil {
		return nil, err
	}
	if dir, err = filepath.EvalSymlinks(dir); err != nil {
		return nil, errors.Join(err, loan.Close())
	}
	s := &Snapshot{dir: dir, revision: revision, loan: loan, files: map[string]entry{}, special: map[string]bool{}}
	for _, f := range loan.Files {
		s.files[f.Path] = entry{Borrowed: f}
	}
	if s.isOfAnotherRevision() {
		s.leaveCommitted(nil)
	}
	restored, err := s.restoreKnown()
	if err != nil {
		return nil, errors.Join(err, loan.Close())
	}
	if notes, err = s.giveBack(); err == nil {
		notes = append(notes, fmt.Sprintf("a hunt was killed: the project's files are as they were before it; its trials had changed or removed %d of them", restored))
	}
	return notes, err
}

// restoreKnown puts the files of the snapshot back that differ, and returns how many did.
func (s *Snapshot) restoreKnown() (restored int, err error) {
	var moved []owned.Moved
	for _, m := range s.loan.Moved {
		if !m.Aside || !s.loan.IsMoved(m) {
			continue
		}
		delete(s.files, m.Path) // it comes back from where it is
		if s.exists(m.Path) {
			_ = s.loan.OpenUp(m.Path) // as below
			moved = append(moved, owned.Moved{Path: m.Path, New: true})
		}
	}
	if _, err := s.restoreModes(); err != nil {
		return 0, err
	}
	var missing []string
	for _, path := range slices.Backward(sortedDown(s.files)) { // a folder before what is in it
		before := s.files[path]
		if !s.restorable(path) || s.loan.Holds(before.Borrowed) {
			continue
		}
		if s.exists(path) { // a folder in the place of a file moves as a whole, as a person may have made what is in it
			_ = s.loan.OpenUp(path) // otherwise moving it fails
			moved = append(moved, owned.Moved{Path: path})
		}
		missing = append(missing, path)
	}
	if err := s.loan.Move(moved); err != nil {
		return 0, err
	}
	for _, path := range missing {
		err = errors.Join(err, s.loan.Restore(s.files[path].Borrowed))
	}
	return len(missing), err
}

// giveBack puts back what was set aside and what a person may have changed, checks that all files are in their places, and
// ends the loan.
func (s *Snapshot) giveBack() (notes []string, err error) {
	trials := s.ofTrials()
	var errs []error
	for _, aside := range []bool{true, false} { // what was set aside has the first claim to its place
		for i, m := range slices.Backward(s.loan.Moved) { // of several the latest
			if m.Aside != aside || !s.loan.IsMoved(m) {
				continue
			}
			if trials[i] {
				errs = append(errs, s.loan.Replace(m, Replaced, s.files[m.Path].Person))
				continue
			}
			note, err := s.giveOneBack(m)
			if errs = append(errs, err); note != "" {
				notes = append(notes, note)
			}
		}
	}
	for folder := range s.removed {
		if s.folders[pattern(folder)] == 1 { // perhaps of a person
			_ = s.loan.MakeFolder(folder) // else a file has its place
		}
	}
	for _, f := range s.loan.Files {
		if f.Sum != "" && !s.isAsItWas(f) {
			errs = append(errs, fmt.Errorf("%s is not as it was before the hunt; its copy is kept, and the next command tries again", s.path(f.Path)))
		}
	}
	if err := errors.Join(errs...); err != nil {
		return notes, errors.Join(err, s.loan.Close())
	}
	return notes, s.loan.End()
}

// isAsItWas reports whether a file has its content of before the hunt. It reads the file unless nobody has written to it.
func (s *Snapshot) isAsItWas(f owned.Borrowed) bool {
	now, err := look(s.path(f.Path), f.Path)
	if err == nil && now.written == s.files[f.Path].written {
		return true
	}
	return s.loan.Holds(f)
}

// surely is after how many trials a file that people write must have changed to be one that trials change, if its content
// differs each time.
const surely = 3

// ofTrials reports, for each file that was moved, whether trials made it or changed it: whether something like it was moved
// again after another trial. A file that people write must have had the same content again, or have changed many times.
func (s *Snapshot) ofTrials() []bool {
	seen := map[string]int{}
	for _, m := range s.loan.Moved {
		for _, key := range s.signs(m) {
			seen[key]++
		}
		seen["path "+m.Path]++
	}
	trials := make([]bool, len(s.loan.Moved))
	for i, m := range s.loan.Moved {
		again := slices.ContainsFunc(s.signs(m), func(key string) bool { return seen[key] > 1 })
		trials[i] = !m.Aside && (again || seen["path "+m.Path] >= surely)
	}
	return trials
}

// signs returns the keys by which a file that was moved counts as the same as another one.
func (s *Snapshot) signs(m owned.Moved) (keys []string) {
	switch before, known := s.files[m.Path]; {
	case m.Aside:
	case m.New || !known:
		keys = append(keys, "new "+pattern(m.Path))
	default:
		if m.Sum != "" {
			keys = append(keys, "content "+m.Sum+" "+m.Path)
		}
		if !before.Person {
			keys = append(keys, "again "+m.Path)
		}
	}
	return keys
}

// numbered matches what differs between the names of files that tests make again and again: words with a digit.
var numbered = lazy.Regexp(`[A-Za-z]*[0-9][A-Za-z0-9]*`)

// pattern returns a path with the same words in place of what differs between the names of files that tests make.
func pattern(name string) string {
	return path.Join(path.Dir(name), numbered().ReplaceAllString(path.Base(name), "#"))
}

// giveOneBack moves a file into its place again or, if another has the place, beside it.
func (s *Snapshot) giveOneBack(m owned.Moved) (note string, err error) {
	if (m.Aside || m.New) && !s.exists(m.Path) && s.blocked(m.Path) == "" {
		if m.New {
			note = m.Path + " is new since the hunt began, and stays"
		}
		return note, s.loan.GiveBack(m, m.Path)
	}
	beside := s.beside(m.Path)
	return fmt.Sprintf("%s changed during the hunt: it is as it was before, and the change is kept in %s", m.Path, beside), s.loan.GiveBack(m, beside)
}

// blocked returns the folder on the way to a file in whose place is a file, "" for none.
func (s *Snapshot) blocked(name string) string {
	for above := path.Dir(name); above != "."; above = path.Dir(above) {
		if info, err := os.Lstat(s.path(above)); err == nil && !info.IsDir() {
			return above
		}
	}
	return ""
}

// beside returns a free path for a file whose place is taken: with Kept behind its name, or behind that of a folder above it
// in whose place is a file.
func (s *Snapshot) beside(name string) string {
	taken := name
	if above := s.blocked(name); above != "" {
		taken = above
	}
	kept := taken + Kept
	for n := 2; s.exists(kept); n++ {
		kept = fmt.Sprint(taken, Kept, "-", n)
	}
	return kept + name[len(taken):]
}
