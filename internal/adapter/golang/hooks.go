package golang

import (
	_ "embed"
	"path/filepath"
	"strings"

	"fernrelay/core/lazy"
)

// A hook is a call in a function of the testing package, on the line of the statement that calls a test: so the lines of the
// package stay, and the stack of a test is the one that it always has.
type hook struct{ file, function, statement, hooked string }

var hooks = []hook{
	{"testing.go", "func tRunner(", "fn(t)", "fernRelayBegin(&t.common, t); fn(t)"},
	{"fuzz.go", "func fRunner(", "fn(f)", "fernRelayBegin(&f.common, f); fn(f)"},
	{"run_example.go", "func runExample(", "eg.F()", "fernRelayRun(eg.Name, false); eg.F(); fernRelayRun(eg.Name, true)"},
}

// hookedFields are the fields that the hooks read, as testing.go declares them.
var hookedFields = lazy.Regexp(`(?s)\n\tmu +sync\.RWMutex.*\n\tfinished +bool.*\n\tlevel +int`)

//go:embed generated/testing.go.tmpl
var hookSource string

// hookFile is the name under which what the hooks call joins the testing package.
const hookFile = "fern_relay.go"

// hookTesting generates the files of the testing package with hooks, and returns them by the paths that they replace. It returns
// nil if a statement is not found, as in the testing package of another toolchain: then the tests are called by the generated
// file.
func (a *Adapter) hookTesting() (map[string]string, error) {
	bin := a.bin()
	if bin == "" {
		return nil, nil
	}
	dir := filepath.Join(filepath.Dir(bin), "src", "testing")
	contents := map[string]string{hookFile: hookSource}
	for _, h := range hooks {
		source, err := a.read(filepath.Join(dir, h.file))
		if err != nil {
			return nil, nil
		}
		hooked, ok := h.in(string(source))
		if !ok || h.file == "testing.go" && !hookedFields().MatchString(hooked) {
			return nil, nil
		}
		contents[h.file] = hooked
	}
	return a.generateAll(dir, contents)
}

// generateAll writes the contents, by file name, and returns which file replaces which one of the folder.
func (a *Adapter) generateAll(dir string, contents map[string]string) (map[string]string, error) {
	replace := make(map[string]string, len(contents))
	for name, content := range contents {
		file, err := a.generate("testing_"+name, []byte(content))
		if err != nil {
			return nil, err
		}
		replace[filepath.Join(dir, name)] = file
	}
	return replace, nil
}

// in returns a source with the hook, if the function has its statement exactly once.
func (h hook) in(source string) (hooked string, ok bool) {
	start := strings.Index(source, "\n"+h.function)
	if start < 0 {
		return "", false
	}
	before, function := source[:start], source[start:]
	end := strings.Index(function, "\n}\n")
	if end < 0 || strings.Count(function[:end], "\n\t"+h.statement+"\n") != 1 {
		return "", false
	}
	return before + strings.Replace(function, "\n\t"+h.statement+"\n", "\n\t"+h.hooked+"\n", 1), true
}
