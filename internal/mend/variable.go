package mend

import (
	"errors"
	"fmt"
	"go/ast"
	"go/types"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/tools/go/packages"

	"fernrelay/core/hunt"
)

// restoreVariable returns edits that save a variable before the test and restore it after.
func (t *Test) restoreVariable(c hunt.Change) ([]edit, error) {
	if snippet, known := standard[c.Name]; known {
		return []edit{t.snippet(snippet)}, nil
	}
	v, expr, imports, err := t.find(c)
	if err != nil {
		return nil, err
	}
	_, name := splitName(c.Name)
	old := t.freshOld(name)
	if get, set := t.accessors(v, expr); get != "" {
		return []edit{t.lines("", imports, old+" := "+get+"()", fmt.Sprintf("%s.Cleanup(func() { %s(%s) })", t.handle, set, old))}, nil
	}
	if expr == "" {
		return nil, fmt.Errorf("%s is not exported, and its package has no function that sets it: restore it there", c.Name)
	}
	ways, err := copies(v.Type(), expr)
	if err != nil {
		return nil, err
	}
	var edits []edit
	for _, way := range ways {
		edits = append(edits, t.lines(name, append(way.imports, imports...), t.keep(old, way)...))
	}
	// What changes it may be in a function that is called earlier.
	last := ways[len(ways)-1]
	return append(edits, t.lines("", append(last.imports, imports...), t.keep(old, last)...)), nil
}

// keep returns the lines that save a value in a variable and restore it at the end of the test.
func (t *Test) keep(old string, c copying) []string {
	return []string{old + " := " + c.save, fmt.Sprintf("%s.Cleanup(func() { %s = %s })", t.handle, c.into, old)}
}

// splitName splits the name of a variable of a finding into the label of its package, "" if it has none, and its own name.
func splitName(full string) (label, name string) {
	dot := strings.LastIndexByte(full, '.')
	return full[:max(0, dot)], full[dot+1:]
}

// find returns the variable of a change and the expression that names it in the test's file, "" if that cannot.
func (t *Test) find(c hunt.Change) (v *types.Var, expr string, imports []string, err error) {
	label, name := splitName(c.Name)
	if v, ok := t.pkg.Types.Scope().Lookup(name).(*types.Var); ok && t.declares(v, c) {
		return v, name, nil, nil
	}
	for path, p := range t.pkg.Imports {
		if !t.isPackage(p, path, label, c) {
			continue
		}
		v, ok := p.Types.Scope().Lookup(name).(*types.Var)
		if !ok {
			return nil, "", nil, fmt.Errorf("%s has no variable %s", path, name)
		}
		qualifier, imported := t.qualifier(path, p.Types.Name())
		if !imported {
			imports = []string{path}
		}
		if !v.Exported() {
			return v, "", imports, nil
		}
		return v, qualifier + "." + name, imports, nil
	}
	return nil, "", nil, errors.New("the test's package does not import the one that has it")
}

// declares reports whether a variable is the one of a change, by its place.
func (t *Test) declares(v *types.Var, c hunt.Change) bool {
	at := t.pkg.Fset.Position(v.Pos())
	return at.Filename == filepath.Join(t.project, filepath.FromSlash(c.File)) && at.Line == c.Line
}

// isPackage reports whether an imported package has the variable of a change, by its folder or, outside the module, by its path.
func (t *Test) isPackage(p *packages.Package, path, label string, c hunt.Change) bool {
	if len(p.GoFiles) == 0 || c.File == "" {
		return path == label
	}
	return filepath.Dir(p.GoFiles[0]) == filepath.Join(t.project, filepath.FromSlash(filepath.Dir(c.File))) || path == label
}

// qualifier returns the name under which the test's file imports a package, and whether it does.
func (t *Test) qualifier(path, name string) (string, bool) {
	for _, spec := range t.file.Imports {
		if value, err := strconv.Unquote(spec.Path.Value); err != nil || value != path {
			continue
		}
		if spec.Name != nil && spec.Name.Name != "_" && spec.Name.Name != "." {
			return spec.Name.Name, true
		}
		if spec.Name == nil {
			return name, true
		}
	}
	return name, false
}

// accessors returns functions of a variable's package that get and set it, "" if there are none or the variable can be
// used itself.
func (t *Test) accessors(v *types.Var, expr string) (get, set string) {
	if expr != "" || v.Pkg() == nil {
		return "", ""
	}
	title := strings.ToUpper(v.Name()[:1]) + v.Name()[1:]
	qualifier, _ := t.qualifier(v.Pkg().Path(), v.Pkg().Name())
	setter, ok := v.Pkg().Scope().Lookup("Set" + title).(*types.Func)
	if !ok || !isSetter(setter, v.Type()) {
		return "", ""
	}
	for _, name := range []string{title, "Get" + title} {
		if getter, ok := v.Pkg().Scope().Lookup(name).(*types.Func); ok && isGetter(getter, v.Type()) {
			return qualifier + "." + name, qualifier + "." + setter.Name()
		}
	}
	return "", ""
}

func isSetter(f *types.Func, of types.Type) bool {
	s := f.Signature()
	return s.Params().Len() == 1 && s.Results().Len() == 0 && types.Identical(s.Params().At(0).Type(), of)
}

