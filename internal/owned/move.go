package owned

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

func movedName(n int) string { return filepath.Join(loanMoved, fmt.Sprint(n)) }

// copyInto writes a new file below an open folder, and returns the SHA-256 of its content.
func copyInto(root *os.Root, name string, from io.Reader, mode fs.FileMode) (string, error) {
	to, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode|0o200)
	if err != nil {
		return "", err
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(to, sum), from)
	return text(sum), errors.Join(err, to.Close())
}

// sumOf returns the SHA-256 of a file below an open folder, "" if it cannot be read.
func sumOf(root *os.Root, name string) string {
	file, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return ""
	}
	defer file.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return ""
	}
	return text(sum)
}

func text(sum hash.Hash) string { return hex.EncodeToString(sum.Sum(nil)) }

// move moves a file from below one open folder to a free name below another, by paths with slashes; between disks it
// copies a file, checks the copy and then removes the file.
func move(from *os.Root, name string, to *os.Root, target string) error {
	name, target = filepath.FromSlash(name), filepath.FromSlash(target)
	if _, err := to.Lstat(target); !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s is not moved: %s exists", name, filepath.Join(to.Name(), target))
	}
	source, err := from.Open(filepath.Dir(name))
	if err != nil {
		return err
	}
	defer source.Close()
	place, err := to.Open(filepath.Dir(target))
	if err != nil {
		return err
	}
	defer place.Close()
	err = unix.Renameat(int(source.Fd()), filepath.Base(name), int(place.Fd()), filepath.Base(target))
	if errors.Is(err, syscall.EXDEV) {
		return moveAcross(from, name, to, target)
	}
	if err != nil {
		return &fs.PathError{Op: "move", Path: filepath.Join(from.Name(), name), Err: err}
	}
	return nil
}

func moveAcross(from *os.Root, name string, to *os.Root, target string) error {
	info, err := from.Lstat(name)
	if err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		link, err := from.Readlink(name)
		if err == nil {
			err = to.Symlink(link, target)
		}
		if err == nil {
			err = from.Remove(name)
		}
		return err
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%s is not moved to another disk: it is neither a file nor a link", filepath.Join(from.Name(), name))
	}
	file, err := from.Open(name)
	if err != nil {
		return err
	}
	defer file.Close()
	sum, err := copyInto(to, target, file, info.Mode().Perm())
	if err == nil {
		err = errors.Join(to.Chmod(target, info.Mode().Perm()), to.Chtimes(target, time.Time{}, info.ModTime()))
	}
	if err == nil && sumOf(to, target) != sum {
		err = fmt.Errorf("%s was not copied well", filepath.Join(from.Name(), name))
	}
	if err != nil {
		return err
	}
	return from.Remove(name)
}
