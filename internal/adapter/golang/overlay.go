package golang

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"text/template"

	"fernrelay/internal/adapter/golang/testlog"
	"fernrelay/internal/owned"
)

//go:embed generated/order.go.tmpl
var orderSource string

var orderTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("order").Parse(orderSource))
})

// orderFile is the name under which the generated file joins a package.
const orderFile = "fern_relay_order_test.go"

// order is what the generated file is made from.
type order struct {
	Package, Probe, Wrapper string
	Hooked                  bool
}

// writeOverlay generates the file that orders the tests of each group, and the overlay that adds it and the extra
// files to the build. It returns the overlay's path. probe, if not empty, is the import path of the package that
// reports the state. hooked reports whether the testing package itself calls the tests.
func (a *Adapter) writeOverlay(tags, probe string, groups []string, extra map[string]string) (path string, hooked bool, err error) {
	hooks, err := a.hookTesting()
	if err != nil {
		return "", false, err
	}
	hooked = hooks != nil
	replace := map[string]string{}
	maps.Copy(replace, a.overlay)
	maps.Copy(replace, hooks)
	maps.Copy(replace, a.replaced)
	maps.Copy(replace, extra)
	a.hide(replace)
	for _, group := range groups {
		p := a.packages[group]
		pkg := a.orderPackage(p, tags)
		if pkg == "" {
			continue // it has no tests to order
		}
		var source bytes.Buffer
		if err := orderTemplate().Execute(&source, order{pkg, probe, testlog.ExampleName, hooked}); err != nil {
			return "", false, err
		}
		file, err := a.generate(fmt.Sprintf("order_%s_%s.go", pkg, fileName(probe)), source.Bytes())
		if err != nil {
			return "", false, err
		}
		replace[filepath.Join(p.dir, orderFile)] = file
	}
	path, err = a.writeReplaced("overlay_"+fileName(tags)+"_"+fileName(probe)+".json", replace)
	return path, hooked, err
}

// hide adds to the files that a build replaces those that no build has.
func (a *Adapter) hide(replace map[string]string) map[string]string {
	for _, file := range a.hidden {
		replace[file] = ""
	}
	return replace
}

// writeReplaced writes the overlay of a build, and returns its path.
func (a *Adapter) writeReplaced(name string, replace map[string]string) (string, error) {
	text, err := json.MarshalIndent(struct{ Replace map[string]string }{replace}, "", " ")
	if err != nil {
		return "", err
	}
	return a.generate(name, text)
}

// orderPackage returns the package that the generated file joins: the external tests if there are any, because
// nothing is built upon them.
func (a *Adapter) orderPackage(p *gopkg, tags string) string {
	name := ""
	for _, f := range p.files {
		if !f.here || len(f.tags) > 0 && !a.builds(p.dir, f.name, splitTags(tags), nil) {
			continue
		}
		if f.External() {
			return f.Package
		}
		name = f.Package
	}
	return name
}

// generate keeps a generated file, and writes it only if it changes, because the toolchain checks content and
// time. A Go file gets another ending, so that tests and programs that look for the project's sources do not find it.
func (a *Adapter) generate(name string, content []byte) (string, error) {
	file := filepath.Join(a.Store, "generated", name)
	if filepath.Ext(file) == ".go" {
		file += ".txt"
	}
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
