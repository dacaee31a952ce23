package golang

import (
	"bytes"
	"fernrelay/internal/adapter/golang/source"
	"fmt"
	"go/build"
	"io"
	"maps"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"fernrelay/core/catalog"
)

// buildable returns the extra build tags with which this machine builds a file: none for the default build. here
// is false if no set of tags does, and anywhere is false if no machine would build it either.
func (a *Adapter) buildable(dir, name string, src []byte, c source.Constraint) (tags []string, here, anywhere bool) {
	if c.Expr == nil {
		return nil, true, true
	}
	for _, tags := range source.Subsets(c.Words) {
		if a.builds(dir, name, tags, src) {
			return tags, true, true
		}
	}
	for _, set := range source.Subsets(slices.Concat(c.Words, c.Platforms)) {
		if c.Expr.Eval(func(word string) bool { return slices.Contains(set, word) }) {
			return nil, false, true
		}
	}
	return nil, false, false
}

// builds reports whether a build with the extra tags holds the file.
func (a *Adapter) builds(dir, name string, tags []string, src []byte) bool {
	context := a.buildContext(tags)
	if src != nil {
		context.OpenFile = func(string) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(src)), nil }
	}
	match, err := context.MatchFile(dir, name)
	return match && err == nil
}

// buildContext returns the context of a build with extra tags.
func (a *Adapter) buildContext(tags []string) build.Context {
	context := build.Default
	if enabled := a.setting("CGO_ENABLED"); enabled != "" {
		context.CgoEnabled = enabled == "1"
	}
	context.BuildTags = slices.Concat(context.BuildTags, a.flagTags(), tags)
	return context
}

// flagTags are the build tags that the suite's build flags set.
func (a *Adapter) flagTags() []string {
	var tags []string
	flags := a.allFlags()
	for i, flag := range flags {
		switch value, ok := strings.CutPrefix(strings.TrimLeft(flag, "-"), "tags="); {
		case ok:
			tags = append(tags, strings.Split(value, ",")...)
		case flagName(flag) == "tags" && i+1 < len(flags):
			tags = append(tags, strings.Split(flags[i+1], ",")...)
		case flagName(flag) == "race":
			tags = append(tags, "race")
		}
	}
	return tags
}

// constrain sets what the file's build constraint means for one of its tests.
func (f *testFile) constrain(t *catalog.Test) {
	t.Unmet, t.SkipReason = f.unmet, ""
	if !f.here {
		t.SkipReason = fmt.Sprintf("its build constraint, %s, is not met on %s/%s", f.Constraint, runtime.GOOS, runtime.GOARCH)
	}
}

// Constrain sets what the build constraint of a test's file means with the flags and settings of this adapter.
func (a *Adapter) Constrain(t *catalog.Test) {
	if f := a.packages[t.Group].file(a.targets[t.ID].file); f != nil && f.Constraint != "" {
		f.constrain(t)
	}
}

// file returns a test file by its name, nil if there is none.
func (p *gopkg) file(name string) *testFile {
	if at := slices.IndexFunc(p.files, func(f *testFile) bool { return f.name == name }); at >= 0 {
		return p.files[at]
	}
	return nil
}

// reconsider reads the build constraints of test files again, for other flags and settings. What it changes it copies.
func (a *Adapter) reconsider() error {
	a.packages, a.targets = maps.Clone(a.packages), maps.Clone(a.targets)
	for group, p := range a.packages {
		if !slices.ContainsFunc(p.files, func(f *testFile) bool { return f.Constraint != "" }) {
			continue
		}
		copied := *p
		copied.files = slices.Clone(p.files)
		for i, f := range copied.files {
			if f.Constraint == "" {
				continue
			}
			src, err := a.read(filepath.Join(p.dir, f.name))
			if err != nil {
				return err
			}
			other := *f
			other.place(a, p.dir, src)
			copied.files[i] = &other
		}
		a.packages[group] = &copied
	}
	for id, to := range a.targets {
		_, group, _ := catalog.Parts(id)
		if f := a.packages[group].file(to.file); f != nil && f.Constraint != "" {
			to.tags = strings.Join(f.tags, ",")
			a.targets[id] = to
		}
	}
	return nil
}

// place works out which builds have the file.
func (f *testFile) place(a *Adapter, dir string, src []byte) {
	c := source.ReadConstraint(f.name, src)
	f.tags, f.here, f.anywhere = a.buildable(dir, f.name, src, c)
	f.unmet = c.Unmet(f.tags, f.here)
}
