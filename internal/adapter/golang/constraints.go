package golang

import (
	"bytes"
	"fmt"
	"go/build"
	"go/build/constraint"
	"io"
	"maps"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"fernrelay/core/catalog"
)

// constrained is the result of a file's build constraint.
type constrained struct {
	expr constraint.Expr // nil if every build has the file
	// words are those that a -tags flag may set, platforms those that the machine
	// and the toolchain settle.
	words, platforms []string
}

// readConstraint reads the constraint that a file's name and its //go:build line or, without one, its // +build lines make together.
func readConstraint(name string, src []byte) constrained {
	expr := nameConstraint(name)
	if written := lineConstraint(src); written != nil {
		expr = both(expr, written)
	}
	c := constrained{expr: expr}
	if expr == nil {
		return c
	}
	for _, word := range wordsOf(expr) {
		if settled(word) {
			c.platforms = append(c.platforms, word)
		} else if word != ignored {
			c.words = append(c.words, word)
		}
	}
	return c
}

// lineConstraint reads the constraint of the lines before the package clause; nil if there is none. As in package go/build, lines
// of the older form count if a blank line follows them, and no line of the newer form is there.
func lineConstraint(src []byte) (expr constraint.Expr) {
	var older, pending []constraint.Expr
	for line := range bytes.Lines(src) {
		text := strings.TrimSpace(string(line))
		switch {
		case strings.HasPrefix(text, "package "):
			for _, e := range older {
				expr = both(expr, e)
			}
			return expr
		case text == "":
			older, pending = append(older, pending...), nil
		case constraint.IsGoBuild(text):
			if parsed, err := constraint.Parse(text); err == nil {
				return parsed
			}
		case constraint.IsPlusBuild(text):
			if parsed, err := constraint.Parse(text); err == nil {
				pending = append(pending, parsed)
			}
		}
	}
	return nil
}

// ignored is the word that by custom no build sets.
const ignored = "ignore"

// nameConstraint follows the toolchain: a name that ends in _GOOS, _GOARCH or
// _GOOS_GOARCH before _test.go is built only there.
func nameConstraint(name string) constraint.Expr {
	name = strings.TrimSuffix(name, "_test.go")
	at := strings.IndexByte(name, '_')
	if at < 0 {
		return nil
	}
	parts := strings.Split(name[at+1:], "_")
	last := parts[len(parts)-1]
	switch {
	case len(parts) > 1 && operatingSystems[parts[len(parts)-2]] && architectures[last]:
		return both(&constraint.TagExpr{Tag: parts[len(parts)-2]}, &constraint.TagExpr{Tag: last})
	case operatingSystems[last] || architectures[last]:
		return &constraint.TagExpr{Tag: last}
	}
	return nil
}

// both returns what two constraints require together, each clause once. x may be nil.
func both(x, y constraint.Expr) constraint.Expr {
	all := clauses(x)
	for _, clause := range clauses(y) {
		if !slices.ContainsFunc(all, func(known constraint.Expr) bool { return known.String() == clause.String() }) {
			all = append(all, clause)
		}
	}
	joined := all[0]
	for _, clause := range all[1:] {
		joined = &constraint.AndExpr{X: joined, Y: clause}
	}
	return joined
}

// clauses returns the parts of a constraint that it requires one by one; none of nil.
func clauses(e constraint.Expr) []constraint.Expr {
	if e == nil {
		return nil
	}
	if and, ok := e.(*constraint.AndExpr); ok {
		return append(clauses(and.X), clauses(and.Y)...)
	}
	return []constraint.Expr{e}
}

// unmet returns what a build here lacks to hold a file, of which buildable said tags and here; nil if it lacks nothing.
func (c *constrained) unmet(tags []string, here bool) *catalog.Unmet {
	if here && len(tags) == 0 {
		return nil
	}
	words := slices.Clone(tags)
	for _, label := range labels(c.expr) {
		if slices.Contains(c.words, label) {
			words = append(words, label)
		}
	}
	slices.Sort(words)
	return &catalog.Unmet{Constraint: c.expr.String(), Tags: slices.Compact(words), Settled: !here}
}

