package golang

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"go/ast"
	"go/build"
	"go/build/constraint"
	"go/doc"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"fernrelay/core/catalog"
)

// gopkg is one folder with test files.
type gopkg struct {
	group string
	dir   string // absolute
	files []*testFile
}

// testFile is one _test.go file that can be built here, perhaps with extra tags.
type testFile struct {
	name     string
	pkg      string   // its package clause
	tags     []string // build tags that it needs; none for the default build
	tests    []catalog.Test
	external bool
}

// Discover reads the tests of every package below the suite's folder.
func (a *Adapter) Discover(ctx context.Context) ([]catalog.Test, error) {
	dirs, err := a.testFolders()
	if err != nil {
		return nil, err
	}
	packages := make([]*gopkg, len(dirs))
	failures := make([]error, len(dirs))
	var wg sync.WaitGroup
	turns := make(chan struct{}, runtime.GOMAXPROCS(0))
	for i, dir := range dirs {
		wg.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			if failures[i] = ctx.Err(); failures[i] == nil {
				packages[i], failures[i] = a.readPackage(dir)
			}
		})
	}
	wg.Wait()
	if err := errors.Join(failures...); err != nil {
		return nil, err
	}
	a.packages, a.needs = map[string]*gopkg{}, map[string]string{}
	var tests []catalog.Test
	for _, p := range packages {
		a.packages[p.group] = p
		tests = append(tests, a.declared(p)...)
	}
	return tests, nil
}

// declared lists a package's tests in the order in which the toolchain runs
// them: tests, fuzz seeds, examples, in each the files of the package before
// those of its external tests; last what only other builds hold.
func (a *Adapter) declared(p *gopkg) []catalog.Test {
	files := slices.Clone(p.files)
	slices.SortStableFunc(files, func(x, y *testFile) int { return rank(x) - rank(y) })
	var tests []catalog.Test
	for _, byDefault := range []bool{true, false} {
		for _, kind := range []catalog.Kind{catalog.KindTest, catalog.KindFuzz, catalog.KindExample} {
			for _, f := range files {
				if (len(f.tags) == 0) != byDefault {
					continue
				}
				for _, t := range f.tests {
					if t.Kind != kind {
						continue
					}
					if _, known := a.needs[t.ID]; !known {
						a.needs[t.ID] = strings.Join(f.tags, ",")
						tests = append(tests, t)
					}
				}
			}
		}
	}
	return tests
}

func rank(f *testFile) int {
	if f.external {
		return 1
	}
	return 0
}

// testFolders lists the folders of the suite that hold test files, as the
// toolchain's ./... sees them: without vendor, testdata, hidden folders and
// nested modules.
func (a *Adapter) testFolders() ([]string, error) {
	var dirs []string
	err := filepath.WalkDir(a.Dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return fmt.Errorf("cannot read %s: %w", path, errors.Unwrap(err))
		}
		if entry.IsDir() {
			if path != a.Dir && !a.enters(path, entry.Name()) {
				return fs.SkipDir
			}
			return nil
		}
		dir := filepath.Dir(path)
		if isTestFile(entry.Name()) && (len(dirs) == 0 || dirs[len(dirs)-1] != dir) {
			dirs = append(dirs, dir)
		}
		return nil
	})
	slices.Sort(dirs)
	return slices.Compact(dirs), err
}

func isTestFile(name string) bool {
	return strings.HasSuffix(name, "_test.go") && name[0] != '_' && name[0] != '.'
}

func (a *Adapter) enters(path, name string) bool {
	if name == "vendor" || name == "testdata" || name[0] == '.' || name[0] == '_' {
		return false
	}
	_, err := os.Stat(filepath.Join(path, "go.mod"))
	return err != nil
}

func (a *Adapter) readPackage(dir string) (*gopkg, error) {
	below, err := filepath.Rel(a.Dir, dir)
	if err != nil {
		return nil, err
	}
	p := &gopkg{group: filepath.ToSlash(below), dir: dir}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, entry := range entries {
		if entry.IsDir() || !isTestFile(entry.Name()) {
			continue
		}
		f, err := a.readFile(p, entry.Name())
		if err != nil {
			return nil, err
		}
		if f != nil {
			p.files = append(p.files, f)
		}
	}
	return p, nil
}

// readFile reads one test file; nil where no build on this machine holds it. A
// file that does not parse gives the tests that can be read: the build will
// tell the rest.
func (a *Adapter) readFile(p *gopkg, name string) (*testFile, error) {
	path := filepath.Join(p.dir, name)
	src, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	tags, ok := a.tagsNeeded(p.dir, name, src)
	if !ok {
		return nil, nil
	}
	fileSet := token.NewFileSet()
	parsed, _ := parser.ParseFile(fileSet, path, src, parser.ParseComments|parser.SkipObjectResolution)
	if parsed == nil {
		return nil, nil
	}
	f := &testFile{name: name, pkg: parsed.Name.Name, tags: tags}
	f.external = strings.HasSuffix(f.pkg, "_test")
	shown, err := filepath.Rel(a.Root, path)
	if err != nil {
		return nil, err
	}
	r := reader{suite: a.Suite, group: p.group, file: filepath.ToSlash(shown), fileSet: fileSet, tags: tags}
	f.tests = r.tests(parsed, src)
	return f, nil
}

