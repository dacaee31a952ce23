// Package rehearsal runs a command as a CI machine would: in a fresh clone, with an empty cache and a clean environment, so
// that what works only on this machine is found before it is pushed.
//
//	r, err := rehearsal.New(ctx, project)
//	defer r.Close()
//	err = r.Command(ctx, "fern-relay", "-C", r.Dir, "matrix", "run").Run()
//	fmt.Println(r.Undeclared())     // programs that ran and that fern.toml does not name
//	fmt.Println(r.Suspects(result)) // files and variables that a failed test seems to lack
package rehearsal

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/owned"
	"fernrelay/internal/project"
	"fernrelay/internal/report"
)

// Rehearsal is a clone with a clean environment.
type Rehearsal struct {
	Dir     string   // of the project in the clone
	Changed []string // files with changes that are not committed, relative to the project

	root    string
	folder  *owned.Folder // at root
	record  *owned.Record // of the folder
	groups  []*owned.Group
	env     []string
	log     string   // a file with the programs that ran, a line each
	absent  []string // files that are here and not in the clone, relative to the project
	dropped []string // names of variables that are set here and not there
}

// New makes a clone of the committed revision of a project, and the environment for it: PATH, HOME and the folders for temporary
// files and caches, which are empty, and CI=true. Programs that ran by their names are noted.
func New(ctx context.Context, p *project.Project) (r *Rehearsal, err error) {
	record := owned.Begin(p.Records())
	folder, err := record.MakeFolder(os.TempDir())
	if err != nil {
		return nil, errors.Join(err, record.Close())
	}
	root := folder.Path()
	r = &Rehearsal{root: root, folder: folder, record: record, log: filepath.Join(root, "programs")}
	defer func() {
		if err != nil {
			err = errors.Join(err, r.Close())
		}
	}()
	if r.Dir, err = p.Clone(ctx, filepath.Join(root, "clone")); err != nil {
		return nil, err
	}
	if r.absent, r.Changed, err = p.Uncommitted(ctx); err != nil {
		return nil, err
	}
	for _, name := range []string{"home", "tmp", "bin"} {
		if err := os.Mkdir(filepath.Join(root, name), 0o755); err != nil {
			return nil, err
		}
	}
	if err := r.wrapPrograms(p.Programs()); err != nil {
		return nil, err
	}
	r.env = []string{"CI=true", "PATH=" + filepath.Join(root, "bin"), "HOME=" + filepath.Join(root, "home"), "TMPDIR=" + filepath.Join(root, "tmp")}
	kept := map[string]bool{"_": true, "SHLVL": true, "OLDPWD": true, "PWD": true}
	for _, e := range r.env {
		name, _, _ := strings.Cut(e, "=")
		kept[name] = true
	}
	for _, e := range os.Environ() {
		if name, _, _ := strings.Cut(e, "="); !kept[name] {
			r.dropped = append(r.dropped, name)
		}
	}
	return r, nil
}

// Close removes the clone.
func (r *Rehearsal) Close() error {
	for _, g := range r.groups {
		g.Remove()
	}
	return errors.Join(r.folder.Remove(), r.record.Close())
}

// Command prepares a program that runs in the clean environment.
func (r *Rehearsal) Command(ctx context.Context, program string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Env, cmd.Dir = append(slices.Clone(r.env), owned.Mark()), r.Dir
	cmd.SysProcAttr = &syscall.SysProcAttr{}
	r.groups = append(r.groups, r.record.NewGroup(cmd.SysProcAttr)) // with those that it makes in turn
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	return cmd
}

