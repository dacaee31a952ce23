// Package mend proposes changes to Go tests that leave state behind, so that they restore it at their end.
//
//	t, err := mend.Load(ctx, "/p", mend.Place{File: "/p/pumps_test.go", Function: "TestDrought"}, nil)
//	candidates, err := t.Candidates(finding.Changed)
//	for _, c := range candidates {
//		try(c.File, c.Content)
//	}
//
// A candidate is a whole file: the test with the fewest added lines that restore each piece of state. Nobody knows
// that it works before it is tried. What cannot be restored is an error that says why.
package mend

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/tools/go/packages"

	"fernrelay/core/hunt"
)

// Place is a test function in its file.
type Place struct {
	File     string // absolute
	Function string
}

// Candidate is a change of one file that is worth a trial.
type Candidate struct {
	File    string // absolute
	Before  []byte
	Content []byte
}

// Test is a test function with what the compiler knows of its package.
type Test struct {
	place   Place
	project string // the folder to which the files of changes are relative
	source  []byte
	pkg     *packages.Package
	file    *ast.File
	decl    *ast.FuncDecl
	handle  string // the name of its *testing.T
}

// Load reads the package of a test, as it is built with some flags. project is the folder to which the files of changes
// are relative.
func Load(ctx context.Context, project string, at Place, flags []string) (*Test, error) {
	source, err := os.ReadFile(at.File)
	if err != nil {
		return nil, err
	}
	t := &Test{place: at, project: project, source: source}
	loaded, err := packages.Load(&packages.Config{Context: ctx, Mode: packages.LoadSyntax, Dir: filepath.Dir(at.File), Tests: true, BuildFlags: flags}, ".")
	if err != nil {
		return nil, fmt.Errorf("cannot read the package of %s: %w", at.Function, err)
	}
	if t.locate(loaded); t.decl == nil {
		return nil, fmt.Errorf("%s is not in %s", at.Function, filepath.Base(at.File))
	}
	if t.handle = handleOf(t.decl); t.handle == "" {
		return nil, fmt.Errorf("%s has no *testing.T that could restore something at its end", at.Function)
	}
	return t, nil
}

// locate finds the test's function in the packages.
func (t *Test) locate(loaded []*packages.Package) {
	for _, p := range loaded {
		for _, f := range p.Syntax {
			if p.Fset.Position(f.Package).Filename != t.place.File {
				continue
			}
			for _, d := range f.Decls {
				if decl, ok := d.(*ast.FuncDecl); ok && decl.Recv == nil && decl.Name.Name == t.place.Function {
					t.pkg, t.file, t.decl = p, f, decl
				}
			}
		}
	}
}

// handleOf returns the name of the parameter of a test or fuzz function, "" if it has none.
func handleOf(decl *ast.FuncDecl) string {
	params := decl.Type.Params.List
	if len(params) != 1 || len(params[0].Names) != 1 || params[0].Names[0].Name == "_" || decl.Body == nil {
		return ""
	}
	return params[0].Names[0].Name
}

// edit is a change of the source between two offsets, with the packages that it needs.
type edit struct {
	from, to int
	text     string
	imports  []string
}

// Candidates returns the changes of the test that are worth a trial, the most natural first. Each restores every piece of
// state, or the error says what cannot be restored and why.
func (t *Test) Candidates(changes []hunt.Change) ([]Candidate, error) {
	if len(changes) == 0 {
		edits := t.called()
		if len(edits) == 0 {
			return nil, errors.New("no state is known that it leaves")
		}
		content, err := t.apply(edits)
		return []Candidate{{t.place.File, t.source, content}}, err
	}
	// Each piece has alternatives; a candidate takes the same alternative of each, or the last that there is.
	var pieces [][]edit
	most := 0
	for _, c := range changes {
		alternatives, err := t.restore(c)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", c.Kind, c.Name, err)
		}
		pieces = append(pieces, alternatives)
		most = max(most, len(alternatives))
	}
	var all []Candidate
	for n := range min(most, mostCandidates) {
		var edits []edit
		for _, alternatives := range pieces {
			edits = append(edits, alternatives[min(n, len(alternatives)-1)])
		}
		content, err := t.apply(edits)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(all, func(c Candidate) bool { return bytes.Equal(c.Content, content) }) {
			all = append(all, Candidate{File: t.place.File, Before: t.source, Content: content})
		}
	}
	return all, nil
}

