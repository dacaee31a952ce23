package mend

import (
	"errors"
	"fmt"
	"go/ast"
	"go/constant"
	"path/filepath"

	"fernrelay/core/hunt"
)

// restoreEnvironment returns edits that restore a variable of the environment: the test's own way to set it in place of
// that of package os, or a copy.
func (t *Test) restoreEnvironment(name string) []edit {
	quoted := fmt.Sprintf("%q", name)
	saved := t.lines("", []string{"os"},
		fmt.Sprintf("if old, ok := os.LookupEnv(%s); ok {", quoted),
		fmt.Sprintf("\t%s.Cleanup(func() { os.Setenv(%s, old) })", t.handle, quoted),
		"} else {",
		fmt.Sprintf("\t%s.Cleanup(func() { os.Unsetenv(%s) })", t.handle, quoted), "}")
	return t.orOwn("Setenv", func(args []ast.Expr) bool { return len(args) == 2 && t.constantOf(args[0]) == name }, saved)
}

// restoreFolder returns edits that restore the working folder.
func (t *Test) restoreFolder() []edit {
	saved := t.lines("", []string{"os"},
		"if old, err := os.Getwd(); err == nil {", fmt.Sprintf("\t%s.Cleanup(func() { os.Chdir(old) })", t.handle), "}")
	return t.orOwn("Chdir", func(args []ast.Expr) bool { return len(args) == 1 }, saved)
}

// orOwn returns an edit, after one that calls a method of the test in place of the function of package os with its name, if
// the body has one call of that with matching arguments and the test may call the method.
func (t *Test) orOwn(function string, match func(args []ast.Expr) bool, saved edit) []edit {
	var own []edit
	for _, s := range t.decl.Body.List {
		if call, whole := t.onlyCall(s, function); call != nil && match(call.Args) {
			own = append(own, t.ownCall(s, call, whole, function))
		}
	}
	if len(own) == 1 && !t.parallel() {
		return []edit{own[0], saved}
	}
	return []edit{saved}
}

// signals are the names in package syscall of the signals of which the state says whether they are ignored.
var signals = map[string]string{"hangup": "SIGHUP", "interrupt": "SIGINT", "terminated": "SIGTERM", "broken pipe": "SIGPIPE"}

// restoreSignal returns edits with which a signal is no longer ignored.
func (t *Test) restoreSignal(c hunt.Change) ([]edit, error) {
	name, known := signals[c.Name]
	if !known || c.Before != hunt.Absent {
		return nil, errors.New("only a signal that the test begins to ignore is restored by a patch")
	}
	return []edit{t.lines("", []string{"os", "os/signal", "syscall"},
		t.handle+".Cleanup(func() { // Notify ends Ignore", "\tc := make(chan os.Signal, 1)",
		fmt.Sprintf("\tsignal.Notify(c, syscall.%s)", name), "\tsignal.Stop(c)", "})")}, nil
}

// restoreFile returns edits that remove a file which the test adds, or write its former content.
func (t *Test) restoreFile(c hunt.Change) ([]edit, error) {
	name := c.Name
	if !filepath.IsAbs(name) {
		below, err := filepath.Rel(filepath.Dir(t.place.File), filepath.Join(t.project, filepath.FromSlash(name)))
		if err != nil {
			return nil, err
		}
		name = filepath.ToSlash(below)
	}
	quoted := fmt.Sprintf("%q", name)
	switch {
	case filepath.IsAbs(name):
		return nil, errors.New("it is outside of the project: build its path from t.TempDir")
	case c.Before == hunt.Absent:
		return []edit{t.lines("", []string{"os"}, fmt.Sprintf("%s.Cleanup(func() { os.RemoveAll(%s) })", t.handle, quoted))}, nil
	}
	return []edit{t.lines("", []string{"os"},
		fmt.Sprintf("if old, err := os.ReadFile(%s); err == nil {", quoted),
		fmt.Sprintf("\t%s.Cleanup(func() { os.WriteFile(%s, old, 0o644) })", t.handle, quoted), "}")}, nil
}

// onlyCall returns the call of a function of package os that a statement consists of. whole reports whether the
// statement is an if that only checks the error of the call.
func (t *Test) onlyCall(s ast.Stmt, function string) (call *ast.CallExpr, whole bool) {
	switch s := s.(type) {
	case *ast.ExprStmt:
		return t.osCall(s.X, function), false
	case *ast.IfStmt:
		if init, ok := s.Init.(*ast.AssignStmt); ok && len(init.Rhs) == 1 && s.Else == nil {
			return t.osCall(init.Rhs[0], function), true
		}
	}
	return nil, false
}

// ownCall returns an edit that calls a method of the test in place of a function of package os, which fails the test
// itself.
func (t *Test) ownCall(s ast.Stmt, call *ast.CallExpr, whole bool, method string) edit {
	from, to := t.offset(call.Fun.Pos()), t.offset(call.Fun.End())
	if !whole {
		return edit{from, to, t.handle + "." + method, nil}
	}
	arguments := string(t.source[to:t.offset(call.End())])
	return edit{t.offset(s.Pos()), t.offset(s.End()), t.handle + "." + method + arguments, nil}
}

// constantOf returns the constant text of an expression, "" if it is none.
func (t *Test) constantOf(e ast.Expr) string {
	value := t.pkg.TypesInfo.Types[e].Value
	if value == nil || value.Kind() != constant.String {
		return ""
	}
	return constant.StringVal(value)
}

// parallel reports whether the test calls Parallel, after which it may not set the environment or the working folder.
func (t *Test) parallel() bool {
	found := false
	ast.Inspect(t.decl, func(n ast.Node) bool {
		call, ok := n.(*ast.CallExpr)
		found = found || ok && t.calls(call, t.handle, "Parallel")
		return !found
	})
	return found
}