func isGetter(f *types.Func, of types.Type) bool {
	s := f.Signature()
	return s.Params().Len() == 0 && s.Results().Len() == 1 && types.Identical(s.Results().At(0).Type(), of)
}

// copying is a way to save a value and to restore it.
type copying struct {
	save, into string // expressions
	imports    []string
}

// copies returns the ways to save a value of a type, the likeliest first.
func copies(of types.Type, expr string) ([]copying, error) {
	if lock := lockIn(of, map[types.Type]bool{}); lock != "" {
		return nil, fmt.Errorf("it has a %s, which must not be copied", lock)
	}
	plain := copying{save: expr, into: expr}
	switch u := of.Underlying().(type) {
	case *types.Slice:
		return []copying{{"slices.Clone(" + expr + ")", expr, []string{"slices"}}}, nil
	case *types.Map:
		return []copying{{"maps.Clone(" + expr + ")", expr, []string{"maps"}}}, nil
	case *types.Pointer:
		if lockIn(u.Elem(), map[types.Type]bool{}) != "" {
			return []copying{plain}, nil
		}
		return []copying{plain, {"*" + expr, "*" + expr, nil}}, nil
	}
	return []copying{plain}, nil
}

// lockIn returns the name of a type of sync or sync/atomic that a value has in itself, "" if it has none.
func lockIn(of types.Type, seen map[types.Type]bool) string {
	if seen[of] {
		return ""
	}
	seen[of] = true
	if named, ok := of.(*types.Named); ok {
		if pkg := named.Obj().Pkg(); pkg != nil && (pkg.Path() == "sync" || pkg.Path() == "sync/atomic") {
			return pkg.Name() + "." + named.Obj().Name()
		}
	}
	switch u := of.Underlying().(type) {
	case *types.Struct:
		for i := range u.NumFields() {
			if lock := lockIn(u.Field(i).Type(), seen); lock != "" {
				return lock
			}
		}
	case *types.Array:
		return lockIn(u.Elem(), seen)
	}
	return ""
}

// snippet restores state of the standard library that has functions to get and set it.
type snippet struct {
	path    string   // of the package
	setters []string // its functions that change the state
	text    []string // %s is the test's handle
}

func (t *Test) snippet(s snippet) edit {
	var lines []string
	for _, line := range s.text {
		lines = append(lines, strings.ReplaceAll(line, "%s", t.handle))
	}
	return t.lines("", []string{s.path}, lines...)
}

// called returns the edits for state of the standard library that the test changes by calls, whether or not it is known
// to differ afterwards.
func (t *Test) called() (edits []edit) {
	for _, name := range slices.Sorted(maps.Keys(standard)) {
		s, calls := standard[name], false
		ast.Inspect(t.decl, func(n ast.Node) bool {
			id, ok := n.(*ast.Ident)
			if f, isFunc := t.pkg.TypesInfo.Uses[id].(*types.Func); ok && isFunc && f.Pkg() != nil {
				calls = calls || f.Pkg().Path() == s.path && f.Signature().Recv() == nil && slices.Contains(s.setters, f.Name())
			}
			return !calls
		})
		if calls {
			edits = append(edits, t.snippet(s))
		}
	}
	return edits
}

// standard has snippets by the name of the variable that they restore.
var standard = map[string]snippet{
	"log.std": {"log", []string{"SetOutput", "SetPrefix", "SetFlags"}, []string{
		"oldOutput, oldPrefix, oldFlags := log.Writer(), log.Prefix(), log.Flags()",
		"%s.Cleanup(func() {", "\tlog.SetOutput(oldOutput)", "\tlog.SetPrefix(oldPrefix)", "\tlog.SetFlags(oldFlags)", "})"}},
	"log/slog.defaultLogger": {"log/slog", []string{"SetDefault"}, []string{"oldLogger := slog.Default()", "%s.Cleanup(func() { slog.SetDefault(oldLogger) })"}},
}

// settings has snippets by the name of the setting that they restore.
var settings = map[string]snippet{
	"GOMAXPROCS": {path: "runtime", text: []string{"oldProcs := runtime.GOMAXPROCS(0)", "%s.Cleanup(func() { runtime.GOMAXPROCS(oldProcs) })"}},
	"log prefix": {path: "log", text: []string{"oldPrefix := log.Prefix()", "%s.Cleanup(func() { log.SetPrefix(oldPrefix) })"}},
	"log flags":  {path: "log", text: []string{"oldFlags := log.Flags()", "%s.Cleanup(func() { log.SetFlags(oldFlags) })"}},
	"log output": {path: "log", text: []string{"oldOutput := log.Writer()", "%s.Cleanup(func() { log.SetOutput(oldOutput) })"}},
}

// osCall returns a node as a call of a function of package os, nil if it is none.
func (t *Test) osCall(n ast.Node, function string) *ast.CallExpr {
	call, ok := n.(*ast.CallExpr)
	if !ok {
		return nil
	}
	selector, ok := call.Fun.(*ast.SelectorExpr)
	if !ok || selector.Sel.Name != function {
		return nil
	}
	if f, ok := t.pkg.TypesInfo.Uses[selector.Sel].(*types.Func); ok && f.Pkg() != nil && f.Pkg().Path() == "os" {
		return call
	}
	return nil
}
