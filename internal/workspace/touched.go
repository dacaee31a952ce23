package workspace

import (
	"context"
	"fernrelay/core/catalog"
	"fernrelay/core/pick"
	"fernrelay/internal/project"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
)

// touched returns a function that reports whether a test changed since a git revision: its file changed, an
// adapter knows that it is built from what changed, or fern.toml says that the change touches it.
func (w *Workspace) touched(x *pick.Index, revision string) (func(*catalog.Test) bool, error) {
	files, err := project.Changed(context.Background(), w.Project.Dir, revision)
	if err != nil {
		return nil, err
	}
	return w.touchedBy(x, files)
}

// TouchedBy returns a function that reports whether a change to files, given by absolute paths, touches a test.
func (w *Workspace) TouchedBy(files []string) (func(*catalog.Test) bool, error) {
	return w.touchedBy(w.Index, files)
}

func (w *Workspace) touchedBy(x *pick.Index, files []string) (func(*catalog.Test) bool, error) {
	below := map[string]bool{}
	for _, file := range files {
		if name, err := filepath.Rel(w.Project.Dir, file); err == nil {
			below[filepath.ToSlash(name)] = true
		}
	}
	bySuite := map[string]func(*catalog.Test) bool{}
	var err error
	for suite, a := range w.Adapters {
		if bySuite[suite], err = a.Touched(files); err != nil {
			return nil, fmt.Errorf("suite %s: %w", suite, err)
		}
	}
	byRule := catalog.NewSet(len(x.Catalog.Tests))
	for _, rule := range w.Project.Touched {
		if !slices.ContainsFunc(slices.Collect(maps.Keys(below)), rule.Files) {
			continue
		}
		held, err := x.Held("", rule.Pick)
		if err != nil {
			return nil, err
		}
		byRule.Or(held)
	}
	return func(t *catalog.Test) bool {
		i, ok := x.Catalog.Index(t.ID)
		return below[t.File] || bySuite[t.Suite](t) || ok && byRule.Has(i)
	}, nil
}