// labels returns the tags that a constraint adds to tests: the words that it requires, and with a "!" those that
// it forbids, without versions of Go.
func labels(expr constraint.Expr) []string {
	switch e := expr.(type) {
	case *constraint.TagExpr:
		if !strings.HasPrefix(e.Tag, "go1.") && !strings.HasPrefix(e.Tag, "goexperiment.") {
			return []string{e.Tag}
		}
	case *constraint.NotExpr:
		if tag, ok := e.X.(*constraint.TagExpr); ok && labels(tag) != nil {
			return []string{"!" + tag.Tag}
		}
	case *constraint.AndExpr:
		return append(labels(e.X), labels(e.Y)...)
	case *constraint.OrExpr:
		either := append(labels(e.X), labels(e.Y)...)
		return slices.DeleteFunc(either, func(label string) bool { return label[0] == '!' })
	}
	return nil
}

// wordsOf lists the words of a constraint, sorted.
func wordsOf(expr constraint.Expr) []string {
	var words []string
	switch e := expr.(type) {
	case *constraint.TagExpr:
		return []string{e.Tag}
	case *constraint.NotExpr:
		return wordsOf(e.X)
	case *constraint.AndExpr:
		words = append(wordsOf(e.X), wordsOf(e.Y)...)
	case *constraint.OrExpr:
		words = append(wordsOf(e.X), wordsOf(e.Y)...)
	}
	slices.Sort(words)
	return slices.Compact(words)
}

// settled reports whether a word is settled by the machine and the toolchain.
func settled(word string) bool {
	return operatingSystems[word] || architectures[word] || toolchains[word] || strings.HasPrefix(word, "go1.") || strings.HasPrefix(word, "goexperiment.")
}

func setOf(words string) map[string]bool {
	set := map[string]bool{}
	for word := range strings.FieldsSeq(words) {
		set[word] = true
	}
	return set
}

var (
	operatingSystems = setOf(`aix android darwin dragonfly freebsd hurd illumos ios js linux nacl netbsd openbsd plan9
		solaris wasip1 windows zos`)
	architectures = setOf(`386 amd64 arm arm64 loong64 mips mips64 mips64le mipsle ppc64 ppc64le riscv64 s390x sparc64 wasm`)
	toolchains    = setOf("unix gc gccgo cgo race msan asan")
)

// maxConstraintWords bounds the words of one constraint that are tried in all
// combinations.
const maxConstraintWords = 8

// buildable returns the extra build tags with which this machine builds a file: none for the default build. here
// is false if no set of tags does, and anywhere is false if no machine would build it either.
func (a *Adapter) buildable(dir, name string, src []byte, c constrained) (tags []string, here, anywhere bool) {
	if c.expr == nil {
		return nil, true, true
	}
	for _, tags := range subsets(c.words) {
		if a.builds(dir, name, tags, src) {
			return tags, true, true
		}
	}
	for _, set := range subsets(slices.Concat(c.words, c.platforms)) {
		if c.expr.Eval(func(word string) bool { return slices.Contains(set, word) }) {
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

// subsets lists all subsets of the first words, the smaller first.
func subsets(words []string) [][]string {
	words = words[:min(len(words), maxConstraintWords)]
	sets := make([][]string, 1<<len(words))
	for bits := range sets {
		for i, word := range words {
			if bits&(1<<i) != 0 {
				sets[bits] = append(sets[bits], word)
			}
		}
	}
	slices.SortStableFunc(sets, func(a, b []string) int { return len(a) - len(b) })
	return sets
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
	c := readConstraint(f.name, src)
	f.tags, f.here, f.anywhere = a.buildable(dir, f.name, src, c)
	f.unmet = c.unmet(f.tags, f.here)
}
