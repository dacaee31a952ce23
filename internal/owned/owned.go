// Package owned is the gate for everything that destroys: no other package removes, moves away or kills what an earlier
// step or an earlier process has left. It touches only what Fern Relay made, and proves that first.
//
// A [Folder] carries our mark: a file with a random number in its name that also holds the folder's own path. A [Record]
// names the folders, the control groups and the secret of one process, so that the next command can clean up after it
// was killed:
//
//	record := owned.Begin(records)
//	folder, err := record.MakeFolder(os.TempDir())
//	// … tests run, and leave files and processes …
//	err = errors.Join(folder.Remove(), record.Close())
//
// The next command finds the records of processes that are gone. They are untrusted input, as a checkout or an archive
// may bring them:
//
//	left, notes := owned.Find(records)
//	for _, l := range left {
//		l.Kill()
//		notes = append(notes, l.Remove()...)
//	}
//
// A [Data] is the folder in which a project keeps our data. A [Loan] is what a hunt borrows from the project's own
// files: it moves and restores only what its synced journal names.
//
// Nothing here follows a link below an open folder, reaches above it, or enters another mount.
package owned

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// newNumber returns 128 random bits as hexadecimal digits.
func newNumber() string {
	var bits [16]byte
	_, _ = rand.Read(bits[:]) // never fails
	return hex.EncodeToString(bits[:])
}

// isNumber reports whether a text may come from newNumber.
func isNumber(text string) bool {
	bits, err := hex.DecodeString(text)
	return err == nil && len(bits) == 16 && hex.EncodeToString(bits) == text
}

// identity identifies a file or folder on this machine as long as it exists. No checkout or archive can bring it along.
func identity(info fs.FileInfo) string {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return ""
	}
	return fmt.Sprintf("%d:%d", stat.Dev, stat.Ino)
}

// Written identifies a file and its latest change: it differs after each write, even if the time of the file is put back.
func Written(info fs.FileInfo) string { return identity(info) + changeTime(info) }

// belongsToUs reports whether a file belongs to the user of this process.
func belongsToUs(info fs.FileInfo) bool {
	stat, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(stat.Uid) == os.Geteuid()
}

// OwnerOf returns the user and the group that a file belongs to.
func OwnerOf(info fs.FileInfo) (user, group int) {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return os.Geteuid(), os.Getegid()
	}
	return int(stat.Uid), int(stat.Gid)
}

// gone returns the error of removing something, nil if it does not exist.
func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// RemoveFile removes a file that this process made and still has open. It leaves another file that took its place.
func RemoveFile(file *os.File) error {
	made, err := file.Stat()
	if err != nil {
		return err
	}
	return RemoveMade(file.Name(), made)
}

// RemoveMade removes a file that this process made, by what its Stat returned then. It leaves another file that took its
// place.
func RemoveMade(path string, made fs.FileInfo) error {
	now, err := os.Lstat(path)
	if err != nil {
		return gone(err)
	}
	if !os.SameFile(made, now) {
		return fmt.Errorf("%s is left alone: another file took its place", path)
	}
	return gone(os.Remove(path))
}

// MoveBack moves a file that a trial moved aside into its place again, unless the trial has made another one there.
func MoveBack(aside, place string) error {
	if _, err := os.Lstat(place); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return gone(os.Rename(aside, place))
}

// ReplaceOutput makes room for a file that the user asked for by its path: it removes the file that is there, so that
// nobody takes it for the new one. It refuses a folder.
func ReplaceOutput(path string) error {
	info, err := os.Lstat(path)
	if err != nil {
		return gone(err)
	}
	if info.IsDir() {
		return &fs.PathError{Op: "write", Path: path, Err: errors.New("is a folder")}
	}
	return gone(os.Remove(path))
}

// openPlain opens a folder and refuses a link in its place. The folders above it may be links.
func openPlain(path string) (*os.Root, fs.FileInfo, error) {
	there, err := os.Lstat(path)
	return openSame(path, there, err, func() (*os.Root, error) { return os.OpenRoot(path) })
}

// openBelow opens a folder below an open one, and refuses a link in its place.
func openBelow(parent *os.Root, name string) (*os.Root, fs.FileInfo, error) {
	there, err := parent.Lstat(name)
	return openSame(filepath.Join(parent.Name(), name), there, err, func() (*os.Root, error) {
		root, err := parent.OpenRoot(name)
		if errors.Is(err, fs.ErrPermission) && parent.Chmod(name, 0o700) == nil {
			root, err = parent.OpenRoot(name)
		}
		return root, err
	})
}

// openSame opens a folder of which Lstat returned there and err, and checks that it is what was opened.
func openSame(path string, there fs.FileInfo, err error, open func() (*os.Root, error)) (*os.Root, fs.FileInfo, error) {
	if err != nil {
		return nil, nil, err
	}
	if !there.IsDir() {
		return nil, nil, &fs.PathError{Op: "open", Path: path, Err: errors.New("is not a folder")}
	}
	root, err := open()
	if err != nil {
		return nil, nil, err
	}
	opened, err := root.Stat(".")
	if err == nil && !os.SameFile(there, opened) {
		err = &fs.PathError{Op: "open", Path: path, Err: errors.New("was replaced meanwhile")}
	}
	if err != nil {
		return nil, nil, errors.Join(err, root.Close())
	}
	return root, opened, nil
}
