package owned

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// Restore puts a file of the loan into its place, which is free, with its content and times.
func (l *Loan) Restore(f Borrowed) error {
	name := filepath.FromSlash(f.Path)
	if !l.named[f.Path] {
		return fmt.Errorf("%s is left alone: the journal does not name it", f.Path)
	}
	if err := l.plain(f.Path); err != nil {
		return err
	}
	switch {
	case f.Mode.IsDir():
		if err := l.project.Mkdir(name, 0o700); err != nil {
			if errors.Is(err, fs.ErrExist) {
				return nil
			}
			return err
		}
		return l.setOwnerAndMode(l.project, name, f)
	case f.Mode&fs.ModeSymlink != 0:
		return l.project.Symlink(f.Link, name)
	case f.Sum == "":
		return fmt.Errorf("%s was changed and cannot be put back: it is too large or cannot be read", f.Path)
	}
	const whole = "whole" // a file is made beside the journal and moved, so that a kill leaves no half of it in the project
	if err := removeBelow(l.place, whole); err != nil {
		return err
	}
	sum, err := copyInto(l.place, whole, l.Content(f), f.Mode.Perm())
	if err == nil && sum != f.Sum {
		err = fmt.Errorf("the copy of %s is damaged: it stays in %s", f.Path, filepath.Join(l.place.Name(), whole))
	}
	if err == nil {
		err = errors.Join(l.setOwnerAndMode(l.place, whole, f), l.place.Chtimes(whole, time.Time{}, f.Changed))
	}
	if err == nil {
		err = move(l.place, whole, l.project, f.Path)
	}
	return err
}

// RestoreMode gives a folder of the project its permissions again, and reports whether it had others.
func (l *Loan) RestoreMode(f Borrowed) (changed bool, err error) {
	name := filepath.FromSlash(f.Path)
	info, err := l.project.Lstat(name)
	if err != nil || !info.IsDir() || info.Mode() == f.Mode || !l.named[f.Path] {
		return false, nil // what is missing is restored as a whole
	}
	return true, l.setOwnerAndMode(l.project, name, f)
}

// OpenUp gives this user all permissions for a folder that is new in the project, so that what is in it can be moved.
func (l *Loan) OpenUp(name string) error {
	info, err := l.project.Lstat(filepath.FromSlash(name))
	if err != nil || !info.IsDir() {
		return gone(err)
	}
	return l.project.Chmod(filepath.FromSlash(name), info.Mode().Perm()|0o700)
}

// setOwnerAndMode sets the owner of a restored file or folder, as far as this user may, and its permissions.
func (l *Loan) setOwnerAndMode(root *os.Root, name string, f Borrowed) error {
	if f.User != os.Geteuid() || f.Group != os.Getegid() {
		_ = root.Lchown(name, f.User, f.Group) // only the administrator may give files away
	}
	return root.Chmod(name, f.Mode&(fs.ModePerm|fs.ModeSetuid|fs.ModeSetgid|fs.ModeSticky))
}

// MakeFolder makes a folder of the project again that RemoveFolder removed, with those above it.
func (l *Loan) MakeFolder(name string) error {
	return l.project.MkdirAll(filepath.FromSlash(name), 0o755)
}

// RemoveFolder removes a folder of the project if it is empty, and does nothing if it is not.
func (l *Loan) RemoveFolder(name string) error {
	err := l.project.Remove(filepath.FromSlash(name))
	if errors.Is(err, syscall.ENOTEMPTY) || errors.Is(err, syscall.EEXIST) || errors.Is(err, syscall.EBUSY) {
		return nil
	}
	return gone(err)
}
