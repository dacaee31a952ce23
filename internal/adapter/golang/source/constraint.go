package source

import (
	"bytes"
	"go/build/constraint"
	"slices"
	"strings"

	"fernrelay/core/catalog"
)

// Constraint is what a file's build constraint asks for.
type Constraint struct {
	Expr constraint.Expr // nil if every build has the file
	// words are those that a -tags flag may set, platforms those that the machine
	// and the toolchain settle.
	Words, Platforms []string
}

// ReadConstraint reads the constraint that a file's name and its //go:build line or, without one, its // +build lines make together.
func ReadConstraint(name string, src []byte) Constraint {
	expr := nameConstraint(name)
	if written := lineConstraint(src); written != nil {
		expr = both(expr, written)
	}
	c := Constraint{Expr: expr}
	if expr == nil {
		return c
	}
	for _, word := range wordsOf(expr) {
		if settled(word) {
			c.Platforms = append(c.Platforms, word)
		} else if word != ignored {
			c.Words = append(c.Words, word)
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

// Unmet returns what a build here lacks to hold a file, nil if it lacks nothing: tags are those with which a build holds it, and here
// is false if no build on this machine does.
func (c *Constraint) Unmet(tags []string, here bool) *catalog.Unmet {
	if here && len(tags) == 0 {
		return nil
	}
	words := slices.Clone(tags)
	for _, label := range labels(c.Expr) {
		if slices.Contains(c.Words, label) {
			words = append(words, label)
		}
	}
	slices.Sort(words)
	return &catalog.Unmet{Constraint: c.Expr.String(), Tags: slices.Compact(words), Settled: !here}
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

// Subsets lists all subsets of the first words, the smaller first.
func Subsets(words []string) [][]string {
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
