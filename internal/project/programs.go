package project

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"fernrelay/core/pick"
	"fernrelay/internal/process"
)

// Programs returns the programs that fern.toml names: those of its command lines, and those of program: in conditions.
func (p *Project) Programs() []string {
	var names []string
	for _, line := range p.commandLines() {
		if words, err := process.Words(line); err == nil {
			names = append(names, words[0])
		}
	}
	for _, words := range [][]string{p.Workers.Prepare, p.Workers.Clean} {
		if len(words) > 0 {
			names = append(names, words[0])
		}
	}
	names = append(names, p.ConditionPrograms()...)
	slices.Sort(names)
	return slices.Compact(names)
}

// commandLines are the commands of suites, services and the matrix; some are empty.
func (p *Project) commandLines() (lines []string) {
	for _, s := range p.Suites {
		lines = append(lines, s.Command.List, s.Command.Run, s.Host.Run)
	}
	for _, s := range p.Services {
		lines = append(lines, s.Create, s.Start, s.State, s.Reset)
		if !s.ChecksPort() {
			lines = append(lines, s.Ready)
		}
	}
	if p.Matrix != nil {
		lines = append(lines, p.Matrix.Then)
	}
	return lines
}

// ConditionPrograms returns the programs that conditions of rules ask for.
func (p *Project) ConditionPrograms() (names []string) {
	for _, rule := range p.Rules {
		names = append(names, conditionPrograms(rule.Set.OnlyIf)...)
	}
	return names
}

// conditionPrograms returns the programs that a condition asks for.
func conditionPrograms(text string) (names []string) {
	e, err := pick.ParseCondition(text)
	if err != nil {
		return nil
	}
	pick.Terms(e, func(t *pick.Term) {
		if t.Field == "program" {
			names = append(names, strings.FieldsFunc(t.Value, func(r rune) bool { return strings.ContainsRune("<>=", r) })[0])
		}
	})
	return names
}

// Clone makes a clone of the committed revision of a project in a new folder, and returns the project's folder in it.
func (p *Project) Clone(ctx context.Context, into string) (dir string, err error) {
	if _, err := exec.LookPath("git"); err != nil {
		return "", fmt.Errorf("a fresh clone needs git, which is not installed: %w", err)
	}
	top, err := Top(ctx, p.Dir)
	if err != nil {
		return "", fmt.Errorf("a fresh clone needs a git repository, and %s is in none", p.Dir)
	}
	if _, err := git(ctx, top, "rev-parse", "--verify", "--quiet", "HEAD^{commit}"); err != nil {
		return "", fmt.Errorf("%s has no commit that could be cloned: commit first", top)
	}
	if _, err := git(ctx, top, "clone", "--quiet", "--no-hardlinks", "--", top, into); err != nil {
		return "", fmt.Errorf("the fresh clone: %w", err)
	}
	real, err := filepath.EvalSymlinks(p.Dir)
	if err != nil {
		return "", err
	}
	if top, err = filepath.EvalSymlinks(top); err != nil {
		return "", err
	}
	below, err := filepath.Rel(top, real)
	return filepath.Join(into, below), err
}

// Uncommitted lists the files of the project's repository that the committed revision does not have as they are here, relative
// to the project: those that git does not know, those that it ignores, and those with changes. Folders end in a slash.
func (p *Project) Uncommitted(ctx context.Context) (absent, changed []string, err error) {
	out, err := git(ctx, p.Dir, "status", "--porcelain=v1", "-z", "--ignored=traditional", "--untracked-files=all", "--no-renames", "--", ".")
	if err != nil {
		return nil, nil, err
	}
	prefix, err := git(ctx, p.Dir, "rev-parse", "--show-prefix")
	if err != nil {
		return nil, nil, err
	}
	for line := range strings.SplitSeq(out, "\x00") {
		if len(line) < 4 {
			continue
		}
		name := strings.TrimPrefix(line[3:], strings.TrimSuffix(prefix, "\n"))
		switch {
		case strings.HasPrefix(name, storeName+"/"):
		case line[:2] == "??" || line[:2] == "!!":
			absent = append(absent, name)
		default:
			changed = append(changed, name)
		}
	}
	return absent, changed, nil
}