// wrapPrograms fills the only folder of PATH: with links to the programs that every machine has or that are declared, and with
// scripts that note their use for all others.
func (r *Rehearsal) wrapPrograms(declared []string) error {
	known := map[string]bool{}
	for _, name := range append(strings.Fields(everywhere), declared...) {
		known[name] = true
	}
	for _, dir := range filepath.SplitList(os.Getenv("PATH")) {
		entries, _ := os.ReadDir(dir) // a folder that does not exist has no programs
		for _, e := range entries {
			place, target := filepath.Join(r.root, "bin", e.Name()), filepath.Join(dir, e.Name())
			if _, err := os.Lstat(place); err == nil {
				continue // an earlier folder has it
			}
			if info, err := os.Stat(target); err != nil || info.IsDir() || info.Mode()&0o111 == 0 {
				continue
			}
			if err := r.wrap(place, target, known[e.Name()]); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *Rehearsal) wrap(place, target string, known bool) error {
	if known {
		return os.Symlink(target, place)
	}
	script := fmt.Sprintf("#!/bin/sh\necho %s >>%s\nexec %s \"$@\"\n", report.Quote(filepath.Base(place)), report.Quote(r.log), report.Quote(target))
	return os.WriteFile(place, []byte(script), 0o755)
}

// Undeclared returns the programs that ran and that neither fern.toml names nor every machine has.
func (r *Rehearsal) Undeclared() []string {
	data, _ := os.ReadFile(r.log) // none if none ran
	names := strings.Fields(string(data))
	slices.Sort(names)
	return slices.Compact(names)
}

// Suspects names what a test that failed in the rehearsal seems to lack: files that are here and not in the clone, and
// variables that are set here and not there, if its failure names them, or else the sources beside it do. file is the test's,
// relative to the project.
func (r *Rehearsal) Suspects(result *run.Result, file string) (lines []string) {
	said := result.Message + "\n" + string(result.Output)
	for _, s := range result.Steps {
		said += "\n" + s.Message
	}
	if lines = r.named(said, nil); lines != nil {
		return lines
	}
	return r.named("", r.sources(file))
}

// named says which absent files and variables a text or sources name.
func (r *Rehearsal) named(said string, sources []source) (lines []string) {
	for _, name := range r.absent {
		base := path.Base(strings.TrimSuffix(name, "/"))
		if where := namedIn(base, said, sources); where != "" {
			lines = append(lines, fmt.Sprintf("the file %s is not committed, and %s names it", plain.Line(name), where))
		}
	}
	for _, name := range r.dropped {
		if where := namedIn(name, said, sources); where != "" {
			lines = append(lines, fmt.Sprintf("the variable %s is set in this shell, and %s names it: declare it in env of [workers] or of the matrix", plain.Line(name), where))
		}
	}
	return lines
}

// source is a file beside a test.
type source struct {
	name string
	data []byte
}

// How much is read of the sources beside a test.
const (
	mostSources  = 200
	largerSource = 1 << 20 // bytes that are not read
)

// sources returns the files in the folder of a test's file.
func (r *Rehearsal) sources(file string) (all []source) {
	dir := path.Dir(file)
	if file == "" || !filepath.IsLocal(dir) {
		dir = "."
	}
	entries, _ := os.ReadDir(filepath.Join(r.Dir, dir)) // none if the test's file is elsewhere
	for _, e := range entries[:min(len(entries), mostSources)] {
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() || e.Name()[0] == '.' || info.Size() > largerSource || e.Name() == project.FileName {
			continue
		}
		if data, err := os.ReadFile(filepath.Join(r.Dir, dir, e.Name())); err == nil {
			all = append(all, source{path.Join(dir, e.Name()), data})
		}
	}
	return all
}

// shortest is the least length of a name that is looked for, as shorter ones are found anywhere.
const shortest = 3

// namedIn returns where a name occurs as a word: in what a test said, or in a line of a source; "" for nowhere.
func namedIn(name, said string, sources []source) string {
	if len(name) < shortest {
		return ""
	}
	if hasWord([]byte(said), name) {
		return "its failure"
	}
	for _, s := range sources {
		lines := bufio.NewScanner(bytes.NewReader(s.data))
		lines.Buffer(nil, largerSource+1)
		for n := 1; lines.Scan(); n++ {
			if hasWord(lines.Bytes(), name) {
				return fmt.Sprintf("%s:%d", plain.Line(s.name), n)
			}
		}
	}
	return ""
}

// hasWord reports whether a text has a name that no letter, digit or underscore continues.
func hasWord(text []byte, name string) bool {
	part := func(b byte) bool {
		return b == '_' || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z'
	}
	for from := 0; ; {
		at := bytes.Index(text[from:], []byte(name))
		if at < 0 {
			return false
		}
		at += from
		end := at + len(name)
		if (at == 0 || !part(text[at-1])) && (end == len(text) || !part(text[end])) {
			return true
		}
		from = at + 1
	}
}
