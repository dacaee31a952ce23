package owned

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// remover removes what is below one open folder. It holds every folder on its way open, so that a link or another folder
// that takes the place of one meanwhile changes nothing.
type remover struct {
	mount uint64 // of the folder: another mount is never entered
}

// mostFailures bounds the failures that one removal reports, and mostRounds how often it looks for what a process adds
// meanwhile.
const (
	mostFailures = 5
	mostRounds   = 100
)

// removeBelow removes an entry of an open folder, with all that is in it. It is no error if there is none.
func removeBelow(parent *os.Root, name string) error {
	if name == "" || name == "." || !filepath.IsLocal(name) || filepath.Base(name) != name {
		return fmt.Errorf("%q is left alone: it is not the name of a file in %s", name, parent.Name())
	}
	r, err := newRemover(parent)
	if err != nil {
		return err
	}
	return r.entry(parent, name)
}

func newRemover(root *os.Root) (*remover, error) {
	dir, err := root.Open(".")
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	mount, err := mountOf(dir)
	return &remover{mount: mount}, err
}

func (r *remover) entry(parent *os.Root, name string) error {
	info, err := parent.Lstat(name)
	if err != nil {
		return gone(err)
	}
	if !info.IsDir() {
		return gone(parent.Remove(name))
	}
	dir, opened, err := openBelow(parent, name)
	if err != nil {
		return gone(err)
	}
	err = r.folder(dir, opened)
	if err := errors.Join(err, dir.Close()); err != nil {
		return err
	}
	return gone(parent.Remove(name))
}

// folder empties an open folder below the first one.
func (r *remover) folder(dir *os.Root, info fs.FileInfo) error {
	self, err := dir.Open(".")
	if err != nil {
		return err
	}
	mount, err := mountOf(self)
	if err == nil && mount != r.mount {
		err = fmt.Errorf("%s is left alone: something else is mounted there", dir.Name())
	}
	if err == nil && info.Mode().Perm()&0o700 != 0o700 {
		err = self.Chmod(0o700)
	}
	if err := errors.Join(err, self.Close()); err != nil {
		return err
	}
	return r.contents(dir, func(string) bool { return false })
}

// contents removes everything in an open folder but the entries that are kept.
func (r *remover) contents(dir *os.Root, kept func(name string) bool) error {
	var failures []error
	for range mostRounds {
		names, err := entries(dir)
		if err != nil {
			return err
		}
		removed := 0
		for _, name := range names {
			if kept(name) {
				continue
			}
			if err := r.entry(dir, name); err == nil {
				removed++
			} else if len(failures) < mostFailures {
				failures = append(failures, err)
			}
		}
		if removed == 0 || len(failures) > 0 {
			return errors.Join(failures...)
		}
	}
	return fmt.Errorf("a process keeps adding files to %s", dir.Name())
}

// entries lists the names in an open folder.
func entries(dir *os.Root) ([]string, error) {
	self, err := dir.Open(".")
	if err != nil {
		return nil, err
	}
	defer self.Close()
	return self.Readdirnames(-1)
}
