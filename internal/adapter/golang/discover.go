package golang

import (
	"bytes"
	"context"
	"errors"
	"fernrelay/internal/adapter/golang/source"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"

	"fernrelay/core/catalog"
	"fernrelay/internal/adapter"
)

// gopkg is one folder with Go files.
type gopkg struct {
	group  string
	dir    string // absolute
	files  []*testFile
	broken bool // a test file may hold tests that cannot be read
}

// testFile is one _test.go file.
type testFile struct {
	source.File
	name     string
	tags     []string // build tags that it needs; none for the default build
	here     bool     // it can be built on this machine
	anywhere bool     // some build has it
	unmet    *catalog.Unmet
}

// target is what a test is in its binary.
type target struct {
	function string
	tags     string // build tags, joined by commas
	second   bool   // another of this name precedes it in the same build
	file     string // the name of its file
}

// Discover reads the tests of every package below the suite's folder.
func (a *Adapter) Discover(ctx context.Context) (adapter.Found, error) {
	dirs, goFiles, tooDeep, err := a.folders()
	if err != nil {
		return adapter.Found{}, err
	}
	a.cache = a.openCache()
	packages := make([]*gopkg, len(dirs))
	failures := make([]error, len(dirs))
	sideBySide(len(dirs), func(i int) {
		if failures[i] = ctx.Err(); failures[i] == nil {
			packages[i], failures[i] = a.readPackage(dirs[i])
		}
	})
	if err := errors.Join(failures...); err != nil {
		return adapter.Found{}, err
	}
	a.cache.close()
	files, tests := 0, 0
	for _, p := range packages {
		for _, f := range p.files {
			tests += len(f.Tests)
		}
	}
	a.packages, a.targets = make(map[string]*gopkg, len(packages)), make(map[string]target, tests)
	found := adapter.Found{Tests: make([]catalog.Test, 0, tests)}
	for _, p := range packages {
		a.packages[p.group] = p
		before := len(found.Tests)
		found.Tests = a.declared(p, found.Tests)
		if p.broken || !slices.ContainsFunc(found.Tests[before:], func(t catalog.Test) bool { return a.targets[t.ID].tags == "" && t.SkipReason == "" }) && a.holdsGo(p.dir) {
			found.Bare = append(found.Bare, p.group)
		}
		for _, f := range p.files {
			files++
			found.Notes = append(found.Notes, f.Problems...)
		}
	}
	if tooDeep != "" {
		found.Notes = append(found.Notes, fmt.Sprintf("%s is nested too deep: what is below it is not read", shortPath(tooDeep)))
	}
	if len(found.Tests) == 0 {
		found.Nothing = a.nothing(goFiles, files)
	}
	return found, nil
}

// sideBySide calls do for each number below n, as many at the same time as there are processors.
func sideBySide(n int, do func(i int)) {
	workers := runtime.GOMAXPROCS(0)
	var all sync.WaitGroup
	for first := range workers {
		all.Go(func() {
			for i := first; i < n; i += workers {
				do(i)
			}
		})
	}
	all.Wait()
}

// Shares returns for each test of a group the set of those, by index, that may read what it may change; nil if the sources
// cannot be read.
func (a *Adapter) Shares(group []catalog.Test) []catalog.Set {
	p, known := a.packages[group[0].Group]
	if !known {
		return nil
	}
	functions := make([]string, len(group))
	for i := range group {
		functions[i] = a.targets[group[i].ID].function
	}
	return a.sharing.Of(p.dir, functions)
}

// nothing says what was searched if no test was found, and the likeliest reason.
func (a *Adapter) nothing(goFiles, testFiles int) string {
	looked := fmt.Sprintf("looked below %s for functions TestX, FuzzX and ExampleX with output, in files named *_test.go", a.Dir)
	switch {
	case goFiles == 0 && a.nested > 0:
		return looked + "; there is no Go file but in modules of their own below: open one of those, or give it a [[suite]] with its dir"
	case goFiles == 0:
		return looked + "; there is no Go file at all: look whether the folder is the right one"
	case testFiles == 0:
		return fmt.Sprintf("%s; read the names of %d Go files, and none ends in _test.go", looked, goFiles)
	}
	return fmt.Sprintf("%s; read %d of %d Go files, and none of them has such a function that a build could hold: their tests may have other names, or a build constraint that nothing meets", looked, testFiles, goFiles)
}

