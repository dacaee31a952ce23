// Package wholefile writes files so that nobody ever sees half of one: not a
// reader at the same time, and not the next start after a crash.
package wholefile

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Write writes a file beside its place and puts it there whole. What was there
// stays as it is where anything goes wrong.
func Write(path string, mode fs.FileMode, content func(w io.Writer) error) error {
	file, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(file.Name())
	if err := errors.Join(content(file), file.Chmod(mode), file.Close()); err != nil {
		return err
	}
	return os.Rename(file.Name(), path)
}

// Bytes gives the content of a Write that is there already.
func Bytes(data []byte) func(w io.Writer) error {
	return func(w io.Writer) error {
		_, err := w.Write(data)
		return err
	}
}
