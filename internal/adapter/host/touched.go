package host

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"fernrelay/core/catalog"
)

// Touched returns a function that says which of the files changed that a test's file imports, directly or not, or that the test
// reads, as the host reports them. A group with a broken file is touched by a change of that, and of what it imports.
func (a *Adapter) Touched(files []string) (func(*catalog.Test) string, error) {
	imports, err := a.imports()
	if err != nil {
		return nil, err
	}
	changed := map[string]bool{}
	for _, file := range files {
		changed[file] = true
	}
	byFile := map[string]string{} // of those that are known: the words
	return func(t *catalog.Test) string {
		for _, b := range a.broken[t.Group] {
			file := a.absolute([]string{b.File})[0]
			if changed[file] {
				return a.shown(file) + " changed"
			}
			if words := a.changedBelow(imports, file, changed); words != "" {
				return words
			}
		}
		own := a.absolute([]string{a.suiteFile(t.File)})[0]
		words, known := byFile[own]
		if !known {
			words = a.changedBelow(imports, own, changed)
			byFile[own] = words
		}
		for _, file := range a.uses[t.ID] {
			if words == "" && changed[file] {
				return a.shown(file) + " changed"
			}
		}
		return words
	}, nil
}

// askImports asks a process of the host which files import which; nil if it does not know.
func (a *Adapter) askImports() (map[string][]string, error) {
	s := &session{adapter: a}
	defer s.Close() // how it ends says nothing of the answer
	if err := s.begin(context.Background()); err != nil {
		return nil, err
	}
	if !slices.Contains(s.hello.Can, CanImports) {
		return nil, nil
	}
	var result ImportsResult
	if err := s.ask(a.Limits.Idle, MethodImports, struct{}{}, &result); err != nil {
		return nil, fmt.Errorf("the test host does not say which files import which: %w", err)
	}
	imports := make(map[string][]string, len(result.Imports))
	for file, others := range result.Imports {
		imports[a.absolute([]string{file})[0]] = a.absolute(others)
	}
	return imports, nil
}

// changedBelow returns words for the changed file that is the fewest imports away from a file, "" if it imports none.
func (a *Adapter) changedBelow(imports map[string][]string, file string, changed map[string]bool) string {
	seen := map[string]bool{file: true}
	for next := []string{file}; len(next) > 0; next = next[1:] {
		for _, other := range imports[next[0]] {
			if seen[other] {
				continue
			}
			if changed[other] {
				return a.shown(other) + " changed"
			}
			seen[other] = true
			next = append(next, other)
		}
	}
	return ""
}

// absolute returns the absolute paths of files that are relative to the suite's folder.
func (a *Adapter) absolute(files []string) []string {
	paths := make([]string, len(files))
	for i, file := range files {
		paths[i] = filepath.Join(a.Dir, filepath.FromSlash(file))
	}
	return paths
}

// suiteFile returns the path in the suite's folder of a file of the project.
func (a *Adapter) suiteFile(file string) string {
	below, err := filepath.Rel(filepath.FromSlash(a.Below), filepath.FromSlash(file))
	if err != nil {
		return file
	}
	return filepath.ToSlash(below)
}

// shown returns the path of a file as seen from the project's folder.
func (a *Adapter) shown(file string) string {
	below, err := filepath.Rel(a.Dir, file)
	if err != nil {
		return file
	}
	return a.projectFile(filepath.ToSlash(below))
}
