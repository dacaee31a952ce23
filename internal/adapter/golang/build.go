package golang

import (
	"cmp"
	"context"
	"crypto/rand"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/lazy"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/owned"
)

// Prepare builds the test binaries of the picked tests' packages. The tests of a package that is not built are lost.
func (a *Adapter) Prepare(ctx context.Context, tests []*catalog.Test, progress func(what string)) error {
	_, err := a.Build(ctx, tests, nil, progress)
	return err
}

// Build is Prepare, and also builds packages without tests. As the toolchain does, it runs the binaries of those that have
// test files.
func (a *Adapter) Build(ctx context.Context, tests []*catalog.Test, bare []string, progress func(what string)) ([]adapter.Entry, error) {
	byTags := map[string][]string{}
	seen := map[variant]bool{}
	add := func(v variant) {
		if !seen[v] {
			seen[v] = true
			byTags[v.tags] = append(byTags[v.tags], v.group)
		}
	}
	for _, t := range tests {
		add(a.variantOf(t))
	}
	for _, group := range bare {
		add(variant{group, ""})
	}
	clear(a.failures)
	a.probing.Lock()
	clear(a.probes)
	a.probing.Unlock()
	for tags, groups := range byTags {
		for layer, members := range a.layers(groups) {
			dir := filepath.Join(a.Store, "binaries", fileName(tags), fmt.Sprint(layer))
			if err := a.build(ctx, tags, members, dir, progress); err != nil {
				return nil, err
			}
		}
	}
	entries := a.refused()
	for _, group := range bare {
		if binary := a.binaries[variant{group, ""}]; binary != "" && !slices.ContainsFunc(tests, func(t *catalog.Test) bool { return t.Group == group }) {
			progress("running " + a.Suite + ":" + group)
			entries = append(entries, a.runBare(ctx, binary, group)...)
		}
	}
	return entries, ctx.Err()
}

// refused returns an entry for each package that the toolchain refuses to build.
func (a *Adapter) refused() []adapter.Entry {
	byGroup := map[string]variant{}
	for v := range a.failures {
		if known, ok := byGroup[v.group]; !ok || v.tags < known.tags {
			byGroup[v.group] = v
		}
	}
	var entries []adapter.Entry
	for _, group := range slices.Sorted(maps.Keys(byGroup)) {
		words := a.failures[byGroup[group]]
		entry := adapter.Entry{Output: strings.Join(words, "\n")}
		entry.ID, entry.Outcome, entry.Failure = catalog.ID(a.Suite, group, run.BuildEntry), run.Errored, a.notBuilt(group, words)
		entries = append(entries, entry)
	}
	return entries
}

// layers deals groups out so that no two in a layer have binaries of one name,
// which the toolchain refuses to build together.
func (a *Adapter) layers(groups []string) [][]string {
	slices.Sort(groups)
	used := map[string]int{}
	var layers [][]string
	for _, group := range groups {
		name := binaryName(a.importPath(group))
		layer := used[name]
		used[name]++
		if layer == len(layers) {
			layers = append(layers, nil)
		}
		layers[layer] = append(layers[layer], group)
	}
	return layers
}

// versionElement is the last element of the path of a module of version 2 or later: the toolchain takes v0 and v1 for names.
var versionElement = lazy.Regexp(`^v([2-9]|[1-9][0-9]+)$`)

// binaryName returns the name that "go test -c" chooses for a package's binary, if it builds several.
func binaryName(importPath string) string {
	name := path.Base(importPath)
	if versionElement().MatchString(name) && path.Dir(importPath) != "." {
		name = path.Base(path.Dir(importPath))
	}
	return name + ".test"
}

// build makes one layer of binaries in dir, and notes which packages have none.
func (a *Adapter) build(ctx context.Context, tags string, groups []string, dir string, progress func(what string)) error {
	key, err := a.key(tags, groups)
	if err != nil {
		return err
	}
	said, made := &said{}, readStamp(dir)
	fresh := !made.holds(key) || a.missing(tags, groups, dir) != nil
	if fresh {
		reported := reportBuilt(a.Suite, dir, len(groups), progress)
		said, made, err = a.rebuild(ctx, tags, groups, dir, made, progress)
		reported()
		if err != nil {
			return err
		}
		made.Key = key
	}
	failed, missing := false, a.missing(tags, groups, dir)
	for _, group := range groups {
		v := variant{group, tags}
		delete(a.binaries, v)
		switch {
		case said.failed[a.importPath(group)] || slices.Contains(missing, group):
			a.failures[v] = said.wordsFor(a.importPath(group), group)
			failed = true
		case a.hasTestFiles(group, tags): // else a binary is of another package that was built here before
			a.binaries[v] = a.binaryFile(dir, group)
		}
	}
	if fresh && !failed {
		return made.write(dir)
	}
	return nil
}

// binaryFile returns the path of a group's binary in a folder.
func (a *Adapter) binaryFile(dir, group string) string {
	return filepath.Join(dir, binaryName(a.importPath(group)))
}

// missing returns the groups that have test files, and no binary in a folder.
func (a *Adapter) missing(tags string, groups []string, dir string) (without []string) {
	for _, group := range groups {
		if _, err := os.Stat(a.binaryFile(dir, group)); err != nil && a.hasTestFiles(group, tags) {
			without = append(without, group)
		}
	}
	return without
}

// hasTestFiles reports whether a build of a group with some tags holds a test file, so that there is a binary.
func (a *Adapter) hasTestFiles(group, tags string) bool {
	return slices.ContainsFunc(a.packages[group].files, func(f *testFile) bool { return f.here && strings.Join(f.tags, ",") == tags })
}

// builtEvery is the time between two reports of how far a build has come.
const builtEvery = 200 * time.Millisecond

