// Package doctor checks what this machine and a project need, and says how to mend what is missing.
//
//	for _, finding := range doctor.Examine(ctx, dir) {
//		fmt.Println(finding.State, finding.What, finding.Found, finding.Do)
//	}
package doctor

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/charmbracelet/colorprofile"

	"fernrelay/internal/app"
	"fernrelay/internal/disk"
	"fernrelay/internal/ledger"
	"fernrelay/internal/owned"
	"fernrelay/internal/process"
	"fernrelay/internal/project"
	"fernrelay/internal/wording"
)

// State is how something is.
type State string

// The states. Missing and Broken need mending; Absent is missing and not needed.
const (
	OK      State = "ok"
	Missing State = "missing"
	Broken  State = "broken"
	Absent  State = "absent"
)

// Finding is one thing that was checked.
type Finding struct {
	What  string `json:"what"`  // was checked
	State State  `json:"state"` // is how it is
	Found string `json:"found"` // is what was found
	Do    string `json:"do,omitempty"`
}

// Bad reports whether it needs mending.
func (f *Finding) Bad() bool { return f.State == Missing || f.State == Broken }

// Least of what a machine needs.
const (
	leastDisk  = 500 << 20 // bytes
	leastFiles = 256
	oldestTime = 2024 // a clock before this year is wrong
)

// Examine checks the machine, and the project of a folder.
func Examine(ctx context.Context, dir string) []Finding {
	p, err := project.Open(dir)
	found := []Finding{temp(p), files(), processes(), ports(), clock(), terminal(os.Environ()), git(ctx, dir)}
	if err != nil {
		return append(found, Finding{"project", Broken, err.Error(), "fern-relay init writes a fern.toml"})
	}
	found = append(found, Finding{"project", OK, fmt.Sprintf("%s in %s: %s", p.Name, p.Dir, wording.Plural(len(p.Suites), "suite")), ""})
	found = append(found, store(p), history(ctx, p), room(p))
	if slices.ContainsFunc(p.Suites, func(s project.Suite) bool { return s.Kind == project.Go }) {
		found = append(found, toolchain(ctx, p))
	}
	found = append(found, programs(p)...)
	return append(found, suites(ctx, dir, p)...)
}

// temp checks the folder for temporary files. p is nil without a project.
func temp(p *project.Project) Finding {
	record := owned.Begin(recordsOf(p))
	defer record.Close()
	folder, err := record.MakeFolder(os.TempDir())
	if err != nil {
		return Finding{"temporary files", Broken, err.Error(), "set TMPDIR to a folder that you can write to"}
	}
	defer folder.Remove()
	script := filepath.Join(folder.Path(), "script")
	if err := os.WriteFile(script, []byte("#!/bin/sh\n"), 0o700); err != nil {
		return Finding{"temporary files", Broken, err.Error(), "make room in " + os.TempDir()}
	}
	if err := exec.Command(script).Run(); err != nil {
		return Finding{"temporary files", Broken, os.TempDir() + " runs no programs: " + err.Error(), "set TMPDIR to a folder that is not mounted with noexec, as test binaries may run there"}
	}
	return Finding{"temporary files", OK, os.TempDir() + " can be written and runs programs", ""}
}

// recordsOf returns the folder of a project's records, empty if it has no data yet.
func recordsOf(p *project.Project) string {
	if p == nil {
		return ""
	}
	if _, err := os.Stat(p.StorePath()); err != nil {
		return ""
	}
	return p.RecordsPath()
}

func files() Finding {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		return Finding{"open files", Broken, err.Error(), ""}
	}
	if limit.Cur < leastFiles {
		return Finding{"open files", Broken, fmt.Sprint("at most ", limit.Cur), "raise the limit: ulimit -n 1024"}
	}
	return Finding{"open files", OK, fmt.Sprint("at most ", limit.Cur), ""}
}

func ports() Finding {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return Finding{"ports", Broken, err.Error(), "services and hosts need a free port on 127.0.0.1"}
	}
	defer l.Close()
	return Finding{"ports", OK, "127.0.0.1 has free ones", ""}
}

func clock() Finding {
	if now := time.Now(); now.Year() < oldestTime {
		return Finding{"clock", Broken, now.Format(time.DateTime), "set the clock: runs are ordered by their times"}
	}
	return Finding{"clock", OK, time.Now().Format("2006-01-02 15:04 MST"), ""}
}

// terminal reports the colours that the application has on a terminal with some environment.
func terminal(environment []string) Finding {
	switch profile := colorprofile.Env(environment); profile {
	case colorprofile.TrueColor, colorprofile.ANSI256, colorprofile.ANSI:
		return Finding{"terminal", OK, colours[profile], ""}
	}
	return Finding{"terminal", Absent, "no colours: shapes say the same", "set TERM to what your terminal is, as in TERM=xterm-256color, and unset NO_COLOR"}
}

var colours = map[colorprofile.Profile]string{colorprofile.TrueColor: "all colours", colorprofile.ANSI256: "256 colours", colorprofile.ANSI: "16 colours"}

