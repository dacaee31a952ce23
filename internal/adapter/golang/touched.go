package golang

import (
	"fmt"
	"go/ast"
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

// Touched returns a function that says how a change to files, given by their absolute paths, touches a test: one of a
// package whose folder, or the testdata in it, has one, or that imports, over any number of packages of the module, one
// whose files changed. A change to go.mod or go.sum touches all.
func (a *Adapter) Touched(changed []string) (func(*catalog.Test) string, error) {
	c := &changes{adapter: a, own: map[string]string{}, spreading: map[string]string{}, by: map[string][]string{}}
	for _, file := range changed {
		if file == filepath.Join(a.root, "go.mod") || file == filepath.Join(a.root, "go.sum") {
			return func(*catalog.Test) string { return filepath.Base(file) + " changed" }, nil
		}
		dir := filepath.Dir(file)
		if before, _, ok := strings.Cut(file, string(filepath.Separator)+"testdata"+string(filepath.Separator)); ok {
			dir = before
		} else if !strings.HasSuffix(file, "_test.go") {
			c.spreading[dir] = file
		}
		c.own[dir] = file
	}
	var err error
	if c.packages, err = a.imports(); err != nil {
		return nil, err
	}
	why := map[string]string{} // by folder
	for dir := range c.packages {
		why[dir] = c.why(dir)
	}
	return func(t *catalog.Test) string { return why[filepath.Join(a.Dir, filepath.FromSlash(t.Group))] }, nil
}

// changes are changed files, and the ways from packages to them.
type changes struct {
	adapter   *Adapter
	packages  map[string]imports
	own       map[string]string   // by folder: a file that changed for the package or its tests
	spreading map[string]string   // by folder: a file that changed for those that import the package, too
	by        map[string][]string // by folder: the folders on the way to a change, itself first; empty if none reaches it
}

// way returns the folders from a package over its imports to a change, itself first; nil if none reaches it.
func (c *changes) way(dir string) []string {
	if way, known := c.by[dir]; known {
		return way
	}
	c.by[dir] = nil // what a circle, which cannot be, would see
	if c.spreading[dir] != "" {
		c.by[dir] = []string{dir}
		return c.by[dir]
	}
	for _, to := range c.packages[dir].byPackage {
		if way := c.way(to); way != nil {
			c.by[dir] = append([]string{dir}, way...)
			break
		}
	}
	return c.by[dir]
}

// why says how a change reaches the tests of a package, "" if none does.
func (c *changes) why(dir string) string {
	if file := c.own[dir]; file != "" {
		return c.shown(file) + " changed"
	}
	way := c.way(dir)
	for _, to := range c.packages[dir].byTests {
		if further := c.way(to); way == nil && further != nil {
			way = append([]string{dir}, further...)
		}
	}
	if way == nil {
		return ""
	}
	last := len(way) - 1
	words := fmt.Sprintf("%s changed, which %s imports", c.shown(c.spreading[way[last]]), c.shown(dir))
	var through []string
	for _, between := range way[1:last] {
		through = append(through, c.shown(between))
	}
	if through != nil {
		words += " through " + strings.Join(through, " and ")
	}
	return words
}

// shown is a path as seen from the module.
func (c *changes) shown(name string) string {
	below, err := filepath.Rel(c.adapter.root, name)
	if err != nil {
		return name
	}
	return filepath.ToSlash(below)
}

// imports reads the import clauses of the whole module.
func (a *Adapter) imports() (map[string]imports, error) {
	files, err := a.goFiles()
	if err != nil {
		return nil, err
	}
	clauses := make([][]*ast.ImportSpec, len(files))
	sideBySide(len(files), func(i int) {
		if parsed, _ := parser.ParseFile(token.NewFileSet(), files[i], nil, parser.ImportsOnly); parsed != nil {
			clauses[i] = parsed.Imports
		}
	})
	packages := map[string]imports{}
	for i, file := range files {
		dir, name := filepath.Split(file)
		dir = filepath.Clean(dir)
		p := packages[dir]
		for _, spec := range clauses[i] {
			to, inside := a.folderOf(spec.Path.Value)
			switch {
			case !inside || to == dir:
			case isTestFile(name):
				p.byTests = append(p.byTests, to)
			default:
				p.byPackage = append(p.byPackage, to)
			}
		}
		packages[dir] = p
	}
	return packages, nil
}

// goFiles lists the Go files of the module.
func (a *Adapter) goFiles() (files []string, err error) {
	err = filepath.WalkDir(a.root, func(path string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && path != a.root && !a.enters(path, entry.Name()):
			return fs.SkipDir
		case !entry.IsDir() && strings.HasSuffix(entry.Name(), ".go"):
			files = append(files, path)
		}
		return nil
	})
	return files, err
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
