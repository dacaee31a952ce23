// Package wholefile writes files so that nobody ever sees half of one: not a reader at the same time, and not the
// next start after a crash.
//
//	err := wholefile.Write("report.html", func(w io.Writer) error { return page.Execute(w, data) })
package wholefile

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/google/renameio/v2"

	"fernrelay/internal/owned"
)

// Write writes a file beside its place, syncs it, and renames it to path, with the permissions that the
// umask leaves. It replaces a symbolic link and does not follow it, unless the link leads to something other
// than a file, such as /dev/stdout: Write then writes to that. If anything goes wrong, path is unchanged.
func Write(path string, content func(w io.Writer) error) error {
	if isStream(path) {
		file, err := os.OpenFile(path, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		return errors.Join(content(file), file.Close())
	}
	return put(path, content, renameio.WithPermissions(0o666))
}

// Replace is Write with the permissions of mode.
func Replace(path string, mode fs.FileMode, content func(w io.Writer) error) error {
	return put(path, content, renameio.WithStaticPermissions(mode))
}

func put(path string, content func(w io.Writer) error, permissions renameio.Option) error {
	file, err := renameio.NewPendingFile(path, renameio.WithTempDir(filepath.Dir(path)), permissions)
	if err != nil {
		return named(err, path)
	}
	defer file.Cleanup() // does nothing once the file is in its place
	if err := content(file); err != nil {
		return err
	}
	return named(file.CloseAtomicallyReplace(), path)
}

// Clear prepares the place of a file that is written later: it removes an existing file, so that nobody takes it
// for the new one. The error says why nothing can be written there.
func Clear(path string) error {
	if isStream(path) {
		return nil
	}
	file, err := renameio.NewPendingFile(path, renameio.WithTempDir(filepath.Dir(path)))
	if err != nil {
		return named(err, path)
	}
	if err := file.Cleanup(); err != nil {
		return named(err, path)
	}
	return owned.ReplaceOutput(path)
}

// named makes an error name path instead of a temporary file that means nothing to people.
func named(err error, path string) error {
	if wrong := (*fs.PathError)(nil); errors.As(err, &wrong) {
		wrong.Path = path
	}
	return err
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
