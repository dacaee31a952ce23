package workspace

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/pick"
	"fernrelay/internal/project"
)

// touched returns a function that says how a test changed since a git revision, "" if it did not: its file changed, an
// adapter knows that it is built from what changed, or fern.toml says that the change touches it.
func (w *Workspace) touched(x *pick.Index, revision string) (func(*catalog.Test) string, error) {
	files, err := project.Changed(context.Background(), w.Project.Dir, revision)
	if err != nil {
		return nil, err
	}
	return w.touchedBy(x, files)
}

// TouchedBy returns a function that says how a change to files, given by absolute paths, touches a test, "" if it does not.
func (w *Workspace) TouchedBy(files []string) (func(*catalog.Test) string, error) {
	return w.touchedBy(w.Index, files)
}

func (w *Workspace) touchedBy(x *pick.Index, files []string) (func(*catalog.Test) string, error) {
	below := map[string]bool{}
	for _, file := range files {
		if name, err := filepath.Rel(w.Project.Dir, file); err == nil {
			below[filepath.ToSlash(name)] = true
		}
	}
	names := slices.Sorted(maps.Keys(below))
	bySuite := map[string]func(*catalog.Test) string{}
	var err error
	for suite, a := range w.Adapters {
		if bySuite[suite], err = a.Touched(files); err != nil {
			return nil, fmt.Errorf("suite %s: %w", suite, err)
		}
	}
	byRule := map[int]string{} // by index of the test: the file that a rule names
	for _, rule := range w.Project.Touched {
		at := slices.IndexFunc(names, rule.Files)
		if at < 0 {
			continue
		}
		held, err := x.Held("", rule.Pick)
		if err != nil {
			return nil, err
		}
		for i := range held.All {
			byRule[i] = names[at]
		}
	}
	return func(t *catalog.Test) string {
		if below[t.File] {
			return t.File + " changed"
		}
		if words := bySuite[t.Suite](t); words != "" {
			return words
		}
		if i, ok := x.Catalog.Index(t.ID); ok && byRule[i] != "" {
			return byRule[i] + " changed, which touches it by [touched]"
		}
		return ""
	}, nil
}
