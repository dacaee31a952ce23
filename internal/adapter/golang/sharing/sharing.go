// Package sharing reads Go sources to find which tests may share state: one changes a package-level variable, or what the process
// has set, and another reads it. A hunt need not try orders of tests that share nothing.
//
//	module := sharing.Module{FolderOf: folderOf}
//	shares := module.Of("valves", []string{"TestOpen", "TestDrip"})
//	if shares[0].Has(1) {
//		// TestOpen may change what TestDrip reads.
//	}
package sharing

import (
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"fernrelay/core/catalog"
	"fernrelay/internal/adapter/golang/source"
)

// Module reads the sources of a module's packages. Its methods may be called from several goroutines.
type Module struct {
	FolderOf func(quoted string) (dir string, inside bool) // the folder of a quoted import path, if the module has it
	mu       sync.Mutex
	read     map[packageKey]*symbols // nil for what cannot be read
}

// packageKey is a package, with or without its tests.
type packageKey struct {
	dir   string
	tests bool
}

// Of returns for each test of a package the set of those, by index, that may read a package-level variable, or what the process
// has set, which it may change; nil if the sources cannot be read. The names are of the tests' functions.
//
// It looks at names only, of everything that a test calls in its package and in the packages of the module that it imports, so it
// may see more than there is. With
//
//	func TestOpen(t *testing.T)  { valves.Limit = 3 }
//	func TestDrip(t *testing.T)  { drip() } // which reads valves.Limit
//	func TestLight(t *testing.T) {}
//
// the set of TestOpen has TestDrip, and the others are empty.
func (m *Module) Of(dir string, names []string) []catalog.Set {
	s := newSymbols()
	s.imports[dir] = true // also by its external tests
	if !m.include(s, dir, true) {
		return nil
	}
	functions := make([]string, len(names))
	for i, name := range names {
		functions[i] = path.Join(dir, name)
	}
	effects := s.effectsOf(functions)
	readers := map[int]catalog.Set{} // by variable
	for i, e := range effects {
		for variable := range e.reads.All {
			if readers[variable] == nil {
				readers[variable] = catalog.NewSet(len(names))
			}
			readers[variable].Add(i)
		}
	}
	shares := make([]catalog.Set, len(names))
	for i, e := range effects {
		shares[i] = catalog.NewSet(len(names))
		for variable := range e.changes.All {
			if readers[variable] != nil {
				shares[i].Or(readers[variable])
			}
		}
	}
	return shares
}

// symbols are the functions and package-level variables of packages. A symbol is the folder, or outside of the module the
// import path, and the name; a method is a dot and its name only, as the types are not known.
type symbols struct {
	imports   map[string]bool     // folders of packages of the module
	variables map[string]bool     // of the module, those outside that it assigns, and the kinds of processState
	uses      map[string][]string // by function: the symbols that it mentions
	changes   map[string][]change // by function
	changing  map[string]bool     // by method: it may change its receiver
}

func newSymbols() *symbols {
	return &symbols{imports: map[string]bool{}, variables: map[string]bool{}, uses: map[string][]string{}, changes: map[string][]change{}, changing: map[string]bool{}}
}

// include adds to s the symbols of a package, with or without its tests, and of all packages of the module that it imports, over
// any number of others; false if it cannot be read.
func (m *Module) include(s *symbols, dir string, tests bool) bool {
	p := m.symbolsOf(dir, tests)
	if p == nil {
		return false
	}
	maps.Copy(s.variables, p.variables)
	for name, used := range p.uses {
		s.uses[name] = append(s.uses[name], used...)
		s.changes[name] = append(s.changes[name], p.changes[name]...)
	}
	for imported := range p.imports {
		if !s.imports[imported] {
			s.imports[imported] = true
			m.include(s, imported, false) // what cannot be read shares nothing
		}
	}
	return true
}

// symbolsOf returns the symbols of one package, nil if it cannot be read. It keeps them, as many packages import the same.
func (m *Module) symbolsOf(dir string, tests bool) *symbols {
	m.mu.Lock()
	defer m.mu.Unlock()
	key := packageKey{dir, tests}
	s, known := m.read[key]
	if known {
		return s
	}
	if s = newSymbols(); m.readPackage(s, dir, tests) != nil {
		s = nil
	}
	if m.read == nil {
		m.read = map[packageKey]*symbols{}
	}
	m.read[key] = s
	return s
}

// change is something that a function may change: a symbol, if it calls a method on it only if that changes its receiver.
type change struct{ symbol, method string }

