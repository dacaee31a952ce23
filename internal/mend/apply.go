package mend

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"slices"
	"strconv"

	"golang.org/x/tools/go/ast/astutil"
)

// apply returns the source with edits. If the source is formatted, so is the result.
func (t *Test) apply(edits []edit) ([]byte, error) {
	edits = slices.Clone(edits)
	slices.SortStableFunc(edits, func(a, b edit) int { return b.from - a.from })
	source := slices.Clone(t.source)
	var imports []string
	for i, e := range edits {
		if i > 0 && e.to > edits[i-1].from {
			return nil, fmt.Errorf("two changes of %s meet in one place", t.place.Function)
		}
		source = slices.Concat(source[:e.from], []byte(e.text), source[e.to:])
		imports = append(imports, e.imports...)
	}
	source, err := withImports(t.place.File, source, imports)
	if err != nil {
		return nil, err
	}
	if formatted, err := format.Source(t.source); err != nil || !bytes.Equal(formatted, t.source) {
		return source, nil // its author formats it otherwise
	}
	return format.Source(source)
}

// withImports adds the imports that a source needs, and removes that of package os if nothing uses it any more.
func withImports(name string, source []byte, needed []string) ([]byte, error) {
	fset := token.NewFileSet()
	file, err := parser.ParseFile(fset, name, source, parser.ParseComments)
	if err != nil {
		return nil, err
	}
	changed := false
	for _, path := range needed {
		if !imports(file, path) {
			changed = astutil.AddImport(fset, file, path) || changed
		}
	}
	if imports(file, "os") && !astutil.UsesImport(file, "os") {
		changed = astutil.DeleteImport(fset, file, "os") || changed
	}
	if !changed {
		return source, nil
	}
	var out bytes.Buffer
	if err := format.Node(&out, fset, file); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// imports reports whether a file imports a package under its own name.
func imports(file *ast.File, path string) bool {
	return slices.ContainsFunc(file.Imports, func(spec *ast.ImportSpec) bool {
		value, err := strconv.Unquote(spec.Path.Value)
		return err == nil && value == path && spec.Name == nil
	})
}
