package golang

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"fernrelay/internal/owned"
)

// A stamp says what the binaries of a layer were built from. It saves asking the toolchain whether they are up to date, which
// takes longer than many a test run.
type stamp struct {
	Key     string  `json:"key"`     // of the toolchain, its settings and the arguments
	Sources []place `json:"sources"` // everything that the toolchain read, as it says itself
	State   string  `json:"state"`   // of those
	Headers []place `json:"headers"` // what C sources include from other folders, of which the toolchain keeps no account
	Written string  `json:"written"` // the state of those
}

// place is something that a build reads.
type place struct {
	Kind placeKind `json:"kind"`
	Path string    `json:"path"` // absolute
}

type placeKind string

// The kinds of place. A file may be absent. Of a package, the files count whose names a build may hold; of a folder its names;
// of a tree everything in it.
const (
	placeFile    placeKind = "file"
	placePackage placeKind = "package"
	placeFolder  placeKind = "folder"
	placeTree    placeKind = "tree"
)

// mostInTree bounds the files of a tree that are looked at.
const mostInTree = 20_000

// sourceEndings are the endings of the files that a package may hold.
var sourceEndings = []string{".go", ".c", ".cc", ".cpp", ".cxx", ".m", ".h", ".hh", ".hpp", ".hxx", ".f", ".F", ".for", ".f90", ".s", ".S", ".sx", ".swig", ".swigcxx", ".syso", ".pgo"}

// state is the sum of what some places are.
type state struct {
	sum    io.Writer
	latest time.Time // of all changes
	coarse bool      // the file system's times are too coarse to notice every change
}

// stateOf returns what some places are. It is empty if that cannot be known for sure, as something may have changed since began.
// Zero is no such time.
func stateOf(places []place, began time.Time) string {
	sum := sha256.New()
	s := &state{sum: sum}
	for _, p := range places {
		fmt.Fprintf(sum, "%s %s\n", p.Kind, p.Path)
		if err := s.add(p); err != nil {
			return ""
		}
	}
	if !began.IsZero() && (!s.latest.Before(began) || s.coarse && !s.latest.Before(began.Add(-coarsest))) {
		return ""
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// coarsest is the greatest distance of two times that some file system does not distinguish.
const coarsest = 3 * time.Second

func (s *state) add(p place) error {
	switch p.Kind {
	case placePackage, placeFolder:
		entries, err := os.ReadDir(p.Path)
		if err != nil {
			return err
		}
		for _, entry := range entries {
			isSource := slices.Contains(sourceEndings, filepath.Ext(entry.Name()))
			switch {
			case p.Kind == placeFolder:
				fmt.Fprintf(s.sum, "%s %s\n", entry.Name(), entry.Type())
			case isSource:
				s.file(filepath.Join(p.Path, entry.Name()))
			}
		}
		return nil
	case placeTree:
		n := 0
		return filepath.WalkDir(p.Path, func(path string, entry fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			if n++; n > mostInTree {
				return fmt.Errorf("%s has more than %d files", p.Path, mostInTree)
			}
			s.file(path)
			return nil
		})
	}
	s.file(p.Path)
	return nil
}

// smallFile is the size, in bytes, up to which a file is read if its times are coarse.
const smallFile = 64 << 10

// file adds a file, or what a link leads to, by its identity, its size and its times. That a file changed its content shows in the
// time of its change even if a program sets the other back.
func (s *state) file(path string) {
	var at unix.Stat_t
	if err := unix.Stat(path, &at); err != nil {
		fmt.Fprintf(s.sum, "%s absent\n", path)
		return
	}
	modified, changed := time.Unix(at.Mtim.Unix()), time.Unix(at.Ctim.Unix())
	fmt.Fprintf(s.sum, "%s %d %d %d %d %d\n", path, at.Ino, at.Mode, at.Size, modified.UnixNano(), changed.UnixNano())
	if at.Mode&unix.S_IFMT != unix.S_IFREG {
		return
	}
	if changed.After(s.latest) {
		s.latest = changed
	}
	if changed.Nanosecond() != 0 {
		return
	}
	if at.Size > smallFile {
		s.coarse = true
		return
	}
	content, _ := os.ReadFile(path) // one that cannot be read is not built
	fmt.Fprintf(s.sum, "%x\n", sha256.Sum256(content))
}

// key identifies a build beside its sources: the toolchain and its settings, and the arguments.
func (a *Adapter) key(tags string, groups []string) (string, error) {
	sum := sha256.New()
	if err := describeToolchain(sum, a.toolchainEnv()); err != nil {
		return "", err
	}
	replaced, err := json.Marshal(a.replaced) // sorted
	if err != nil {
		return "", err
	}
	fmt.Fprintf(sum, "%q %q %q %q %q %t %q %q %s\n", orderSource, hookSource, hooks, a.BuildFlags, a.withoutDebug(), a.NoVet, tags, groups, replaced)
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// stampFile is where the stamp of a folder of binaries is.
func stampFile(dir string) string { return filepath.Join(dir, "stamp") }

// readStamp returns the stamp of a folder of binaries, which is of no build if there is none.
func readStamp(dir string) *stamp {
	s := &stamp{}
	text, err := os.ReadFile(stampFile(dir))
	if err != nil || json.Unmarshal(text, s) != nil {
		return &stamp{}
	}
	return s
}

// holds reports whether everything is as it was when the binaries were built.
func (s *stamp) holds(key string) bool {
	return s.Key != "" && s.Key == key && s.State != "" && s.State == stateOf(s.Sources, time.Time{}) && s.Written == stateOf(s.Headers, time.Time{})
}

// write writes the stamp, if it knows everything.
func (s *stamp) write(dir string) error {
	if s.State == "" || s.Written == "" {
		return nil
	}
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return owned.WriteData(stampFile(dir), text)
}

// configured returns the files that decide what a build of the module reads, beside its packages.
func (a *Adapter) configured() []place {
	var places []place
	file := func(path string) { places = append(places, place{placeFile, path}) }
	for _, flag := range []string{"modfile", "overlay", "pgo", "toolexec"} {
		if value := a.flagValue(flag); value != "" && value != "auto" && value != "off" {
			file(a.absolute(value))
		}
	}
	if modfile := a.flagValue("modfile"); modfile != "" {
		file(strings.TrimSuffix(a.absolute(modfile), ".mod") + ".sum")
	}
	for _, by := range a.overlay {
		if by != "" {
			file(by)
		}
	}
	file(filepath.Join(a.root, "vendor", "modules.txt"))
	for _, work := range a.workFiles() {
		file(work)
		file(work + ".sum")
	}
	return places
}

// workFiles returns the paths where the toolchain looks for a workspace.
func (a *Adapter) workFiles() (files []string) {
	switch work := a.setting("GOWORK"); {
	case work == "off":
		return nil
	case work != "":
		return []string{a.absolute(work)}
	}
	for dir := a.root; ; dir = filepath.Dir(dir) {
		files = append(files, filepath.Join(dir, "go.work"))
		if dir == filepath.Dir(dir) {
			return files
		}
	}
}