// receiver is the symbol of what a method changes in its receiver.
const receiver = "the receiver"

// processState are functions of the standard library that change or read what the process has set.
var processState = map[string]string{
	"os/Setenv": "environment", "os/Unsetenv": "environment", "os/Clearenv": "environment", "os/Getenv": "environment",
	"os/LookupEnv": "environment", "os/Environ": "environment", "os/ExpandEnv": "environment", "os/Chdir": "folder", "os/Getwd": "folder",
	"log/SetOutput": "log", "log/SetFlags": "log", "log/SetPrefix": "log", "log/Print": "log", "log/Printf": "log", "log/Println": "log",
	"log/slog/SetDefault": "log", "log/slog/Default": "log", "flag/Set": "flags", "flag/Lookup": "flags",
}

// changingVerbs begin the names of methods that change their receiver, in packages that are not read.
var changingVerbs = []string{"Add", "Chdir", "Clear", "Compare", "Del", "Do", "Handle", "Init", "Load", "Or", "Pop", "Push", "Put", "Register", "Remove", "Reset", "Set", "Store", "Swap", "Unset", "Write"}

// readPackage adds to s the declarations of a package.
func (m *Module) readPackage(s *symbols, dir string, tests bool) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, entry := range entries {
		name := entry.Name()
		if !strings.HasSuffix(name, ".go") || name[0] == '_' || name[0] == '.' || strings.HasSuffix(name, "_test.go") && !tests {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), filepath.Join(dir, name), nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		if err := m.add(s, dir, file); err != nil {
			return err
		}
	}
	return nil
}

// add adds the declarations of a file.
func (m *Module) add(s *symbols, dir string, file *ast.File) error {
	imports := map[string]string{} // by the name in the file
	for _, spec := range file.Imports {
		from, err := strconv.Unquote(spec.Path.Value)
		if err != nil {
			return err
		}
		name := path.Base(from)
		if folder, inside := m.FolderOf(spec.Path.Value); inside {
			from = folder
			s.imports[folder] = true
		}
		if spec.Name != nil {
			name = spec.Name.Name
		}
		imports[name] = from
	}
	for _, declaration := range file.Decls {
		switch d := declaration.(type) {
		case *ast.GenDecl:
			if d.Tok == token.VAR {
				for _, name := range source.VariableNames(d) {
					s.variables[path.Join(dir, name.Name)] = true
				}
			}
		case *ast.FuncDecl:
			if d.Body != nil {
				s.function(scope{dir, imports, receiverName(d)}, d)
			}
		}
	}
	return nil
}

func receiverName(d *ast.FuncDecl) string {
	if d.Recv == nil || len(d.Recv.List[0].Names) == 0 {
		return ""
	}
	return d.Recv.List[0].Names[0].Name
}

// scope is what names mean in a function.
type scope struct {
	dir      string
	imports  map[string]string
	receiver string
}

// symbol returns the symbol of an identifier, or of a name selected from one.
func (in scope) symbol(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.Ident:
		if e.Name == in.receiver {
			return receiver
		}
		return path.Join(in.dir, e.Name)
	case *ast.SelectorExpr:
		if x, ok := e.X.(*ast.Ident); ok && in.imports[x.Name] != "" {
			return path.Join(in.imports[x.Name], e.Sel.Name)
		}
		return "." + e.Sel.Name
	}
	return ""
}

// root returns the symbol of the variable in which an expression is: cells in cells.rows[3].
func (in scope) root(e ast.Expr) string {
	for {
		switch x := e.(type) {
		case *ast.IndexExpr:
			e = x.X
		case *ast.StarExpr:
			e = x.X
		case *ast.ParenExpr:
			e = x.X
		case *ast.SliceExpr:
			e = x.X
		case *ast.SelectorExpr:
			if from, ok := x.X.(*ast.Ident); ok && in.imports[from.Name] != "" {
				return in.symbol(x)
			}
			e = x.X
		default:
			return in.symbol(e)
		}
	}
}

