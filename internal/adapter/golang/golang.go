// Package golang finds and runs the tests of Go packages.
//
//	a := golang.New(golang.Config{Suite: "go", Root: root, Dir: root, Store: store})
//	found, err := a.Discover(ctx)
//
// It reads tests from source, so that listing builds nothing. The Go toolchain builds the picked packages into
// test binaries, in one invocation if their binaries have different names, and this package runs the binaries, one
// process per package and batch. The order inside a process is ours: a generated file joins each test package
// through the build's overlay and sorts the testing package's list of tests. Nothing is written into the project.
package golang

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/mod/modfile"

	"fernrelay/core/catalog"
	"fernrelay/internal/adapter"
	"fernrelay/internal/adapter/golang/sharing"
	"fernrelay/internal/process"
)

// Config is what a suite of Go packages needs to know.
type Config struct {
	Suite      string
	Root       string                 // the project's folder, absolute: paths of files are relative to it
	Dir        string                 // the suite's folder, absolute
	Store      string                 // the folder for generated files and binaries, absolute
	Data       string                 // the folder of the project's data, which Store is in; empty for the one above Store
	Keep       func() (string, error) // makes the folder that Store is in; nil to keep nothing of what is found
	BuildFlags []string               // for the build, such as -race
	Env        []string               // of the tests, as NAME=value: what the toolchain reads of it reaches the build
	NoVet      bool                   // build packages in which vet finds a mistake
	Args       []string               // for the test binaries, as "go test" takes them
	process.Limits
	Isolate catalog.Level // what one process holds: a test, or else a group
}

// Adapter finds and runs the tests of one suite of Go packages.
type Adapter struct {
	Config
	root     string               // the module's folder, absolute
	path     string               // the module's path
	module   string               // the same with the way down to Dir
	packages map[string]*gopkg    // by group
	targets  map[string]target    // by the test's ID
	cache    *cache               // of the present Discover
	nested   int                  // modules of their own that Discover passed by
	hidden   []string             // what has the name of a Go file and is none, such as a pipe, at which the toolchain would wait
	binaries map[variant]string   // what Prepare built
	failures map[variant][]string // the compiler's words, for packages that were not built
	bin      func() string        // returns the folder of the toolchain's programs, "" if it is not known
	probing  sync.Mutex           // guards probes
	probes   map[variant]string   // binaries that can report their state, built on demand
	looked   map[variant]string   // what those look at outside the module, in words
	sharing  *sharing.Module
	overlay  map[string]string // of the build flags: files by absolute path, and those that builds take in their place, "" for none
	replaced map[string]string // the same, of a trial with other sources
}

// variant is a package built with extra build tags, joined by commas.
type variant struct{ group, tags string }

// New makes the adapter for a folder inside a Go module.
func New(config Config) (*Adapter, error) {
	a := &Adapter{Config: config, binaries: map[variant]string{}, failures: map[variant][]string{}, probes: map[variant]string{}, looked: map[variant]string{}}
	if err := errors.Join(checkArgs(config.Args), a.readOverlay()); err != nil {
		return nil, err
	}
	a.bin, a.sharing = sync.OnceValue(a.toolchainBin), &sharing.Module{FolderOf: a.folderOf}
	for dir := config.Dir; ; dir = filepath.Dir(dir) {
		data, err := os.ReadFile(filepath.Join(dir, "go.mod"))
		if err == nil {
			a.root = dir
			below, _ := filepath.Rel(dir, config.Dir)
			a.path = modfile.ModulePath(data)
			a.module = strings.TrimSuffix(a.path+"/"+filepath.ToSlash(below), "/.")
			return a, nil
		}
		if dir == filepath.Dir(dir) {
			return nil, fmt.Errorf("%s is not inside a Go module: there is no go.mod in it or above it", config.Dir)
		}
	}
}

