package golang

import (
	"bytes"
	"cmp"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"text/template"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/lazy"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/owned"
)

//go:embed generated/order.go.tmpl
var orderSource string

var orderTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("order").Parse(orderSource))
})

// wrapper is the name under which an example runs as a test; the testing package's events about it are reported
// under the example's own name.
const wrapper = "FernRelayExample"

// orderFile is the name under which the generated file joins a package.
const orderFile = "fern_relay_order_test.go"

// Prepare builds the test binaries of the picked tests' packages. A package that
// does not compile fails when its tests are run.
func (a *Adapter) Prepare(ctx context.Context, tests []*catalog.Test, progress func(what string)) error {
	byTags := map[string][]string{}
	seen := map[variant]bool{}
	for _, t := range tests {
		v := a.variantOf(t)
		if !seen[v] {
			seen[v] = true
			byTags[v.tags] = append(byTags[v.tags], v.group)
		}
	}
	clear(a.failures)
	a.probing.Lock()
	clear(a.probes)
	a.probing.Unlock()
	for tags, groups := range byTags {
		for layer, members := range a.layers(groups) {
			dir := filepath.Join(a.Store, "binaries", fileName(tags), fmt.Sprint(layer))
			if err := a.build(ctx, tags, members, dir, progress); err != nil {
				return err
			}
		}
	}
	return nil
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

var versionElement = lazy.Regexp(`^v[0-9]+$`)

// binaryName returns the name that "go test -c" chooses for a package's binary.
func binaryName(importPath string) string {
	name := path.Base(importPath)
	if versionElement().MatchString(name) && path.Dir(importPath) != "." {
		name = path.Base(path.Dir(importPath))
	}
	return name + ".test"
}

// build makes one layer of binaries in dir, and notes which packages have none.
func (a *Adapter) build(ctx context.Context, tags string, groups []string, dir string, progress func(what string)) error {
	fingerprint, err := a.fingerprint(tags, groups)
	if err != nil {
		return err
	}
	var words map[string][]string
	if !upToDate(dir, fingerprint) {
		reported := reportBuilt(a.Suite, dir, len(groups), progress)
		words, err = a.rebuild(ctx, tags, groups, dir)
		reported()
		if err != nil {
			return err
		}
	}
	for _, group := range groups {
		v := variant{group, tags}
		file := filepath.Join(dir, binaryName(a.importPath(group)))
		if _, err := os.Stat(file); err == nil {
			a.binaries[v] = file
			continue
		}
		delete(a.binaries, v)
		a.failures[v] = a.wordsFor(group, words)
	}
	if words != nil && len(a.failures) == 0 && fingerprint != "" {
		return owned.WriteData(stampFile(dir), []byte(fingerprint))
	}
	return nil
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

// rebuild has the toolchain build a layer and returns its messages by import path. The toolchain leaves binaries
// alone that are up to date; if something fails, all of the layer is built again, so that no binary of an earlier
// build is used for a package that fails now.
func (a *Adapter) rebuild(ctx context.Context, tags string, groups []string, dir string) (map[string][]string, error) {
	if err := a.removeBuilt(stampFile(dir)); err != nil {
		return nil, err
	}
	overlay, err := a.writeOverlay(tags, "", groups, nil)
	if err != nil {
		return nil, err
	}
	words, err := a.goTestC(ctx, tags, overlay, !a.NoVet, groups, dir)
	if !errors.Is(err, errNotBuilt) {
		return words, err
	}
	if err := a.removeBuilt(dir); err != nil {
		return nil, err
	}
	if words, err = a.goTestC(ctx, tags, overlay, !a.NoVet, groups, dir); errors.Is(err, errNotBuilt) {
		err = nil
	}
	return words, err
}

// errNotBuilt says that the toolchain could not build all packages.
var errNotBuilt = errors.New("not all packages were built")

// goTestC runs one "go test -c", with the toolchain's default checks if vet is true, and returns its messages by import
// path.
func (a *Adapter) goTestC(ctx context.Context, tags, overlay string, vet bool, groups []string, dir string, flags ...string) (map[string][]string, error) {
	if err := a.makeFolder(dir); err != nil {
		return nil, err
	}
	args := []string{"test", "-c", "-json", "-overlay", overlay, "-o", dir + string(filepath.Separator)}
	args = slices.Concat(args, a.withoutDebug(), flags, a.flagsWith(tags)) // of two flags the last counts
	if !vet {
		args = append(args, "-vet=off")
	}
	for _, group := range groups {
		args = append(args, "./"+group)
	}
	var stdout, stderr bytes.Buffer
	err := a.toolchain(ctx, &stdout, &stderr, args...)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	words := map[string][]string{}
	decoder := json.NewDecoder(&stdout)
	for {
		var said struct{ ImportPath, Action, Output string }
		if decoder.Decode(&said) != nil {
			break
		}
		if said.Action == "build-output" {
			path, _, _ := strings.Cut(said.ImportPath, " ")
			words[path] = append(words[path], strings.TrimRight(said.Output, "\n"))
		}
	}
	if err == nil {
		return words, nil
	}
	if text := strings.TrimSpace(stderr.String()); text != "" {
		words[""] = strings.Split(text, "\n")
	}
	if len(words) == 0 {
		return nil, fmt.Errorf("cannot run the Go toolchain in %s: %w", a.Dir, err)
	}
	return words, errNotBuilt
}

// withoutDebug returns the flags that leave out what only a debugger reads, as the toolchain does when it runs tests itself:
// linking then takes half the time. It returns none if the suite asks for profiles, which need it, or has flags for the
// linker of its own.
func (a *Adapter) withoutDebug() []string {
	if slices.ContainsFunc(a.allFlags(), func(flag string) bool { return flagName(flag) == "ldflags" }) ||
		slices.ContainsFunc(a.Args, func(arg string) bool { return strings.HasSuffix(flagName(arg), "profile") }) {
		return nil
	}
	return []string{"-ldflags=-s -w"}
}

// flagsWith returns the suite's flags of a build with some tags more, joined by commas.
func (a *Adapter) flagsWith(tags string) []string {
	if tags == "" {
		return a.BuildFlags
	}
	return append(slices.Clone(a.BuildFlags), "-tags="+strings.Join(slices.Concat(a.flagTags(), splitTags(tags)), ","))
}

// toolchain runs the Go toolchain. Its temporary files are in the store, from where they are removed even after it
// or this process was killed.
func (a *Adapter) toolchain(ctx context.Context, stdout, stderr io.Writer, args ...string) error {
	record := adapter.BeginRecord()
	defer record.Close()
	cmd := adapter.Command(ctx, a.Dir, adapter.Slot{}.WithRecord(record), "go", args...)
	cmd.Stdout, cmd.Stderr = stdout, stderr
	if temp := filepath.Join(a.Store, "tmp"); a.makeFolder(temp) == nil {
		if folder, err := record.MakeFolder(temp); err == nil {
			cmd.Env = append(cmd.Env, "GOTMPDIR="+folder.Path())
			defer folder.Remove()
		}
	}
	return cmd.Run()
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

// wordsFor returns the toolchain's messages about a group's package; without any, those that name a file of it, as
// about a missing import; and else all messages, as about another package that this one is built from.
func (a *Adapter) wordsFor(group string, words map[string][]string) []string {
	path := a.importPath(group)
	own := slices.Concat(words[path], words[path+"_test"], words[path+".test"])
	if len(own) > 0 {
		return own
	}
	var naming, all []string
	for _, path := range slices.Sorted(maps.Keys(words)) {
		said := words[path]
		all = append(all, said...)
		if slices.ContainsFunc(said, func(line string) bool { return strings.HasPrefix(line, group+"/") }) {
			naming = append(naming, said...)
		}
	}
	if len(naming) > 0 {
		return naming
	}
	return all
}

// writeOverlay generates the file that orders the tests of each group, and the overlay that adds it and the extra
// files to the build. It returns the overlay's path. probe, if not empty, is the import path of the package that
// reports the state.
func (a *Adapter) writeOverlay(tags, probe string, groups []string, extra map[string]string) (string, error) {
	replace := maps.Clone(a.replaced)
	if replace == nil {
		replace = map[string]string{}
	}
	maps.Copy(replace, extra)
	for _, group := range groups {
		p := a.packages[group]
		pkg := a.orderPackage(p, tags)
		var source bytes.Buffer
		if err := orderTemplate().Execute(&source, struct{ Package, Probe, Wrapper string }{pkg, probe, wrapper}); err != nil {
			return "", err
		}
		file, err := a.generate(fmt.Sprintf("order_%s_%s.go", pkg, fileName(probe)), source.Bytes())
		if err != nil {
			return "", err
		}
		replace[filepath.Join(p.dir, orderFile)] = file
	}
	text, err := json.MarshalIndent(struct{ Replace map[string]string }{replace}, "", " ")
	if err != nil {
		return "", err
	}
	return a.generate("overlay_"+fileName(tags)+"_"+fileName(probe)+".json", text)
}

// orderPackage returns the package that the generated file joins: the external tests if there are any, because
// nothing is built upon them.
func (a *Adapter) orderPackage(p *gopkg, tags string) string {
	name := ""
	for _, f := range p.files {
		if !f.here || len(f.tags) > 0 && !a.builds(p.dir, f.name, splitTags(tags), nil) {
			continue
		}
		if f.external() {
			return f.Package
		}
		name = f.Package
	}
	return name
}

// generate keeps a generated file, and writes it only if it changes, because the toolchain checks content and
// time.
func (a *Adapter) generate(name string, content []byte) (string, error) {
	file := filepath.Join(a.Store, "generated", name)
	if old, err := os.ReadFile(file); err == nil && bytes.Equal(old, content) {
		return file, nil
	}
	if err := a.makeFolder(filepath.Dir(file)); err != nil {
		return "", err
	}
	return file, owned.WriteData(file, content)
}

// fileName makes a part of a file name out of tags or an import path.
func fileName(text string) string {
	if text == "" {
		return "default"
	}
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\,:`, r) {
			return '+'
		}
		return r
	}, text)
}

// compilerPlace finds the file and line of the first complaint of a compiler.
var compilerPlace = lazy.Regexp(`^(?:\./)?([^\s:]+\.go):(\d+)(?::\d+)?: (.*)$`)

// notBuilt reports every test of a package that does not compile, or in which vet finds a mistake, as errored, with the
// toolchain's messages as the output of the first.
func (a *Adapter) notBuilt(batch *adapter.Batch, tests []catalog.Test, words []string) {
	e := run.Event{Outcome: run.Errored, Failure: run.Failure{Message: a.Suite + ":" + tests[0].Group + " does not compile"}, Seconds: run.Took(0)}
	for _, line := range words {
		if strings.HasPrefix(line, "# [") { // as the toolchain announces what vet finds
			e.Message = a.Suite + ":" + tests[0].Group + ": go vet finds a mistake (vet = false in fern.toml allows it)"
		}
		if strings.HasPrefix(line, "# ") {
			continue // only names the package
		}
		if place := compilerPlace().FindStringSubmatch(line); place != nil {
			line = place[3]
			e.File, e.Line = a.projectFile(filepath.Join(a.Dir, filepath.FromSlash(place[1]))), number(place[2])
		}
		e.Message += ": " + line
		break
	}
	for i, t := range tests {
		if i == 0 {
			batch.Output(t.ID, []byte(strings.Join(words, "\n")+"\n"))
		}
		e.ID = t.ID
		batch.Finished(e)
	}
}
