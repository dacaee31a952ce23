package golang

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernrelay/core/lazy"
)

// listedPackage is what the toolchain says of a package that a build is made of.
type listedPackage struct {
	Dir                                             string
	Standard                                        bool
	Module                                          *listedModule
	EmbedFiles, TestEmbedFiles, XTestEmbedFiles     []string
	CgoFiles, CFiles, CXXFiles, HFiles              []string
	CgoCFLAGS, CgoCPPFLAGS, CgoCXXFLAGS, CgoLDFLAGS []string
	CgoPkgConfig                                    []string
}

type listedModule struct {
	Dir, GoMod, Version string
	Main                bool
	Replace             *struct{ Version string }
}

// listedFields are those of listedPackage.
const listedFields = "Dir,Standard,Module,EmbedFiles,TestEmbedFiles,XTestEmbedFiles,CgoFiles,CFiles,CXXFiles,HFiles,CgoCFLAGS,CgoCPPFLAGS,CgoCXXFLAGS,CgoLDFLAGS,CgoPkgConfig"

// isFixed reports whether a package cannot change, as it is of the toolchain or the module cache.
func (p *listedPackage) isFixed() bool {
	m := p.Module
	return p.Standard || m != nil && !m.Main && m.Version != "" && (m.Replace == nil || m.Replace.Version != "") && m.Dir != "" && within(p.Dir, m.Dir)
}

// within reports whether a path is a folder or below it.
func within(path, dir string) bool {
	below, err := filepath.Rel(dir, path)
	return err == nil && filepath.IsLocal(below)
}

// list asks the toolchain what a build of groups is made of.
func (a *Adapter) list(ctx context.Context, tags, overlay string, groups []string) ([]listedPackage, error) {
	args := append([]string{"list", "-deps", "-test", "-json=" + listedFields, "-overlay", overlay}, withoutFlags(a.flagsWith(tags), "c", "o", "vet", "exec", "json", "run")...)
	for _, group := range groups {
		args = append(args, "./"+group)
	}
	var out bytes.Buffer
	if err := a.toolchain(ctx, nil, &out, io.Discard, args...); err != nil {
		return nil, err
	}
	var packages []listedPackage
	decoder := json.NewDecoder(&out)
	for {
		var p listedPackage
		switch err := decoder.Decode(&p); {
		case errors.Is(err, io.EOF):
			return packages, nil
		case err != nil:
			return nil, err
		}
		if !p.isFixed() && p.Dir != "" {
			packages = append(packages, p)
		}
	}
}

func withoutFlags(flags []string, names ...string) []string {
	for _, name := range names {
		flags = withoutFlag(flags, name)
	}
	return flags
}

// sources returns the places that a build of packages reads.
func (a *Adapter) sources(packages []listedPackage) []place {
	places := a.configured()
	seen := map[place]bool{}
	add := func(kind placeKind, path string) {
		if p := (place{kind, path}); !seen[p] {
			seen[p] = true
			places = append(places, p)
		}
	}
	for i := range packages {
		p := &packages[i]
		add(placePackage, p.Dir)
		if m := p.Module; m != nil && m.GoMod != "" {
			add(placeFile, m.GoMod)
			add(placeFile, strings.TrimSuffix(m.GoMod, ".mod")+".sum")
			for dir := p.Dir; within(dir, m.Dir); dir = filepath.Dir(dir) { // one more would make another module of the package
				add(placeFile, filepath.Join(dir, "go.mod"))
			}
		}
		for _, file := range slices.Concat(p.EmbedFiles, p.TestEmbedFiles, p.XTestEmbedFiles) {
			add(placeFile, filepath.Join(p.Dir, file))
			for dir := filepath.Dir(file); ; dir = filepath.Dir(dir) {
				add(placeFolder, filepath.Join(p.Dir, dir))
				if dir == "." {
					break
				}
			}
		}
	}
	return places
}

// includeLine finds what a C source includes by a path.
var includeLine = lazy.Regexp(`(?m)^\s*(?://|\*)?\s*#\s*(?:include|import)\s*["<]([^">\n]*/[^">\n]*|[^">\n]*)[">]`)

