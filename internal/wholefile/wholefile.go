// Package wholefile writes files so that nobody ever sees half of one: not a
// reader at the same time, and not the next start after a crash.
//
//	err := wholefile.Write("report.html", func(w io.Writer) error { return page.Execute(w, data) })
package wholefile

import (
	"crypto/rand"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Write writes a file beside its place and puts it there whole, with the permissions that the
// umask leaves. A symbolic link is replaced, not followed, unless it leads to something other than a
// file, such as /dev/stdout: that is written to. What was there stays if anything goes wrong.
func Write(path string, content func(w io.Writer) error) error {
	if isStream(path) {
		file, err := os.OpenFile(path, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		return errors.Join(content(file), file.Close())
	}
	return put(path, content, func(*os.File) error { return nil })
}

// Replace is Write with other permissions.
func Replace(path string, mode fs.FileMode, content func(w io.Writer) error) error {
	return put(path, content, func(file *os.File) error { return file.Chmod(mode) })
}

func put(path string, content func(w io.Writer) error, ready func(*os.File) error) error {
	file, err := beside(path)
	if err != nil {
		return err
	}
	defer os.Remove(file.Name())
	if err := errors.Join(content(file), ready(file), file.Close()); err != nil {
		return err
	}
	return os.Rename(file.Name(), path)
}

// Clear makes the place of a file ready that is written later: it removes what is there, so that
// nobody takes it for new. The error says why nothing can be written there.
func Clear(path string) error {
	if isStream(path) {
		return nil
	}
	file, err := beside(path)
	if err != nil {
		return err
	}
	if err := errors.Join(file.Close(), os.Remove(file.Name())); err != nil {
		return err
	}
	if info, err := os.Lstat(path); err == nil && info.IsDir() {
		return &fs.PathError{Op: "write", Path: path, Err: errors.New("is a folder")}
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// beside makes a new file in the folder of another.
func beside(path string) (*os.File, error) {
	name := filepath.Join(filepath.Dir(path), ".new-"+rand.Text())
	file, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	var wrong *fs.PathError
	if errors.As(err, &wrong) {
		wrong.Path = path // which means something to whoever asked for it
	}
	return file, err
}

// isStream reports whether a path leads to something that is neither a file nor a folder.
func isStream(path string) bool {
	info, err := os.Stat(path)
	return err == nil && !info.Mode().IsRegular() && !info.IsDir()
}

// Bytes returns the content of a Write that is there already.
func Bytes(data []byte) func(w io.Writer) error {
	return func(w io.Writer) error {
		_, err := w.Write(data)
		return err
	}
}