// function adds what a function mentions and may change.
func (s *symbols) function(in scope, d *ast.FuncDecl) {
	name := path.Join(in.dir, d.Name.Name)
	if d.Recv != nil {
		name = "." + d.Name.Name
	}
	use := func(e ast.Expr) {
		symbol := in.symbol(e)
		if state := processState[symbol]; state != "" {
			symbol, s.variables[state] = state, true
		}
		s.uses[name] = append(s.uses[name], symbol)
	}
	assign := func(e ast.Expr) {
		symbol := in.root(e)
		if symbol != "" && symbol != receiver && !filepath.IsAbs(symbol) {
			s.variables[symbol] = true
		}
		s.changes[name] = append(s.changes[name], change{symbol: symbol})
	}
	ast.Inspect(d.Body, func(node ast.Node) bool {
		switch n := node.(type) {
		case *ast.Ident:
			use(n)
		case *ast.SelectorExpr:
			use(n)
		case *ast.AssignStmt:
			if n.Tok != token.DEFINE {
				for _, e := range n.Lhs {
					assign(e)
				}
			}
		case *ast.IncDecStmt:
			assign(n.X)
		case *ast.UnaryExpr:
			if n.Op == token.AND {
				s.changes[name] = append(s.changes[name], change{symbol: in.root(n.X)})
			}
		case *ast.CallExpr:
			s.changes[name] = append(s.changes[name], in.call(n))
		}
		return true
	})
}

// call returns what a call may change: what its method is called on, the first argument of delete or clear, or what the
// process has set.
func (in scope) call(call *ast.CallExpr) change {
	switch f := call.Fun.(type) {
	case *ast.Ident:
		if (f.Name == "delete" || f.Name == "clear") && len(call.Args) > 0 {
			return change{symbol: in.root(call.Args[0])}
		}
	case *ast.SelectorExpr:
		symbol := in.symbol(f)
		if symbol[0] == '.' {
			return change{in.root(f.X), symbol}
		}
		if changesByName(f.Sel.Name) {
			return change{symbol: processState[symbol]}
		}
	}
	return change{}
}

func changesByName(name string) bool {
	return slices.ContainsFunc(changingVerbs, func(verb string) bool { return strings.HasPrefix(name, verb) })
}

// effects are the variables that a function reads and may change, itself or in what it calls, by their numbers.
type effects struct{ reads, changes catalog.Set }

// effectsOf returns the effects of functions, in their order.
func (s *symbols) effectsOf(functions []string) []effects {
	w := &walk{symbols: s, number: make(map[string]int, len(s.variables)), of: map[string]effects{}, calls: map[string][]string{}}
	for variable := range s.variables {
		w.number[variable] = len(w.number)
	}
	for _, function := range functions {
		w.visit(function)
	}
	w.spread()
	all := make([]effects, len(functions))
	for i, function := range functions {
		all[i] = w.of[function]
	}
	return all
}

// walk goes through functions and those that they call.
type walk struct {
	*symbols
	number  map[string]int      // of variables
	of      map[string]effects  // by function
	calls   map[string][]string // by function
	visited []string            // each function behind those that it calls, unless they call it, too
}

// visit notes what a function and those that it calls do themselves.
func (w *walk) visit(function string) {
	if _, seen := w.of[function]; seen {
		return
	}
	e := effects{catalog.NewSet(len(w.number)), catalog.NewSet(len(w.number))}
	w.of[function] = e
	for _, symbol := range w.uses[function] {
		if n, ok := w.number[symbol]; ok {
			e.reads.Add(n)
		} else if w.uses[symbol] != nil {
			w.calls[function] = append(w.calls[function], symbol)
			w.visit(symbol)
		}
	}
	for _, c := range w.changes[function] {
		if n, ok := w.number[c.symbol]; ok && (c.method == "" || w.changesReceiver(c.method)) {
			e.changes.Add(n)
		}
	}
	w.visited = append(w.visited, function)
}

// spread adds to each function what those do that it calls, until nothing is added.
func (w *walk) spread() {
	for more := true; more; {
		more = false
		for _, function := range w.visited {
			e := w.of[function]
			before := e.reads.Len() + e.changes.Len()
			for _, other := range w.calls[function] {
				e.reads.Or(w.of[other].reads)
				e.changes.Or(w.of[other].changes)
			}
			more = more || e.reads.Len()+e.changes.Len() > before
		}
	}
}

// changesReceiver reports whether a method may change its receiver, itself or in the methods that it calls on it.
func (s *symbols) changesReceiver(method string) bool {
	known, ok := s.changing[method]
	if ok {
		return known
	}
	if s.uses[method] == nil {
		return changesByName(method[1:])
	}
	s.changing[method] = false // until it is known, for methods that call each other
	s.changing[method] = slices.ContainsFunc(s.changes[method], func(c change) bool {
		return c.symbol == receiver && (c.method == "" || s.changesReceiver(c.method))
	})
	return s.changing[method]
}