// headers returns the places outside of their own folders from which C sources of packages include or link anything.
//
// The toolchain watches the C files in a package's own folder, and not what they include from elsewhere. With
//
//	// #cgo CFLAGS: -I../../include
//	// #include "glass/pane.h"
//
// it would use an old object file after a change of ../../include/glass/pane.h. Folders of the system are left out: they change with
// the machine, and are large.
func (a *Adapter) headers(ctx context.Context, packages []listedPackage) []place {
	var places []place
	add := func(dir string) {
		if p := (place{placeTree, filepath.Clean(dir)}); !slices.Contains(places, p) && !isSystem(p.Path) {
			places = append(places, p)
		}
	}
	for i := range packages {
		p := &packages[i]
		if len(p.CgoFiles) == 0 {
			continue
		}
		flags := slices.Concat(p.CgoCFLAGS, p.CgoCPPFLAGS, p.CgoCXXFLAGS, p.CgoLDFLAGS, a.packageConfig(ctx, p))
		for _, name := range []string{"CGO_CFLAGS", "CGO_CPPFLAGS", "CGO_CXXFLAGS", "CGO_LDFLAGS"} {
			flags = append(flags, strings.Fields(a.setting(name))...)
		}
		dirs := searched(flags)
		for _, name := range []string{"CPATH", "C_INCLUDE_PATH", "CPLUS_INCLUDE_PATH", "LIBRARY_PATH"} {
			dirs = append(dirs, filepath.SplitList(a.setting(name))...)
		}
		for _, dir := range dirs {
			if !filepath.IsAbs(dir) {
				dir = filepath.Join(p.Dir, dir)
			}
			if dir != p.Dir {
				add(dir)
			}
		}
		for _, file := range slices.Concat(p.CgoFiles, p.CFiles, p.CXXFiles, p.HFiles) {
			text, err := a.read(filepath.Join(p.Dir, file))
			if err != nil {
				continue // the build reports it
			}
			for _, match := range includeLine().FindAllSubmatch(text, -1) {
				name := filepath.FromSlash(string(match[1]))
				if !filepath.IsAbs(name) {
					name = filepath.Join(p.Dir, name)
				}
				if _, err := os.Stat(name); err == nil && filepath.Dir(name) != p.Dir {
					add(filepath.Dir(name))
				}
			}
		}
	}
	return places
}

// isSystem reports whether a folder is one of the system's, which belongs to the C compiler.
func isSystem(dir string) bool {
	return slices.ContainsFunc([]string{"/usr/include", "/usr/lib", "/lib", "/usr/lib64", "/lib64"}, func(system string) bool { return within(dir, system) })
}

// searched returns the folders that flags of a C compiler have it search, and the files that they name by a path.
func searched(flags []string) (dirs []string) {
	for i, flag := range flags {
		for _, prefix := range []string{"-I", "-L", "-isystem", "-iquote", "-idirafter", "-include", "-F"} {
			value, ok := strings.CutPrefix(flag, prefix)
			if ok && value == "" && i+1 < len(flags) {
				value = flags[i+1]
			}
			if ok && value != "" && value != "nclude" && !strings.HasPrefix(value, "system") {
				dirs = append(dirs, value)
			}
		}
		if filepath.IsAbs(flag) {
			dirs = append(dirs, flag)
		}
	}
	return dirs
}

// packageConfig returns the flags that pkg-config reports for a package; none if it fails, which the build reports.
func (a *Adapter) packageConfig(ctx context.Context, p *listedPackage) []string {
	if len(p.CgoPkgConfig) == 0 {
		return nil
	}
	program := a.setting("PKG_CONFIG")
	if program == "" {
		program = "pkg-config"
	}
	var out bytes.Buffer
	if err := a.run(ctx, program, nil, &out, io.Discard, append([]string{"--cflags", "--libs", "--"}, p.CgoPkgConfig...)...); err != nil {
		return nil
	}
	return strings.Fields(out.String())
}