// Elsewhere returns an adapter for the same tests that builds with other flags and settings in another store.
func (a *Adapter) Elsewhere(store string, flags, env []string) (adapter.Varied, error) {
	return a.elsewhere(store, flags, env)
}

func (a *Adapter) elsewhere(store string, flags, env []string) (*Adapter, error) {
	config := a.Config
	config.Store, config.BuildFlags, config.Env = store, flags, env
	other := &Adapter{Config: config, root: a.root, path: a.path, module: a.module, packages: a.packages, targets: a.targets, nested: a.nested, hidden: a.hidden, bin: a.bin, sharing: a.sharing,
		binaries: map[variant]string{}, failures: map[variant][]string{}, probes: map[variant]string{}, looked: map[variant]string{}}
	return other, errors.Join(other.readOverlay(), other.reconsider())
}

// Source returns the name of the function of a test, and the flags with which it is built.
func (a *Adapter) Source(t *catalog.Test) (function string, flags []string) {
	target := a.targets[t.ID]
	return target.function, a.flagsWith(target.tags)
}

// WithSources returns an adapter for the same tests that builds with other contents of some files, by their absolute
// paths, in another store.
func (a *Adapter) WithSources(store string, contents map[string][]byte) (adapter.Adapter, error) {
	other, err := a.elsewhere(store, a.BuildFlags, a.Env)
	if err != nil {
		return nil, err
	}
	other.replaced = map[string]string{}
	for file, content := range contents {
		copied, err := other.generate(fmt.Sprintf("source%d_%s", len(other.replaced), filepath.Base(file)), content)
		if err != nil {
			return nil, err
		}
		other.replaced[file] = copied
	}
	return other, nil
}

// Scope is the group, as a test binary holds one package, unless each test has a process
// of its own.
func (a *Adapter) Scope() catalog.Level {
	return cmp.Or(a.Isolate, catalog.GroupLevel)
}

// Open makes a session. Its processes begin and end with each batch.
func (a *Adapter) Open(_ context.Context, slot process.Slot) (adapter.Session, error) {
	return &session{adapter: a, slot: slot}, nil
}

func (a *Adapter) variantOf(t *catalog.Test) variant {
	return variant{t.Group, a.targets[t.ID].tags}
}

// importPath is the path under which the toolchain knows a group.
func (a *Adapter) importPath(group string) string {
	if group == "." {
		return a.module
	}
	return a.module + "/" + group
}

// ownFlags are the flags of a test binary that Fern Relay sets itself.
var ownFlags = map[string]bool{"run": true, "skip": true, "v": true, "list": true, "bench": true, "fuzz": true,
	"shuffle": true, "count": true, "timeout": true, "failfast": true, "json": true}

// testFlags are flags that "go test" hands to the binary as -test.NAME.
var testFlags = map[string]bool{"short": true, "parallel": true, "cpu": true, "fullpath": true, "blockprofile": true,
	"blockprofilerate": true, "coverprofile": true, "cpuprofile": true, "memprofile": true, "memprofilerate": true,
	"mutexprofile": true, "mutexprofilefraction": true, "outputdir": true, "trace": true, "benchtime": true, "benchmem": true}

func flagName(arg string) string {
	if !strings.HasPrefix(arg, "-") {
		return ""
	}
	name, _, _ := strings.Cut(strings.TrimLeft(arg, "-"), "=")
	return name
}

func checkArgs(args []string) error {
	for _, arg := range args {
		if name := strings.TrimPrefix(flagName(arg), "test."); ownFlags[name] {
			return fmt.Errorf("args: %s is set by Fern Relay itself: remove it", arg)
		}
	}
	return nil
}

// binaryArgs returns the suite's arguments in the form that a test binary takes.
func (a *Adapter) binaryArgs() []string {
	var out []string
	for _, arg := range a.Args {
		if testFlags[flagName(arg)] {
			arg = "-test." + strings.TrimLeft(arg, "-")
		}
		out = append(out, arg)
	}
	return out
}