// reportBuilt reports from time to time how many binaries of a layer are built, until the returned function is
// called.
func reportBuilt(suite, dir string, binaries int, progress func(what string)) (stop func()) {
	began := time.Now()
	ended, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		for {
			progress(fmt.Sprintf("building suite %s: %d of %d test binaries", suite, builtSince(dir, began), binaries))
			select {
			case <-ended:
				return
			case <-time.After(builtEvery):
			}
		}
	}()
	return func() {
		close(ended)
		<-stopped
	}
}

// builtSince counts the binaries in a folder that were written since a time.
func builtSince(dir string, since time.Time) int {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return 0 // it is not made yet
	}
	n := 0
	for _, entry := range entries {
		info, err := entry.Info()
		if err == nil && strings.HasSuffix(entry.Name(), ".test") && info.ModTime().After(since) {
			n++
		}
	}
	return n
}

// rebuild has the toolchain build a layer, and asks it meanwhile what that is made of. The toolchain leaves binaries alone that are
// up to date. If something fails, all of the layer is built again, so that no binary of an earlier build is used for a package that
// fails now.
//
// What a build reads is listed beside the build, not before it, as a list takes as long as a small build. Headers are the exception:
// the toolchain must be made to compile again before it starts. So the headers of the build before decide, and if the list
// then names other headers, it is built once more.
func (a *Adapter) rebuild(ctx context.Context, tags string, groups []string, dir string, before *stamp, progress func(what string)) (*said, *stamp, error) {
	began := time.Now()
	if err := a.removeBuilt(stampFile(dir)); err != nil {
		return nil, nil, err
	}
	overlay, hooked, err := a.writeOverlay(tags, "", groups, nil)
	if err != nil {
		return nil, nil, err
	}
	if !hooked {
		progress("this toolchain's testing package is new to Fern Relay: call stacks of suite " + a.Suite + " have one function more")
	}
	type listing struct {
		packages []listedPackage
		err      error
	}
	listed := make(chan listing, 1)
	go func() {
		packages, err := a.list(ctx, tags, overlay, groups)
		listed <- listing{packages, err}
	}()
	settings := a.headerSettings(before.Headers, stateOf(before.Headers, time.Time{}))
	compile := func() (*said, error) { return a.compile(ctx, tags, overlay, groups, dir, settings) }
	words, err := compile()
	of := <-listed
	made := &stamp{}
	if of.err == nil {
		made.Headers = a.headers(ctx, of.packages)
		made.Written = stateOf(made.Headers, began)
		if again := a.headerSettings(made.Headers, made.Written); !slices.Equal(again, settings) && ctx.Err() == nil {
			settings = again
			words, err = compile()
		}
		made.Sources = a.sources(of.packages)
		made.State = stateOf(made.Sources, began)
	}
	if !errors.Is(err, errNotBuilt) {
		return words, made, err
	}
	if err := a.removeBuilt(dir); err != nil {
		return nil, nil, err
	}
	if words, err = compile(); errors.Is(err, errNotBuilt) {
		err = nil
	}
	return words, made, err
}

// compile has the toolchain build the binaries of a layer. It builds a package again, by itself and with a name of ours, if the
// binary has not the name that we expect.
func (a *Adapter) compile(ctx context.Context, tags, overlay string, groups []string, dir string, settings []string) (*said, error) {
	apart := !a.NoVet && a.vetsApart()
	vets := !a.NoVet && !apart
	words, err := a.goTestC(ctx, tags, overlay, vets, groups, dir, settings)
	if words != nil && apart && a.vet(ctx, tags, groups, dir, words) {
		err = errNotBuilt
	}
	if err != nil {
		return words, err
	}
	for _, group := range a.missing(tags, groups, dir) {
		alone, err := a.goTestC(ctx, tags, overlay, vets, []string{group}, dir, settings, "-o", a.binaryFile(dir, group))
		if err != nil {
			return alone, err
		}
	}
	return words, nil
}

// headerSettings returns settings with which the toolchain compiles all C sources again if headers in other folders have another
// state, as it keeps no account of those. They define a name that no source uses.
func (a *Adapter) headerSettings(headers []place, state string) []string {
	if len(headers) == 0 {
		return nil
	}
	if state == "" {
		state = rand.Text() // it may have changed
	}
	return []string{strings.TrimSpace("CGO_CPPFLAGS="+a.setting("CGO_CPPFLAGS")) + " -DFERN_RELAY_HEADERS_" + state[:12]}
}

// makeFolder makes a folder below the store, none of whose parts may be a link.
func (a *Adapter) makeFolder(path string) error {
	if _, err := a.keepStore(); err != nil {
		return err
	}
	return a.inData(path, func(data *owned.Data, name string) error {
		_, err := data.MakeFolder(name)
		return err
	})
}

// removeBuilt removes a file or folder below the store. It is no error if there is none.
func (a *Adapter) removeBuilt(path string) error {
	err := a.inData(path, (*owned.Data).Remove)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// inData calls use with the open folder of the project's data and the name of a path in it.
func (a *Adapter) inData(path string, use func(data *owned.Data, name string) error) error {
	root := cmp.Or(a.Data, filepath.Dir(a.Store))
	name, err := filepath.Rel(root, path)
	if err != nil {
		return err
	}
	data, err := owned.OpenData(root)
	if err != nil {
		return err
	}
	return errors.Join(use(data, filepath.ToSlash(name)), data.Close())
}

// keepStore makes the folder that the store is in.
func (a *Adapter) keepStore() (string, error) {
	if a.Keep == nil {
		return a.Store, nil
	}
	return a.Keep()
}

func splitTags(tags string) []string {
	if tags == "" {
		return nil
	}
	return strings.Split(tags, ",")
}
