package worktree

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"

	"fernrelay/internal/owned"
)

// Restore puts everything back that differs, and reports whether anything did. The error names what cannot be put back.
func (s *Snapshot) Restore() (changed bool, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.restore()
}

func (s *Snapshot) restore() (changed bool, err error) {
	if changed, err = s.restoreModes(); err != nil {
		return changed, err
	}
	now, err := s.listAll()
	if err != nil {
		return changed, err
	}
	if s.differsFromCommit(now) && s.isOfAnotherRevision() {
		s.leaveCommitted(now)
	}
	var moved []owned.Moved
	var folders, missing []string
	var errs []error
	for _, path := range sortedDown(now) { // what is in a folder before the folder
		e := now[path]
		before, known := s.files[path]
		switch {
		case known && (s.same(before, e) || before.Mode.IsDir() && e.Mode.IsDir()):
			continue
		case known && before.Mode.IsRegular() && before.Sum == "":
			errs = append(errs, fmt.Errorf("%s was changed and cannot be put back: it is too large or cannot be read", s.path(path)))
			continue
		case e.Mode.IsDir():
			folders = append(folders, path)
		default:
			moved = append(moved, owned.Moved{Path: path, New: !known})
		}
		changed = true
	}
	for _, path := range slices.Backward(sortedDown(s.files)) { // a folder before what is in it
		is, there := now[path]
		if !there || !s.same(s.files[path], is) && s.restorable(path) {
			missing = append(missing, path)
		}
	}
	errs = append(errs, s.loan.Move(moved))
	for _, path := range folders {
		errs = append(errs, s.loan.RemoveFolder(path))
		s.folders[pattern(path)]++
		s.removed[path] = true
	}
	for _, path := range missing {
		errs = append(errs, s.put(path))
	}
	return changed || len(missing) > 0, errors.Join(errs...)
}

// listAll is list, once this user may look into all folders that trials have made.
func (s *Snapshot) listAll() (map[string]entry, error) {
	opened := map[string]bool{}
	for {
		now, err := s.list()
		if err != nil {
			return nil, err
		}
		before := len(opened)
		for path, e := range now {
			if e.Mode.IsDir() && e.Mode.Perm()&0o700 != 0o700 && !s.files[path].Mode.IsDir() && s.loan.OpenUp(path) == nil {
				opened[path] = true
			}
		}
		if len(opened) == before {
			return now, nil
		}
	}
}

// restoreModes gives folders their permissions again, those above first, so that what is in them can be seen.
func (s *Snapshot) restoreModes() (changed bool, err error) {
	for _, path := range slices.Sorted(maps.Keys(s.files)) {
		if f := s.files[path].Borrowed; f.Mode.IsDir() {
			had, wrong := s.loan.RestoreMode(f)
			changed, err = changed || had, errors.Join(err, wrong)
		}
	}
	return changed, err
}

// differsFromCommit reports whether a file differs that the revision has.
func (s *Snapshot) differsFromCommit(now map[string]entry) bool {
	for path, before := range s.files {
		if is, there := now[path]; before.Commit && (!there || !s.same(before, is)) {
			return true
		}
	}
	return false
}

// isOfAnotherRevision reports whether a person has checked out another revision since the snapshot.
func (s *Snapshot) isOfAnotherRevision() bool {
	if s.loan.Revision == "" {
		return false
	}
	now := s.revision()
	return now != "" && now != s.loan.Revision
}

// leaveCommitted leaves the files that the revision had, and those that are new with the present one, as they are from now on.
func (s *Snapshot) leaveCommitted(now map[string]entry) {
	for path, before := range s.files {
		if before.Commit {
			delete(s.files, path)
			s.special[path] = true
			delete(now, path)
		}
	}
	for path := range now {
		if _, known := s.files[path]; !known {
			s.special[path] = true
			delete(now, path)
		}
	}
	s.loan.Files = slices.DeleteFunc(s.loan.Files, func(f owned.Borrowed) bool { return f.Commit })
}

// restorable reports whether the content of a file is known.
func (s *Snapshot) restorable(path string) bool {
	e := s.files[path]
	return !e.Mode.IsRegular() || e.Sum != ""
}

// RestoreFile puts one file back.
func (s *Snapshot) RestoreFile(path string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, known := s.files[path]
	if s.exists(path) {
		if err := s.loan.Move([]owned.Moved{{Path: path, New: !known}}); err != nil {
			return err
		}
	}
	if !known {
		return nil
	}
	return s.put(path)
}

func (s *Snapshot) exists(path string) bool {
	_, err := os.Lstat(s.path(path))
	return err == nil
}

// put puts a file of the snapshot into its place, which is free.
func (s *Snapshot) put(path string) error {
	before := s.files[path]
	if err := s.loan.Restore(before.Borrowed); err != nil {
		return err
	}
	now, err := look(s.path(path), path)
	before.written = now.written
	s.files[path] = before
	return err
}

// sortedDown returns the paths, what is in a folder before the folder.
func sortedDown(files map[string]entry) []string {
	return slices.SortedFunc(maps.Keys(files), func(a, b string) int { return cmp.Compare(b, a) })
}
