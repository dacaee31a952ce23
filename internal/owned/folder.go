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

// Prefix begins the names of our folders among those of others, as in the folder for temporary files.
const Prefix = "fern-relay-"

// markPrefix begins the name of the file that marks a folder as ours; the folder's number follows. The file holds the
// number and the path at which the folder was made, a line each.
const markPrefix = ".fern-relay-mark-"

// A Folder is a folder that this process, or one before it, made and marked. It stays open, so that it is still found
// when another takes its place.
type Folder struct {
	path   string
	number string
	root   *os.Root
	mark   *os.File // is locked as long as the folder is in use
}

// MakeFolder makes a marked folder below another one, for what no record needs to name: it is below a folder that one
// does, or it matters little if it stays after a kill.
func MakeFolder(parent string) (*Folder, error) {
	return makeFolder(parent, newNumber(), func(string) error { return nil })
}

// makeFolder makes a folder. It calls made with the folder's identity while the folder is empty, so that a kill at any
// moment leaves either an empty folder or one whose identity is known.
func makeFolder(parent, number string, made func(identity string) error) (*Folder, error) {
	path, err := filepath.Abs(filepath.Join(parent, Prefix+number[:12]))
	if err != nil {
		return nil, err
	}
	if err := os.Mkdir(path, 0o700); err != nil {
		return nil, err
	}
	root, info, err := openPlain(path)
	if err != nil {
		return nil, err
	}
	f := &Folder{path: path, number: number, root: root}
	if err = made(identity(info)); err == nil {
		f.mark, err = root.OpenFile(markPrefix+number, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	}
	if err == nil {
		_ = syscall.Flock(int(f.mark.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) // nobody else has the file yet
		_, err = f.mark.WriteString(f.text())
	}
	if err != nil {
		return nil, errors.Join(err, f.Remove())
	}
	return f, nil
}

// text is what the mark holds.
func (f *Folder) text() string { return f.number + "\n" + f.path + "\n" }

// errNotOurs is the reason to leave a folder alone.
var errNotOurs = errors.New("it does not carry the mark of the process that the record is of")

// errInUse says that another process uses a folder.
var errInUse = errors.New("another process uses it")

// openFolder opens a folder that an earlier process made, by what a record says of it. It returns fs.ErrNotExist if
// there is none, and errNotOurs unless everything proves that it is this folder.
func openFolder(path, number, made string) (*Folder, error) {
	if err := wellFormed(path, number); err != nil {
		return nil, err
	}
	root, info, err := openPlain(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fs.ErrNotExist
	}
	if err != nil {
		return nil, err
	}
	f := &Folder{path: path, number: number, root: root}
	if err := f.verify(info, made); err != nil {
		return nil, errors.Join(err, f.close())
	}
	return f, nil
}

// wellFormed reports what is odd about the path and number of a folder.
func wellFormed(path, number string) error {
	switch {
	case !isNumber(number):
		return errors.New("the number of a folder is none of ours")
	case !filepath.IsAbs(path) || filepath.Clean(path) != path || !strings.HasPrefix(filepath.Base(path), Prefix):
		return fmt.Errorf("%q is not the path of a folder of ours", path)
	}
	return nil
}

// verify proves that the open folder is the one that was made, and locks it.
func (f *Folder) verify(info fs.FileInfo, made string) error {
	if made == "" || identity(info) != made || !belongsToUs(info) {
		return errNotOurs
	}
	if err := f.harmless(info); err != nil {
		return err
	}
	name := markPrefix + f.number
	there, err := f.root.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) && f.isEmpty() {
		return nil // its process was killed before it had marked it, or while it removed it
	}
	if err != nil || !there.Mode().IsRegular() || !belongsToUs(there) {
		return errNotOurs
	}
	if f.mark, err = f.root.OpenFile(name, os.O_RDWR|syscall.O_NONBLOCK, 0); err != nil {
		return err
	}
	text := make([]byte, len(f.text())+1)
	n, _ := f.mark.ReadAt(text, 0) // shorter than the buffer if it is ours
	if string(text[:n]) != f.text() && !(n == 0 && f.isEmpty()) {
		return errNotOurs
	}
	if syscall.Flock(int(f.mark.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		return errInUse
	}
	return nil
}

// harmless reports why a folder must never be removed, whatever it carries: it is a home, the current folder or one
// above it, a project, or something is mounted there.
func (f *Folder) harmless(info fs.FileInfo) error {
	for _, place := range keptPlaces() {
		if other, err := os.Stat(place); place != "" && err == nil && os.SameFile(info, other) {
			return fmt.Errorf("it is %s", place)
		}
	}
	for _, name := range []string{".git", ".fern", "fern.toml", "go.mod"} {
		if _, err := f.root.Lstat(name); err == nil {
			return errors.New("it is a project")
		}
	}
	self, err := f.root.Open(".")
	if err != nil {
		return err
	}
	defer self.Close()
	if isMountPoint(self) {
		return errors.New("something is mounted there")
	}
	return nil
}

// keptPlaces are the folders that are never removed: the root, the home, the working folder and those above it.
func keptPlaces() []string {
	home, _ := os.UserHomeDir() // "" if it is not known
	current, err := os.Getwd()  // as may be gone
	places := []string{"/", home}
	for dir := current; err == nil; dir = filepath.Dir(dir) {
		places = append(places, dir)
		if dir == filepath.Dir(dir) {
			break
		}
	}
	return places
}

// isEmpty reports whether nothing but the mark is in the folder.
func (f *Folder) isEmpty() bool {
	names, err := entries(f.root)
	return err == nil && (len(names) == 0 || len(names) == 1 && names[0] == markPrefix+f.number)
}

// Path returns the absolute path at which the folder was made.
func (f *Folder) Path() string { return f.path }

// check returns an error if the folder is no longer at its path, because it was moved, or another or a link took its place.
func (f *Folder) check() error {
	own, err := f.root.Stat(".")
	if err != nil {
		return err
	}
	there, err := os.Lstat(f.path)
	if err != nil || !os.SameFile(own, there) {
		return fmt.Errorf("the folder %s with temporary files was replaced, perhaps by a test: what is there now is left alone", f.path)
	}
	return nil
}

// Mkdir makes a folder below the folder, unless it exists, and returns its path.
func (f *Folder) Mkdir(name string) (path string, err error) {
	if err := f.check(); err != nil {
		return "", err
	}
	if err := f.root.Mkdir(name, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", err
	}
	if info, err := f.root.Lstat(name); err != nil || !info.IsDir() {
		return "", fmt.Errorf("%s is not a folder: perhaps a test replaced it", filepath.Join(f.path, name))
	}
	return filepath.Join(f.path, name), nil
}

// Empty removes what is in a folder below the folder, and leaves it empty.
func (f *Folder) Empty(name string) error {
	if err := removeBelow(f.root, name); err != nil {
		return unremoved(filepath.Join(f.path, name), err)
	}
	_, err := f.Mkdir(name)
	return err
}

// RemoveBelow removes an entry below the folder, by a path with slashes. It is no error if there is none.
func (f *Folder) RemoveBelow(name string) error {
	data := &Data{f.root}
	return data.Remove(name)
}

// Remove removes the folder with all that is in it, also if its permissions were taken away. The error names what is
// left alone, and why. The mark goes last, so that a removal that is cut short can be completed.
func (f *Folder) Remove() error {
	r, err := newRemover(f.root)
	if errors.Is(err, fs.ErrPermission) {
		_ = f.root.Chmod(".", 0o700) // then it is the second try that fails
		r, err = newRemover(f.root)
	}
	if err == nil {
		_ = f.root.Chmod(".", 0o700) // as above
		err = r.contents(f.root, func(name string) bool { return name == markPrefix+f.number })
	}
	if err == nil && f.mark != nil {
		err = gone(f.root.Remove(markPrefix + f.number))
	}
	if err == nil {
		err = f.removeEmpty()
	}
	if err := errors.Join(err, f.close()); err != nil {
		return unremoved(f.path, err)
	}
	return nil
}

// removeEmpty removes the emptied folder from its place, unless another took it.
func (f *Folder) removeEmpty() error {
	if _, err := os.Lstat(f.path); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err := f.check(); err != nil {
		return err
	}
	return gone(syscall.Rmdir(f.path))
}

func (f *Folder) close() error {
	err := f.root.Close()
	if f.mark != nil {
		err = errors.Join(err, f.mark.Close())
	}
	return err
}

func unremoved(path string, err error) error {
	return fmt.Errorf("%s cannot be removed: %w: remove it by hand", path, err)
}
