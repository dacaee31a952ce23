package main

import (
	"encoding/json"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// forbidden reports whether one of our packages must not import another.
func forbidden(from, to string) bool {
	for _, rule := range []struct{ from, to []string }{
		{[]string{"internal/tui", "cmd"}, []string{"internal/adapter", "internal/engine", "internal/ledger"}},
		{[]string{"internal/report", "internal/draw"}, []string{"internal/app", "internal/hunting", "internal/workspace"}},
		{[]string{"internal/draw"}, []string{"internal/report"}},
		{[]string{"internal/adapter"}, []string{"internal/engine"}},
		{[]string{"internal/adapter"}, []string{"internal/service", "internal/fleet"}},
		{[]string{"internal/process"}, []string{"internal/adapter", "internal/project", "internal/service", "internal/engine", "internal/fleet"}},
		{[]string{"internal/service", "internal/project", "internal/doctor"}, []string{"internal/adapter"}},
		{[]string{"internal/fleet"}, []string{"internal/adapter", "internal/app", "internal/ledger", "internal/project", "internal/workspace"}},
		{[]string{"internal/owned"}, []string{"internal/adapter", "internal/project", "internal/ledger", "internal/engine"}},
		{[]string{"internal/engine"}, []string{"internal/fleet", "internal/app", "internal/ledger", "internal/report", "internal/draw"}},
	} {
		below := func(pkg string) func(folder string) bool {
			return func(folder string) bool { return pkg == folder || strings.HasPrefix(pkg, folder+"/") }
		}
		if slices.ContainsFunc(rule.from, below(from)) && slices.ContainsFunc(rule.to, below(to)) {
			return true
		}
	}
	return false
}

// TestImports holds the rules of the house: core computes and nothing else, nobody imports the screen or the
// command, screen and command reach the engine and the ledger through the use cases, and no two folders import
// each other.
func TestImports(t *testing.T) {
	const module = "fernrelay/"
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	cmd.Dir = "../.."
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	imports := map[string][]string{} // own packages, without the module
	for decoder := json.NewDecoder(out); ; {
		var p struct {
			ImportPath string
			Imports    []string
		}
		err := decoder.Decode(&p)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		from := strings.TrimPrefix(p.ImportPath, module)
		for _, to := range p.Imports {
			own, isOwn := strings.CutPrefix(to, module)
			switch {
			case !isOwn && strings.HasPrefix(from, "core/") && strings.Contains(to, ".") && !strings.HasPrefix(to, "gonum.org/"):
				t.Errorf("%s imports %s: core imports the standard library, gonum and itself", from, to)
			case isOwn && strings.HasPrefix(from, "core/") && !strings.HasPrefix(own, "core/"):
				t.Errorf("%s imports %s: core imports nothing outside of core", from, own)
			case isLeg(from) && isLeg(own):
				t.Errorf("%s imports %s: what one leg asks of another is a message", from, own)
			case own == "internal/mend" && from != "internal/hunting":
				t.Errorf("%s imports %s: hunts try patches", from, own)
			case isOwn && forbidden(from, own):
				t.Errorf("%s imports %s", from, own)
			case isOwn && (own == "internal/tui" || strings.HasPrefix(own, "cmd/")) && !strings.HasPrefix(from, "cmd/"):
				t.Errorf("%s imports %s: nobody imports the screen or the command", from, own)
			}
			if isOwn {
				imports[from] = append(imports[from], own)
			}
		}
	}
	if err := cmd.Wait(); err != nil {
		t.Fatal(err)
	}
	folders := map[string][]string{}
	for from, all := range imports {
		for _, to := range all {
			if path.Dir(from) != path.Dir(to) {
				folders[path.Dir(from)] = append(folders[path.Dir(from)], path.Dir(to))
			}
		}
	}
	for from, all := range folders {
		for _, to := range all {
			if slices.Contains(folders[to], from) && from < to && !within(from, to) {
				t.Errorf("the folders %s and %s import each other", from, to)
			}
		}
	}
}

// isLeg reports whether a package is a leg of the screen.
func isLeg(pkg string) bool {
	name, below := strings.CutPrefix(pkg, "internal/tui/")
	return below && name != "screen" && name != "leg"
}

// within reports whether one folder holds the other, as a package holds its helpers.
func within(a, b string) bool { return strings.HasPrefix(b, a+"/") || strings.HasPrefix(a, b+"/") }

// destroyers are the functions that remove, move away, truncate or kill, and those that find what to do that to.
var destroyers = []string{"os.Remove", "os.RemoveAll", "os.Rename", "os.Truncate", "os.OpenRoot", "os.FindProcess", "filepath.Glob", "fs.Glob", "syscall.Kill", "syscall.Unlink", "syscall.Rmdir", "syscall.Rename", "syscall.Truncate",
	"unix.Kill", "unix.PidfdSendSignal", "unix.Unlink", "unix.Unlinkat", "unix.Rmdir", "unix.Rename", "unix.Renameat", "unix.Renameat2", "unix.Truncate"}

// mayDestroy names the exceptions outside of internal/owned, and why they are ones.
var mayDestroy = map[string]string{
	"internal/app/reportfiles.go filepath.Glob":                     "finds the reports that a pattern of the user names, to read them",
	"internal/project/source.go os.OpenRoot":                        "opens the project to read sources",
	"internal/demo/glasshouse/ledger-book/ledger-book.go os.Remove": "is a test of the demo that removes its own lock",
}

// TestOnlyOwnedDestroys holds that internal/owned is the only place that removes, moves away or kills for clean-up.
func TestOnlyOwnedDestroys(t *testing.T) {
	used := map[string]bool{}
	err := filepath.WalkDir("../..", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") || strings.HasPrefix(name, "../../internal/owned/") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			selector, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			pkg, ok := selector.X.(*ast.Ident)
			if !ok || !slices.Contains(destroyers, pkg.Name+"."+selector.Sel.Name) {
				return true
			}
			call := strings.TrimPrefix(name, "../../") + " " + pkg.Name + "." + selector.Sel.Name
			if used[call] = true; mayDestroy[call] == "" {
				t.Errorf("%s: internal/owned does that, for what is proved to be ours", call)
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for call := range mayDestroy {
		if !used[call] {
			t.Errorf("%s is an exception that nobody needs", call)
		}
	}
}
