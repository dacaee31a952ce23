package mend

import (
	"errors"
	"go/ast"
	"go/token"
	"go/types"
	"slices"

	"fernrelay/core/hunt"
)

// errByHand says that a value cannot be set up by a change.
var errByHand = errors.New("its value cannot be written as a constant, and the other test does not set it in a statement that can be copied: set it up by hand")

// borrowed is the statements with which another test sets a variable.
type borrowed struct {
	lines   []string
	imports []string
	whole   bool // one of them assigns to the variable itself, not to a part of it
}

// borrow returns the statements with which the last of the others that does so sets the variable of a change.
func (t *Test) borrow(c hunt.Change, others func() ([]*Test, error)) (borrowed, error) {
	tests, err := others()
	if err != nil {
		return borrowed{}, err
	}
	for _, other := range slices.Backward(tests) {
		if other.pkg.PkgPath != t.pkg.PkgPath {
			continue
		}
		v, _, _, err := other.find(c)
		if err != nil {
			continue
		}
		if b, ok := other.settings(v); ok {
			b.imports, ok = t.known(b.imports, other)
			if ok {
				return b, nil
			}
		}
	}
	return borrowed{}, errByHand
}

// known returns those imports that the test's file lacks; ok is false if it knows one of them by another name.
func (t *Test) known(imports []string, other *Test) (lacks []string, ok bool) {
	for _, path := range imports {
		imported := other.pkg.Imports[path]
		if imported == nil { // as for a vendored package, whose path is another
			return nil, false
		}
		name := imported.Types.Name()
		theirs, _ := other.qualifier(path, name)
		ours, has := t.qualifier(path, name)
		if ours != theirs {
			return nil, false
		}
		if !has {
			lacks = append(lacks, path)
		}
	}
	return lacks, true
}

// settings returns the statements of the test that set a variable or a part of it; ok is false if there are none, or if one
// of them uses a variable of the test.
func (t *Test) settings(v *types.Var) (b borrowed, ok bool) {
	for _, s := range t.decl.Body.List {
		sets, whole := t.sets(s, v)
		if !sets {
			continue
		}
		imports, alone := t.outside(s)
		if !alone {
			return b, false
		}
		b.lines = append(b.lines, string(t.source[t.offset(s.Pos()):t.offset(s.End())]))
		b.imports = append(b.imports, imports...)
		b.whole = b.whole || whole
	}
	return b, b.lines != nil
}

// sets reports whether a statement sets a variable or a part of it, and whether it sets the whole of it.
func (t *Test) sets(s ast.Stmt, v *types.Var) (sets, whole bool) {
	switch s := s.(type) {
	case *ast.AssignStmt:
		if len(s.Lhs) == 1 && s.Tok != token.DEFINE {
			return t.root(s.Lhs[0]) == v, t.uses(s.Lhs[0]) == v
		}
	case *ast.IncDecStmt:
		return t.root(s.X) == v, t.uses(s.X) == v
	case *ast.ExprStmt: // delete and clear
		if call, ok := s.X.(*ast.CallExpr); ok && len(call.Args) > 0 {
			_, builtin := t.uses(call.Fun).(*types.Builtin)
			return builtin && t.root(call.Args[0]) == v, false
		}
	}
	return false, false
}

// root returns the object at the beginning of an expression such as beds["north"].rate.
func (t *Test) root(e ast.Expr) types.Object {
	for {
		o := t.uses(e)
		if v, isVar := o.(*types.Var); o != nil && !(isVar && v.IsField()) {
			return o
		}
		switch x := e.(type) {
		case *ast.IndexExpr:
			e = x.X
		case *ast.SelectorExpr:
			e = x.X
		case *ast.StarExpr:
			e = x.X
		case *ast.ParenExpr:
			e = x.X
		default:
			return nil
		}
	}
}

// uses returns the object that a name refers to, which may be qualified by a package; nil for any other expression.
func (t *Test) uses(e ast.Expr) types.Object {
	switch e := e.(type) {
	case *ast.Ident:
		return t.pkg.TypesInfo.Uses[e]
	case *ast.SelectorExpr:
		return t.pkg.TypesInfo.Uses[e.Sel]
	}
	return nil
}

// outside returns the packages that a statement names; alone is false if it uses a variable of the test.
func (t *Test) outside(s ast.Stmt) (imports []string, alone bool) {
	alone = true
	ast.Inspect(s, func(n ast.Node) bool {
		id, ok := n.(*ast.Ident)
		if !ok {
			return true
		}
		switch o := t.pkg.TypesInfo.Uses[id].(type) {
		case *types.PkgName:
			imports = append(imports, o.Imported().Path())
		case *types.Var:
			within := s.Pos() <= o.Pos() && o.Pos() < s.End()
			alone = alone && (o.IsField() || within || o.Parent() == o.Pkg().Scope())
		}
		return true
	})
	return imports, alone
}