func git(ctx context.Context, dir string) Finding {
	if _, err := exec.LookPath("git"); err != nil {
		return Finding{"git", Absent, "it is not installed", "touched: and matrix run --as-ci need it"}
	}
	revision := project.Revision(ctx, dir)
	return Finding{"git", OK, cmp.Or(revision, "installed; this folder has no repository"), ""}
}

// store checks whether the project's data can be written.
func store(p *project.Project) Finding {
	dir := p.StorePath()
	if _, err := os.Stat(dir); errors.Is(err, os.ErrNotExist) {
		dir = p.Dir
	}
	file, err := os.CreateTemp(dir, ".doctor-*")
	if err != nil {
		return Finding{"data in .fern", Broken, err.Error(), "change the permissions of " + dir + ": without it no run is kept"}
	}
	return Finding{"data in .fern", state(errors.Join(owned.RemoveFile(file), file.Close())), dir + " can be written", ""}
}

func state(err error) State {
	if err != nil {
		return Broken
	}
	return OK
}

// room checks the room on the project's disk.
func room(p *project.Project) Finding {
	free, err := disk.Free(p.Dir)
	if err != nil {
		return Finding{"disk", Broken, err.Error(), ""}
	}
	if free < leastDisk {
		return Finding{"disk", Broken, wording.Bytes(free) + " free", "make room: test binaries and the ledger are kept in .fern"}
	}
	return Finding{"disk", OK, wording.Bytes(free) + " free", ""}
}

// toolchain checks the Go toolchain and its cache.
func toolchain(ctx context.Context, p *project.Project) Finding {
	cmd := exec.CommandContext(ctx, "go", "env", "GOVERSION", "GOCACHE")
	cmd.Dir = p.Dir
	out, err := cmd.Output()
	var missing *exec.Error
	switch {
	case errors.As(err, &missing):
		return Finding{"Go toolchain", Missing, "go is not on PATH", "install Go from go.dev/dl, or add its bin folder to PATH"}
	case err != nil:
		return Finding{"Go toolchain", Broken, err.Error(), "run go version in " + p.Dir + " to see what is wrong"}
	}
	lines := append(strings.Split(strings.TrimSpace(string(out)), "\n"), "")
	if err := os.MkdirAll(lines[1], 0o755); lines[1] == "off" || err != nil {
		return Finding{"Go toolchain", Broken, lines[0] + ", and its cache " + lines[1] + " cannot be written", "set GOCACHE to a folder that you can write to"}
	}
	return Finding{"Go toolchain", OK, lines[0] + ", cache in " + lines[1], ""}
}

// programs checks the programs that fern.toml names.
func programs(p *project.Project) (found []Finding) {
	conditions := p.ConditionPrograms()
	for _, name := range p.Programs() {
		_, err := exec.LookPath(process.ProgramPath(p.Dir, name))
		switch {
		case err == nil:
			found = append(found, Finding{"program " + name, OK, "found", ""})
		case strings.HasPrefix(name, "."):
			// It may be below the folder of a suite, whose listing reports it.
		case slices.Contains(conditions, name):
			found = append(found, Finding{"program " + name, Absent, "it is not installed", "tests with only-if = \"program:" + name + "\" are skipped here"})
		default:
			found = append(found, Finding{"program " + name, Missing, "it is not installed", "install it: fern.toml runs it"})
		}
	}
	return found
}

// suites lists the tests of each suite.
func suites(ctx context.Context, dir string, p *project.Project) (found []Finding) {
	a, err := app.Open(ctx, dir, nil)
	if err != nil {
		return []Finding{{"tests", Broken, err.Error(), "mend the suite in fern.toml; fern-relay list prints the same error"}}
	}
	defer a.Close()
	counts := map[string]int{}
	for _, g := range a.Catalog.Groups {
		counts[g.Suite] += g.Len
	}
	for _, s := range p.Suites {
		if err := a.Broken[s.Name]; err != nil {
			found = append(found, Finding{"suite " + s.Name, Broken, err.Error(), "mend it in fern.toml; the other suites work"})
			continue
		}
		found = append(found, Finding{"suite " + s.Name, OK, wording.Plural(counts[s.Name], "test"), ""})
	}
	return found
}

// history checks the ledger, before the project is opened, which sets a damaged one aside.
func history(ctx context.Context, p *project.Project) Finding {
	if _, err := os.Stat(filepath.Join(p.StorePath(), ledger.FileName)); errors.Is(err, os.ErrNotExist) {
		return Finding{"ledger", OK, "no runs yet", ""}
	}
	l, err := ledger.Open(p.StorePath())
	if err == nil {
		err = l.Check(ctx)
		defer l.Close()
	}
	if err != nil {
		return Finding{"ledger", Broken, err.Error(), "nothing is needed: the file is set aside, and a new ledger begins"}
	}
	runs, err := l.Runs()
	if err != nil {
		return Finding{"ledger", Broken, err.Error(), "run fern-relay ledger check"}
	}
	return Finding{"ledger", OK, wording.Plural(runs, "run"), ""}
}
