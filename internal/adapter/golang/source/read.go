// Package source reads Go test files without building them: their tests, tags, rules and build constraints.
//
//	file := source.Read("go", "valves", "valves/drip_test.go", text)
//	for _, test := range file.Tests {
//		fmt.Println(test.ID, test.Tags)
//	}
//
// What it finds depends on the text alone. Which machine builds a file is the adapter's question.
package source

import (
	"bytes"
	"fernrelay/core/catalog"
	"fmt"
	"go/ast"
	"go/doc"
	"go/parser"
	"go/token"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// File is what the text of a test file says, on any machine.
type File struct {
	Package    string // its package clause; empty if there is none
	Constraint string // its build constraint, with that of its name
	Labels     []string
	Tests      []catalog.Test
	Problems   []string // mistakes in directives, with the place
	Main       bool     // it has a TestMain
	Broken     bool     // the toolchain refuses it, so that it may hold more tests
}

// Read reads a test file. If it does not parse, Read returns the tests that can be read: the build reports the rest.
func Read(suite, group, shown string, src []byte) File {
	fileSet := token.NewFileSet()
	parsed, err := parser.ParseFile(fileSet, shown, src, parser.ParseComments|parser.SkipObjectResolution)
	if parsed == nil || parsed.Name.Name == "_" {
		return File{Broken: true}
	}
	s := File{Package: parsed.Name.Name, Broken: err != nil}
	if c := ReadConstraint(path.Base(shown), src); c.Expr != nil {
		s.Constraint, s.Labels = c.Expr.String(), labels(c.Expr)
	}
	r := reader{suite: suite, group: group, file: shown, fileSet: fileSet, source: &s}
	s.Tests = r.tests(parsed, src)
	return s
}

// reader finds the tests in one parsed file.
type reader struct {
	suite, group, file string
	fileSet            *token.FileSet
	source             *File
}

// wrong notes a problem with a directive.
func (r *reader) wrong(at token.Pos, problem string) {
	place := r.fileSet.Position(at)
	r.source.Problems = append(r.source.Problems, fmt.Sprintf("%s:%d:%d: %s", r.file, place.Line, place.Column, problem))
}

// above returns the directives that hold for all tests of a file: those above its package clause, and its build constraint as tags.
func (r *reader) above(f *ast.File) (above directives) {
	for _, comments := range f.Comments {
		if comments.Pos() < f.Package {
			above.read(comments, "the file", r.wrong)
		}
	}
	for _, label := range r.source.Labels {
		from := "the build constraint"
		if settled(strings.TrimPrefix(label, "!")) {
			from = catalog.FromSystem
		}
		above.AddTag(label, from)
	}
	return above
}

// tests returns the tests of a file in the order of its text, and its examples after them.
func (r *reader) tests(f *ast.File, src []byte) []catalog.Test {
	above := r.above(f)
	var tests []catalog.Test
	add := func(name string, kind catalog.Kind, fn *ast.FuncDecl) {
		t := above.clone()
		t.read(fn.Doc, "the function", r.wrong)
		t.ID, t.Suite, t.Group, t.Name, t.Kind = catalog.ID(r.suite, r.group, name), r.suite, r.group, name, kind
		t.Parallel = bytes.Contains(src[r.fileSet.Position(fn.Pos()).Offset:r.fileSet.Position(fn.End()).Offset], []byte(".Parallel()"))
		t.File, t.Line, t.End = r.file, r.fileSet.Position(fn.Pos()).Line, r.fileSet.Position(fn.End()).Line
		tests = append(tests, t.Test)
	}
	functions := map[string]*ast.FuncDecl{}
	for _, declaration := range f.Decls {
		fn, ok := declaration.(*ast.FuncDecl)
		if !ok || fn.Recv != nil {
			continue
		}
		functions[fn.Name.Name] = fn
		switch name := fn.Name.Name; {
		case name == "TestMain" && takes(fn, "M"):
			r.source.Main = true
		case isTest(name, "Test") && takes(fn, "T"):
			add(name, catalog.KindTest, fn)
		case isTest(name, "Fuzz") && takes(fn, "F"):
			add(name, catalog.KindFuzz, fn)
		case isTest(name, "Test"), isTest(name, "Fuzz"):
			r.source.Broken = true // its signature is wrong
		}
	}
	if !bytes.Contains(src, []byte("func Example")) {
		return tests
	}
	examples := doc.Examples(f)
	slices.SortFunc(examples, func(a, b *doc.Example) int { return a.Order - b.Order })
	for _, e := range examples {
		if fn := functions["Example"+e.Name]; fn != nil && (e.Output != "" || e.EmptyOutput) {
			add(fn.Name.Name, catalog.KindExample, fn)
		}
	}
	return tests
}

// isTest follows the toolchain: the prefix, and behind it no lower-case letter.
func isTest(name, prefix string) bool {
	rest, ok := strings.CutPrefix(name, prefix)
	if !ok || rest == "" {
		return ok
	}
	first, _ := utf8.DecodeRuneInString(rest)
	return !unicode.IsLower(first)
}

// takes follows the toolchain: one parameter, *T or *anything.T, no result.
func takes(fn *ast.FuncDecl, typ string) bool {
	if fn.Type.TypeParams != nil || fn.Type.Results != nil && len(fn.Type.Results.List) > 0 ||
		fn.Type.Params.List == nil || len(fn.Type.Params.List) != 1 || len(fn.Type.Params.List[0].Names) > 1 {
		return false
	}
	pointer, ok := fn.Type.Params.List[0].Type.(*ast.StarExpr)
	if !ok {
		return false
	}
	switch to := pointer.X.(type) {
	case *ast.Ident:
		return to.Name == typ
	case *ast.SelectorExpr:
		return to.Sel.Name == typ
	}
	return false
}

func (s *File) External() bool { return strings.HasSuffix(s.Package, "_test") }

func VariableNames(group *ast.GenDecl) []*ast.Ident {
	var names []*ast.Ident
	for _, spec := range group.Specs {
		for _, name := range spec.(*ast.ValueSpec).Names {
			if name.Name != "_" {
				names = append(names, name)
			}
		}
	}
	return names
}