// mostCandidates bounds the candidates for one test.
const mostCandidates = 4

// restore returns the edits, of which each restores a piece of state.
func (t *Test) restore(c hunt.Change) ([]edit, error) {
	switch c.Kind {
	case hunt.Variable:
		return t.restoreVariable(c)
	case hunt.Environment:
		return t.restoreEnvironment(c.Name), nil
	case hunt.Folder:
		return t.restoreFolder(), nil
	case hunt.File:
		return t.restoreFile(c)
	case hunt.Signal:
		return t.restoreSignal(c)
	case hunt.Setting:
		if s, known := settings[c.Name]; known {
			return []edit{t.snippet(s)}, nil
		}
	}
	return nil, fmt.Errorf("a %s is not restored by a patch", c.Kind)
}

// lines returns an edit that adds lines to the test: right before the statement of its body that first mentions a name,
// or at its beginning.
func (t *Test) lines(mention string, imports []string, text ...string) edit {
	brace := t.offset(t.decl.Body.Lbrace) + 1
	added := "\n\t" + strings.Join(text, "\n\t")
	s := t.statement(mention)
	if s == nil {
		s = t.statement("")
	}
	if s == nil {
		return edit{brace, brace, added, imports}
	}
	if at := t.lineStart(t.offset(t.withComment(s))) - 1; at >= brace {
		return edit{at, at, added, imports}
	}
	return edit{brace, brace, added + "\n", imports} // the body is on one line
}

// withComment returns where a statement begins, or the comment that ends on the line before it.
func (t *Test) withComment(s ast.Stmt) token.Pos {
	line := t.pkg.Fset.Position(s.Pos()).Line
	for _, c := range t.file.Comments {
		if c.Pos() > t.decl.Body.Lbrace && t.pkg.Fset.Position(c.End()).Line == line-1 {
			return c.Pos()
		}
	}
	return s.Pos()
}

// statement returns the first statement of the test's body that mentions a name or, without a name, the first that is no
// call of Parallel or Helper; nil if there is none.
func (t *Test) statement(mention string) ast.Stmt {
	for _, s := range t.decl.Body.List {
		if mention == "" {
			if t.prepares(s) {
				continue
			}
			return s
		}
		found := false
		ast.Inspect(s, func(n ast.Node) bool {
			id, ok := n.(*ast.Ident)
			found = found || ok && id.Name == mention
			return !found
		})
		if found {
			return s
		}
	}
	return nil
}

// prepares reports whether a statement calls Parallel or Helper of the test.
func (t *Test) prepares(s ast.Stmt) bool {
	e, ok := s.(*ast.ExprStmt)
	if !ok {
		return false
	}
	call, ok := e.X.(*ast.CallExpr)
	return ok && (t.calls(call, t.handle, "Parallel") || t.calls(call, t.handle, "Helper"))
}

// calls reports whether a call is receiver.method(…).
func (t *Test) calls(call *ast.CallExpr, receiver, method string) bool {
	selector, ok := call.Fun.(*ast.SelectorExpr)
	if !ok || selector.Sel.Name != method {
		return false
	}
	id, ok := selector.X.(*ast.Ident)
	return ok && id.Name == receiver
}

func (t *Test) offset(p token.Pos) int { return t.pkg.Fset.Position(p).Offset }

// lineStart returns the offset at which the line of an offset begins.
func (t *Test) lineStart(at int) int { return strings.LastIndexByte(string(t.source[:at]), '\n') + 1 }

// freshOld returns a name for the saved value of a variable.
func (t *Test) freshOld(name string) string {
	return t.fresh("old" + strings.ToUpper(name[:1]) + name[1:])
}

// fresh returns a name for a variable that the test does not use yet.
func (t *Test) fresh(name string) string {
	used := map[string]bool{}
	ast.Inspect(t.decl, func(n ast.Node) bool {
		if id, ok := n.(*ast.Ident); ok {
			used[id.Name] = true
		}
		return true
	})
	free := name
	for n := 2; used[free] || types.Universe.Lookup(free) != nil || t.pkg.Types.Scope().Lookup(free) != nil; n++ {
		free = fmt.Sprint(name, n)
	}
	return free
}
