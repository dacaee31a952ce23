package owned

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// The mark of a folder with a project's data, which also keeps it out of git.
const (
	dataMark = ".gitignore"
	dataText = "*\n"
)

// MakeData makes the folder in which a project keeps our data, unless it exists, and marks it. The folder may be a link
// only to one that is marked, because a checkout can bring a link to any place.
func MakeData(path string) error {
	info, err := os.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		if err = os.MkdirAll(path, 0o755); err == nil {
			info, err = os.Lstat(path)
		}
	}
	if err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		return checkLink(path)
	}
	mark, err := os.OpenFile(filepath.Join(path, dataMark), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	_, err = mark.WriteString(dataText)
	return errors.Join(err, mark.Close())
}

// checkLink returns an error unless a link leads to a folder with our mark.
func checkLink(path string) error {
	if text, err := os.ReadFile(filepath.Join(path, dataMark)); err == nil && string(text) == dataText {
		return nil
	}
	to, _ := os.Readlink(path) // "" if it is gone
	return fmt.Errorf("%s is a link to %s, which does not hold data of Fern Relay: remove the link", path, to)
}

// CheckData returns an error if a project's data is in a place that Fern Relay did not make: if the folder, or something
// directly in it, is a link. It is no error if there is no folder.
func CheckData(path string) error {
	info, err := os.Lstat(path)
	if err != nil {
		return gone(err)
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		if err := checkLink(path); err != nil {
			return err
		}
	}
	entries, err := os.ReadDir(path)
	if err != nil {
		return nil // whoever reads it reports it
	}
	for _, entry := range entries {
		if entry.Type()&fs.ModeSymlink != 0 {
			return fmt.Errorf("%s is a link, which Fern Relay did not make: remove it", filepath.Join(path, entry.Name()))
		}
	}
	return nil
}

// Data is the open folder of a project's data, or a folder in it. All that is below it is ours to remove. The caller
// closes it.
type Data struct{ root *os.Root }

// OpenData opens the folder of a project's data. It returns fs.ErrNotExist if there is none.
func OpenData(path string) (*Data, error) {
	if info, err := os.Lstat(path); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		if err := checkLink(path); err != nil {
			return nil, err
		}
		if path, err = filepath.EvalSymlinks(path); err != nil {
			return nil, err
		}
	}
	root, _, err := openPlain(path)
	if err != nil {
		return nil, err
	}
	return &Data{root}, nil
}

// Close closes the folder.
func (d *Data) Close() error { return d.root.Close() }

// split opens the folder of an entry below d, whose name has slashes, and refuses links on the way.
func (d *Data) split(name string) (dir *os.Root, base string, err error) {
	parts := strings.Split(filepath.ToSlash(name), "/")
	if dir, err = d.root.OpenRoot("."); err != nil {
		return nil, "", err
	}
	for _, part := range parts[:len(parts)-1] {
		below, _, err := openBelow(dir, part)
		closed := dir.Close()
		if err := errors.Join(err, closed); err != nil {
			return nil, "", err
		}
		dir = below
	}
	return dir, parts[len(parts)-1], nil
}

// Remove removes an entry, with all that is in it. It is no error if there is none.
func (d *Data) Remove(name string) error {
	dir, base, err := d.split(name)
	if err != nil {
		return gone(err)
	}
	defer dir.Close()
	return removeBelow(dir, base)
}

// Rename moves an entry to another name below d, and replaces a file that has it.
func (d *Data) Rename(from, to string) error {
	for _, name := range []string{from, to} {
		dir, _, err := d.split(name)
		if err != nil {
			return err
		}
		dir.Close()
	}
	return d.root.Rename(filepath.FromSlash(from), filepath.FromSlash(to))
}

// MakeFolder makes a folder below d with those above it, none of which may be a link, and returns its path.
func (d *Data) MakeFolder(name string) (path string, err error) {
	if err := d.root.MkdirAll(filepath.FromSlash(name), 0o755); err != nil {
		return "", err
	}
	dir, base, err := d.split(name)
	if err != nil {
		return "", err
	}
	defer dir.Close()
	below, _, err := openBelow(dir, base)
	if err != nil {
		return "", err
	}
	return filepath.Join(d.root.Name(), filepath.FromSlash(name)), below.Close()
}

// RemoveData removes an entry below the folder of a project's data. It is no error if there is none.
func RemoveData(data, name string) error {
	d, err := OpenData(data)
	if err != nil {
		return gone(err)
	}
	return errors.Join(d.Remove(name), d.Close())
}

// WriteData replaces the content of a file of ours below a project's data, and does not follow a link in its place. It
// keeps the file, so that who compares its time sees a change only if there is one.
func WriteData(path string, content []byte) error {
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC|syscall.O_NOFOLLOW, 0o644)
	if errors.Is(err, syscall.ELOOP) {
		return fmt.Errorf("%s is a link, which Fern Relay did not make: remove it", path)
	}
	if err != nil {
		return err
	}
	_, err = file.Write(content)
	return errors.Join(err, file.Close())
}
