package project

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/mod/modfile"

	"fernrelay/core/catalog"
)

// NothingError is the error of a folder that is no project.
type NothingError struct{ Dir string }

func (n NothingError) Error() string {
	return fmt.Sprintf("no tests found in %s: it has no %s, is not part of a Go module, and has no module below. Pass the project's folder, or let fern-relay init write a %s", n.Dir, FileName, FileName)
}

// WithoutFile makes the project that a folder is without its fern.toml: the Go module that it is in, or the modules of its
// workspace, or else the modules below it. The error is [Nothing] if there are none.
func WithoutFile(dir string) (*Project, error) {
	root, modules, err := modulesOf(dir)
	if err != nil {
		return nil, err
	}
	if modules == nil {
		return nil, NothingError{dir}
	}
	return &Project{Dir: root, Name: filepath.Base(root), Suites: goSuites(root, modules)}, nil
}

// goSuites returns a suite for each of the modules of a project.
func goSuites(root string, modules []string) (suites []Suite) {
	for i, name := range suiteNames(root, modules) {
		suites = append(suites, Suite{Name: name, Kind: Go, Dir: modules[i], Limits: defaultLimits, Isolate: "group", Together: catalog.GroupLevel})
	}
	return suites
}

// addDefaultSuites adds the suites of a project whose fern.toml names none: those of its modules or, without any, of its folders of
// scripts. In a folder inside of a module it is the part of the module that is there.
func (p *Project) addDefaultSuites() error {
	root, modules, err := modulesOf(p.Dir)
	if root != p.Dir && modules != nil {
		modules = []string{"."}
	}
	if err != nil {
		return err
	}
	if p.Suites = goSuites(p.Dir, modules); p.Suites == nil {
		p.Suites = scriptSuites(p.Dir)
	}
	if p.Suites == nil {
		return fmt.Errorf("%s has no suite, and there is no Go module or folder of scripts here: add a [[suite]] with a name and a kind", filepath.Join(p.Dir, FileName))
	}
	return nil
}

// scriptSuites returns a suite for each folder of scripts in a project.
func scriptSuites(root string) (suites []Suite) {
	for _, f := range LookForScripts(root, map[string]bool{}).Folders {
		suites = append(suites, Suite{Name: f.Name, Kind: Command, Dir: f.Dir, Command: CommandSettings{List: f.List, Run: RunScript}, Limits: defaultLimits, Isolate: "group", Together: catalog.TestLevel})
	}
	return suites
}

// modulesOf returns the root of a project without fern.toml and the folders of its modules, relative to the root.
func modulesOf(dir string) (root string, modules []string, err error) {
	module := above(dir, "go.mod")
	if work := workFile(dir); work != "" {
		root = filepath.Dir(work)
		if modules, err = workspaceModules(work); err != nil {
			return "", nil, err
		}
		below, err := filepath.Rel(root, cmp.Or(module, dir))
		if err == nil && (module == "" || slices.Contains(modules, filepath.ToSlash(below))) {
			return root, modules, nil
		}
	}
	if module != "" {
		return module, []string{"."}, nil
	}
	modules, err = modulesBelow(dir)
	return dir, modules, err
}

// above returns the nearest folder, from dir up, that has a file of this name; "" if none has.
func above(dir, name string) string {
	for ; ; dir = filepath.Dir(dir) {
		if info, err := os.Stat(filepath.Join(dir, name)); err == nil && !info.IsDir() {
			return dir
		}
		if dir == filepath.Dir(dir) {
			return ""
		}
	}
}

// workFile returns the workspace file that the toolchain uses in a folder; "" for none.
func workFile(dir string) string {
	switch work := os.Getenv("GOWORK"); {
	case work == "off":
		return ""
	case work != "":
		return work
	}
	if root := above(dir, "go.work"); root != "" {
		return filepath.Join(root, "go.work")
	}
	return ""
}

// workspaceModules returns the folders of a workspace's modules, relative to its root, without those outside of it.
func workspaceModules(file string) (modules []string, err error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, unreadable(file, err)
	}
	work, err := modfile.ParseWork(file, data, nil)
	if err != nil {
		return nil, fmt.Errorf("the workspace is wrong: %w", err)
	}
	for _, use := range work.Use {
		dir := filepath.FromSlash(use.Path)
		if filepath.IsAbs(dir) {
			if dir, err = filepath.Rel(filepath.Dir(file), dir); err != nil {
				continue
			}
		}
		if dir = filepath.Clean(dir); filepath.IsLocal(dir) {
			modules = append(modules, filepath.ToSlash(dir))
		}
	}
	return modules, nil
}

// Modules are looked for this many folders deep, among at most this many folders.
const (
	deepestModule = 4
	mostFolders   = 20_000
)

// modulesBelow returns the folders below dir that are modules, relative to it and sorted.
func modulesBelow(dir string) (modules []string, err error) {
	folders := 0
	err = filepath.WalkDir(dir, func(file string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.IsDir() {
			return nil // what cannot be read is no module of ours
		}
		below, _ := filepath.Rel(dir, file) // it is below
		name := entry.Name()
		if folders++; folders > mostFolders {
			return filepath.SkipAll
		}
		if file != dir && (strings.HasPrefix(name, ".") || name == "node_modules" || name == "vendor" || name == "testdata") || strings.Count(below, string(filepath.Separator)) >= deepestModule {
			return filepath.SkipDir
		}
		if _, err := os.Stat(filepath.Join(file, "go.mod")); err == nil {
			modules = append(modules, filepath.ToSlash(below))
		} else if !errors.Is(err, fs.ErrNotExist) {
			return filepath.SkipDir
		}
		return nil
	})
	return modules, err
}

// suiteNames names the suites of modules: go if the project is one module, or else by the modules' folders, as short
// as they differ.
func suiteNames(root string, modules []string) []string {
	if len(modules) == 1 && modules[0] == "." {
		return []string{string(Go)}
	}
	names, times := make([]string, len(modules)), map[string]int{}
	for i, module := range modules {
		if names[i] = path.Base(module); module == "." {
			names[i] = filepath.Base(root)
		}
		times[names[i]]++
	}
	for i, module := range modules {
		if times[names[i]] > 1 && module != "." {
			names[i] = strings.ReplaceAll(module, "/", "-")
		}
		if !plainName(names[i]) {
			names[i] = fmt.Sprint("module-", i+1)
		}
	}
	return names
}