// tagsNeeded tells with which extra build tags this machine builds the file:
// none for the default build. ok is false where no set of tags makes it so.
func (a *Adapter) tagsNeeded(dir, name string, src []byte) (tags []string, ok bool) {
	words := constraintWords(src)
	for _, tags := range subsets(words) {
		if a.builds(dir, name, tags, src) {
			return tags, true
		}
	}
	return nil, false
}

// builds reports whether a build with the extra tags holds the file.
func (a *Adapter) builds(dir, name string, tags []string, src []byte) bool {
	context := build.Default
	context.BuildTags = slices.Concat(context.BuildTags, a.flagTags(), tags)
	if src != nil {
		context.OpenFile = func(string) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(src)), nil }
	}
	match, err := context.MatchFile(dir, name)
	return match && err == nil
}

// flagTags are the build tags that the suite's build flags set.
func (a *Adapter) flagTags() []string {
	var tags []string
	flags := slices.Concat(strings.Fields(os.Getenv("GOFLAGS")), a.BuildFlags)
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

// maxConstraintWords bounds the tags of one constraint that are tried in all
// combinations.
const maxConstraintWords = 6

// constraintWords lists the words of a file's build constraint that a -tags flag
// may set; "ignore" by custom is never set.
func constraintWords(src []byte) []string {
	words := map[string]bool{}
	for line := range bytes.Lines(src) {
		text := strings.TrimSpace(string(line))
		if strings.HasPrefix(text, "package ") {
			break
		}
		if !constraint.IsGoBuild(text) {
			continue
		}
		expr, err := constraint.Parse(text)
		if err != nil {
			return nil
		}
		addWords(words, expr)
	}
	maps.DeleteFunc(words, func(word string, _ bool) bool { return word == "ignore" || platform(word) })
	sorted := slices.Sorted(maps.Keys(words))
	return sorted[:min(len(sorted), maxConstraintWords)]
}

func addWords(words map[string]bool, expr constraint.Expr) {
	switch e := expr.(type) {
	case *constraint.TagExpr:
		words[e.Tag] = true
	case *constraint.NotExpr:
		addWords(words, e.X)
	case *constraint.AndExpr:
		addWords(words, e.X)
		addWords(words, e.Y)
	case *constraint.OrExpr:
		addWords(words, e.X)
		addWords(words, e.Y)
	}
}

// platform reports whether the word of a constraint is settled by the machine
// and the toolchain.
func platform(word string) bool {
	return systems[word] || strings.HasPrefix(word, "go1.") || strings.HasPrefix(word, "goexperiment.")
}

// systems are the words of build constraints that name operating systems,
// architectures, compilers and modes of building.
var systems = func() map[string]bool {
	set := map[string]bool{}
	for word := range strings.FieldsSeq(`aix android darwin dragonfly freebsd hurd illumos ios js linux nacl netbsd
		openbsd plan9 solaris wasip1 windows zos unix 386 amd64 arm arm64 loong64 mips mips64 mips64le mipsle ppc64
		ppc64le riscv64 s390x sparc64 wasm gc gccgo cgo race msan asan`) {
		set[word] = true
	}
	return set
}()

// subsets lists all subsets, the smaller first.
func subsets(words []string) [][]string {
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

// reader finds the tests in one parsed file.
type reader struct {
	suite, group, file string
	fileSet            *token.FileSet
	tags               []string // from the build constraint
}

func (r *reader) tests(f *ast.File, src []byte) []catalog.Test {
	var above directives
	for _, comments := range f.Comments {
		if comments.Pos() < f.Package {
			above.read(comments)
		}
	}
	var tests []catalog.Test
	add := func(name string, kind catalog.Kind, fn *ast.FuncDecl, at token.Pos) {
		own := above.clone()
		if fn != nil {
			own.read(fn.Doc)
		}
		tests = append(tests, catalog.Test{
			ID: catalog.ID(r.suite, r.group, name), Suite: r.suite, Group: r.group, Name: name, Kind: kind,
			File: r.file, Line: r.fileSet.Position(at).Line, Tags: slices.Concat(own.tags, r.tags), Marks: own.marks,
		})
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
		case isTest(name, "Test") && takes(fn, "T"):
			add(name, catalog.KindTest, fn, fn.Pos())
		case isTest(name, "Fuzz") && takes(fn, "F"):
			add(name, catalog.KindFuzz, fn, fn.Pos())
		}
	}
	if !bytes.Contains(src, []byte("func Example")) {
		return tests
	}
	examples := doc.Examples(f)
	slices.SortFunc(examples, func(a, b *doc.Example) int { return a.Order - b.Order })
	for _, e := range examples {
		if fn := functions["Example"+e.Name]; fn != nil && (e.Output != "" || e.EmptyOutput) {
			add(fn.Name.Name, catalog.KindExample, fn, fn.Pos())
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

// directives are the //fern: comments that hold for a test.
type directives struct {
	tags  []string
	marks catalog.Marks
}

func (d directives) clone() directives {
	return directives{tags: slices.Clone(d.tags), marks: d.marks}
}

func (d *directives) read(comments *ast.CommentGroup) {
	if comments == nil {
		return
	}
	for _, c := range comments.List {
		text, ok := strings.CutPrefix(c.Text, "//fern:")
		if !ok {
			continue
		}
		word, rest, _ := strings.Cut(text, " ")
		reason := strings.TrimSpace(rest)
		if reason == "" {
			reason = "no reason given"
		}
		switch word {
		case "tags":
			d.tags = append(d.tags, strings.Fields(rest)...)
		case "skip":
			d.marks.Skip = reason
		case "expect-fail":
			d.marks.ExpectFail = reason
		}
	}
}