// declared appends a package's tests in the order in which the toolchain runs
// them: tests, fuzz seeds, examples, in each the files of the package before
// those of its external tests; then what only other builds hold, and last what
// this machine cannot build. Tests of one name keep their names apart.
func (a *Adapter) declared(p *gopkg, tests []catalog.Test) []catalog.Test {
	files := slices.Clone(p.files)
	slices.SortStableFunc(files, func(x, y *testFile) int { return rank(x) - rank(y) })
	for _, part := range []func(f *testFile) bool{
		func(f *testFile) bool { return f.here && len(f.tags) == 0 },
		func(f *testFile) bool { return f.here && len(f.tags) > 0 },
		func(f *testFile) bool { return !f.here },
	} {
		for _, kind := range []catalog.Kind{catalog.KindTest, catalog.KindFuzz, catalog.KindExample} {
			for _, f := range files {
				if !part(f) {
					continue
				}
				for _, t := range f.Tests {
					if t.Kind == kind {
						tests = append(tests, a.named(f, t))
					}
				}
			}
		}
	}
	return tests
}

// named gives a test an ID that no other has, and records what it is in its binary.
func (a *Adapter) named(f *testFile, t catalog.Test) catalog.Test {
	to := target{function: t.Name, tags: strings.Join(f.tags, ","), file: f.name}
	plain, taken := a.targets[t.ID]
	to.second = taken && plain.tags == to.tags && f.here
	f.constrain(&t)
	for n := 1; taken; n++ {
		t.Name = to.function + "~" + f.apart()
		if n > 1 {
			t.Name += fmt.Sprint("~", n)
		}
		t.ID = catalog.ID(t.Suite, t.Group, t.Name)
		_, taken = a.targets[t.ID]
	}
	a.targets[t.ID] = to
	return t
}

// apart returns what distinguishes the file's tests from others of the same name: that they are external, or their
// build constraint.
func (f *testFile) apart() string {
	if f.External() || len(f.Labels) == 0 {
		return f.Package
	}
	return strings.Join(f.Labels, "+")
}

func rank(f *testFile) int {
	if f.External() {
		return 1
	}
	return 0
}

// folders lists the folders of the suite that hold Go files, as the toolchain's ./... sees them: without vendor, testdata,
// hidden folders and nested modules. It counts the Go files and the nested modules on its way. tooDeep is a folder whose path is longer
// than the system takes; empty if there is none.
func (a *Adapter) folders() (dirs []string, goFiles int, tooDeep string, err error) {
	a.nested, a.hidden = 0, nil
	err = filepath.WalkDir(a.Dir, func(path string, entry fs.DirEntry, err error) error {
		if errors.Is(err, syscall.ENAMETOOLONG) {
			tooDeep = path
			return fs.SkipDir
		}
		if err != nil {
			return fmt.Errorf("cannot read %s: %w", shortPath(path), errors.Unwrap(err))
		}
		if entry.IsDir() {
			if path != a.Dir && !a.enters(path, entry.Name()) {
				return fs.SkipDir
			}
			return nil
		}
		if !isGoFile(entry.Name()) {
			return nil
		}
		if !isFile(filepath.Dir(path), entry) {
			a.hidden = append(a.hidden, path)
			return nil
		}
		goFiles++
		if dir := filepath.Dir(path); len(dirs) == 0 || dirs[len(dirs)-1] != dir {
			dirs = append(dirs, dir)
		}
		return nil
	})
	for file, by := range a.overlay {
		if below, outside := filepath.Rel(a.Dir, file); by != "" && outside == nil && filepath.IsLocal(below) && isGoFile(filepath.Base(file)) && a.entersAll(filepath.Dir(below)) {
			dirs = append(dirs, filepath.Dir(file))
		}
	}
	slices.Sort(dirs)
	return slices.Compact(dirs), goFiles, tooDeep, err
}

