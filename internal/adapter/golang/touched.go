package golang

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"

	"fernrelay/core/catalog"
)

// imports is what the Go files of one folder import from their own module, as
// absolute folders: those of the package, and those of its tests.
type imports struct{ byPackage, byTests []string }

// Touched returns a function that reports whether a change to files, given by their absolute paths, touches a
// test: one of a package whose folder, or the testdata in it, has one, or that imports, over any number of
// packages of the module, one whose files changed. A change to go.mod or go.sum touches all.
func (a *Adapter) Touched(changed []string) (func(*catalog.Test) bool, error) {
	own, spreading := map[string]bool{}, map[string]bool{}
	for _, file := range changed {
		if file == filepath.Join(a.root, "go.mod") || file == filepath.Join(a.root, "go.sum") {
			return func(*catalog.Test) bool { return true }, nil
		}
		dir := filepath.Dir(file)
		if before, _, ok := strings.Cut(file, string(filepath.Separator)+"testdata"+string(filepath.Separator)); ok {
			dir = before
		} else if !strings.HasSuffix(file, "_test.go") {
			spreading[dir] = true
		}
		own[dir] = true
	}
	packages, err := a.imports()
	if err != nil {
		return nil, err
	}
	reached := map[string]bool{} // by folder: whether a change reaches its importers
	var reaches func(dir string) bool
	reaches = func(dir string) bool {
		if hit, known := reached[dir]; known {
			return hit
		}
		reached[dir] = spreading[dir] // also what a circle, which cannot be, would see
		for _, to := range packages[dir].byPackage {
			reached[dir] = reaches(to) || reached[dir]
		}
		return reached[dir]
	}
	touched := map[string]bool{}
	for dir, p := range packages {
		touched[dir] = own[dir] || reaches(dir)
		for _, to := range p.byTests {
			touched[dir] = touched[dir] || reaches(to)
		}
	}
	return func(t *catalog.Test) bool { return touched[filepath.Join(a.Dir, filepath.FromSlash(t.Group))] }, nil
}

// imports reads the import clauses of the whole module.
func (a *Adapter) imports() (map[string]imports, error) {
	packages := map[string]imports{}
	fileSet := token.NewFileSet()
	err := filepath.WalkDir(a.root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() {
			if path != a.root && !a.enters(path, entry.Name()) {
				return fs.SkipDir
			}
			return nil
		}
		if !strings.HasSuffix(entry.Name(), ".go") {
			return nil
		}
		parsed, _ := parser.ParseFile(fileSet, path, nil, parser.ImportsOnly)
		if parsed == nil {
			return nil
		}
		dir := filepath.Dir(path)
		p := packages[dir]
		for _, spec := range parsed.Imports {
			to, inside := a.folderOf(spec.Path.Value)
			switch {
			case !inside || to == dir:
			case isTestFile(entry.Name()):
				p.byTests = append(p.byTests, to)
			default:
				p.byPackage = append(p.byPackage, to)
			}
		}
		packages[dir] = p
		return nil
	})
	return packages, err
}

// folderOf returns the folder of a package of the module, for a quoted import path.
func (a *Adapter) folderOf(quoted string) (dir string, inside bool) {
	name, err := strconv.Unquote(quoted)
	if err != nil {
		return "", false
	}
	if name == a.path {
		return a.root, true
	}
	below, inside := strings.CutPrefix(name, a.path+"/")
	return filepath.Join(a.root, filepath.FromSlash(below)), inside
}