// shownPath bounds a path in a message, in characters.
const shownPath = 200

// shortPath returns a path for a message.
func shortPath(path string) string {
	if len(path) <= shownPath {
		return path
	}
	return strings.ToValidUTF8(path[:shownPath], "") + "…"
}

// isGoFile reports whether a build may hold a file, by its name.
func isGoFile(name string) bool {
	return strings.HasSuffix(name, ".go") && name[0] != '_' && name[0] != '.'
}

// holdsGo reports whether a build without further tags holds a file of a folder, or cannot know.
func (a *Adapter) holdsGo(dir string) bool {
	names, err := a.names(dir)
	if err != nil {
		return true // the build reports it
	}
	context := a.buildContext(nil)
	context.OpenFile = func(path string) (io.ReadCloser, error) {
		text, err := a.read(path)
		return io.NopCloser(bytes.NewReader(text)), err
	}
	return slices.ContainsFunc(names, func(name string) bool {
		if !isGoFile(name) {
			return false
		}
		match, err := context.MatchFile(dir, name)
		return match || err != nil
	})
}

func isTestFile(name string) bool {
	return strings.HasSuffix(name, "_test.go") && name[0] != '_' && name[0] != '.'
}

func (a *Adapter) enters(path, name string) bool {
	if name == "vendor" || name == "testdata" || name[0] == '.' || name[0] == '_' {
		return false
	}
	_, err := os.Stat(filepath.Join(path, "go.mod"))
	if err == nil {
		a.nested++
	}
	return err != nil
}

// entersAll reports whether the toolchain's ./... reaches a folder below the suite's, which may not exist.
func (a *Adapter) entersAll(below string) bool {
	for ; below != "."; below = filepath.Dir(below) {
		if !a.enters(filepath.Join(a.Dir, below), filepath.Base(below)) {
			return false
		}
	}
	return true
}

func (a *Adapter) readPackage(dir string) (*gopkg, error) {
	below, err := filepath.Rel(a.Dir, dir)
	if err != nil {
		return nil, err
	}
	p := &gopkg{group: filepath.ToSlash(below), dir: dir}
	names, err := a.names(dir)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		if !isTestFile(name) {
			continue
		}
		f, err := a.readFile(p, name)
		if err != nil {
			return nil, err
		}
		switch {
		case f.Broken:
			p.broken = true
			if f.Package != "" {
				p.files = append(p.files, f)
			}
		case f.anywhere:
			p.files = append(p.files, f)
		}
	}
	return p, nil
}

// isFile reports whether an entry of a folder is a regular file, or a link to one.
func isFile(dir string, entry fs.DirEntry) bool {
	if entry.Type()&fs.ModeSymlink == 0 {
		return entry.Type().IsRegular()
	}
	info, err := os.Stat(filepath.Join(dir, entry.Name()))
	return err == nil && info.Mode().IsRegular()
}

// readFile reads one test file.
func (a *Adapter) readFile(p *gopkg, name string) (*testFile, error) {
	path := filepath.Join(p.dir, name)
	src, err := a.read(path)
	if err != nil {
		return nil, err
	}
	shown, err := filepath.Rel(a.Root, path)
	if err != nil {
		return nil, err
	}
	shown = filepath.ToSlash(shown)
	f := &testFile{name: name, here: true, anywhere: true}
	f.File = a.cache.source(a.Suite, p.group, shown, src, func() source.File { return source.Read(a.Suite, p.group, shown, src) })
	if f.Constraint != "" {
		f.place(a, p.dir, src)
		f.Broken = f.Broken && f.here && len(f.tags) == 0
	}
	return f, nil
}
