// Package project reads what a folder says about its tests: fern.toml, or
// without one what its files say, and where things are kept.
package project

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"fernrelay/core/pick"
)

// FileName is the name of a project's configuration.
const FileName = "fern.toml"

// storeName is the folder, beside fern.toml, of what is kept.
const storeName = ".fern"

// Project is a folder with tests.
type Project struct {
	Dir     string // absolute
	Name    string
	Suites  []Suite
	Tags    []TagRule // in the order of their names
	Workers int       // 0 where not given
}

// Kind says how a suite is found and run.
type Kind string

// The kinds of suite.
const (
	Go   Kind = "go"
	Host Kind = "host"
)

// Suite is one set of tests, found and run by one adapter.
type Suite struct {
	Name       string
	Kind       Kind
	Dir        string // relative to the project
	Run        string // of a host: its command line
	BuildFlags []string
	Args       []string
	Timeout    time.Duration // of one test
}

// TagRule puts a tag on the tests of a pick.
type TagRule struct {
	Tag  string
	Pick pick.Expr
}

// DefaultTimeout bounds one test where its suite does not say otherwise, as the
// Go toolchain bounds a package.
const DefaultTimeout = 10 * time.Minute

// file is fern.toml as it is written.
type file struct {
	Project struct {
		Name string `toml:"name"`
	} `toml:"project"`
	Suites []struct {
		Name       string   `toml:"name"`
		Kind       string   `toml:"kind"`
		Dir        string   `toml:"dir"`
		Run        string   `toml:"run"`
		BuildFlags []string `toml:"build_flags"`
		Args       []string `toml:"args"`
		Timeout    string   `toml:"timeout"`
	} `toml:"suite"`
	Tags    map[string]string `toml:"tags"`
	Workers struct {
		Count int `toml:"count"`
	} `toml:"workers"`
}

// Open reads the project in a folder. Of a folder inside a project the project
// is found above it.
func Open(dir string) (*Project, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if _, err := os.ReadDir(dir); err != nil {
		return nil, unreadable(dir, err)
	}
	for above := dir; ; above = filepath.Dir(above) {
		path := filepath.Join(above, FileName)
		data, err := os.ReadFile(path)
		if err == nil {
			return parse(above, path, data)
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, unreadable(path, err)
		}
		if above == filepath.Dir(above) {
			return withoutFile(dir)
		}
	}
}

func unreadable(path string, err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		err = pathError.Err
	}
	hint := "give the folder of a project"
	if errors.Is(err, fs.ErrPermission) {
		hint = "give yourself the permission to read it"
	}
	return fmt.Errorf("cannot read %s: %w: %s", path, err, hint)
}

// withoutFile makes the project of a folder that an adapter can read by itself:
// one in a Go module.
func withoutFile(dir string) (*Project, error) {
	for above := dir; ; above = filepath.Dir(above) {
		if _, err := os.Stat(filepath.Join(above, "go.mod")); err == nil {
			return &Project{Dir: dir, Name: filepath.Base(dir),
				Suites: []Suite{{Name: string(Go), Kind: Go, Dir: ".", Timeout: DefaultTimeout}}}, nil
		}
		if above == filepath.Dir(above) {
			return nil, fmt.Errorf("no tests here: %s has no %s and is not inside a Go module: go to your project, or write a %s with a [[suite]]",
				dir, FileName, FileName)
		}
	}
}

func parse(dir, path string, data []byte) (*Project, error) {
	var f file
	decoder := toml.NewDecoder(strings.NewReader(string(data)))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&f); err != nil {
		return nil, positioned(path, err)
	}
	p := &Project{Dir: dir, Name: f.Project.Name, Workers: f.Workers.Count}
	if p.Name == "" {
		p.Name = filepath.Base(dir)
	}
	if p.Workers < 0 {
		return nil, placed(path, data, "count", "the count of workers is %d: a number from 1 is expected", p.Workers)
	}
	for _, s := range f.Suites {
		suite := Suite{Name: s.Name, Kind: Kind(s.Kind), Dir: s.Dir, Run: s.Run, BuildFlags: s.BuildFlags, Args: s.Args, Timeout: DefaultTimeout}
		if suite.Name == "" || strings.ContainsAny(suite.Name, ":#") {
			return nil, placed(path, data, "[[suite]]", "a suite's name is %q: a name without : and # is expected", s.Name)
		}
		if slices.ContainsFunc(p.Suites, func(other Suite) bool { return other.Name == s.Name }) {
			return nil, placed(path, data, s.Name, "two suites are named %q: give one another name", s.Name)
		}
		switch {
		case suite.Kind != Go && suite.Kind != Host:
			return nil, placed(path, data, s.Kind, "the kind of suite %s is %q: go or host is expected", s.Name, s.Kind)
		case suite.Kind == Host && suite.Run == "":
			return nil, placed(path, data, s.Name, "suite %s is a host and has no run: give its command line", s.Name)
		}
		if s.Timeout != "" {
			limit, err := time.ParseDuration(s.Timeout)
			if err != nil || limit <= 0 {
				return nil, placed(path, data, s.Timeout, "the timeout of suite %s is %q: a duration like 30s is expected", s.Name, s.Timeout)
			}
			suite.Timeout = limit
		}
		if suite.Dir == "" {
			suite.Dir = "."
		}
		p.Suites = append(p.Suites, suite)
	}
	if len(p.Suites) == 0 {
		return nil, fmt.Errorf("%s has no suite: add a [[suite]] with a name and a kind", path)
	}
	for tag, text := range f.Tags {
		expr, err := pick.Parse(text)
		if err != nil {
			return nil, placed(path, data, tag, "the tag %s: %w", tag, err)
		}
		p.Tags = append(p.Tags, TagRule{tag, expr})
	}
	slices.SortFunc(p.Tags, func(a, b TagRule) int { return strings.Compare(a.Tag, b.Tag) })
	return p, nil
}

// positioned turns an error of the TOML package into one that names file, line
// and column.
func positioned(path string, err error) error {
	var unknown *toml.StrictMissingError
	if errors.As(err, &unknown) && len(unknown.Errors) > 0 {
		first := unknown.Errors[0]
		line, column := first.Position()
		return fmt.Errorf("%s:%d:%d: unknown key %q: %s", path, line, column, strings.Join(first.Key(), "."), known(first.Key()))
	}
	var wrong *toml.DecodeError
	if errors.As(err, &wrong) {
		line, column := wrong.Position()
		return fmt.Errorf("%s:%d:%d: %s", path, line, column, strings.TrimPrefix(wrong.Error(), "toml: "))
	}
	return fmt.Errorf("%s: %w", path, err)
}

// known lists the keys that are expected where an unknown one stands.
func known(key []string) string {
	tables := map[string]string{
		"project": "name", "suite": "name, kind, dir, run, build_flags, args, timeout", "workers": "count",
	}
	if keys, ok := tables[key[0]]; ok && len(key) > 1 {
		return "[" + key[0] + "] takes " + keys
	}
	return "the tables are [project], [[suite]], [tags] and [workers]"
}

// placed makes an error that names the line and column where a text first
// stands in the file, which is where the value in question was written.
func placed(path string, data []byte, text, format string, args ...any) error {
	at := max(strings.Index(string(data), text), 0)
	before := string(data[:at])
	line := 1 + strings.Count(before, "\n")
	column := at - strings.LastIndexByte(before, '\n')
	return fmt.Errorf("%s:%d:%d: %w", path, line, column, fmt.Errorf(format, args...))
}

// StorePath is where what is kept lies, or would lie.
func (p *Project) StorePath() string { return filepath.Join(p.Dir, storeName) }

// Store is the folder of what is kept. It is made where it does not exist, with
// a file of its own that keeps it out of git.
func (p *Project) Store() (string, error) {
	dir := p.StorePath()
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	ignore := filepath.Join(dir, ".gitignore")
	if _, err := os.Stat(ignore); err == nil {
		return dir, nil
	}
	return dir, os.WriteFile(ignore, []byte("*\n"), 0o644)
}

// Revision tells the git branch and revision of a folder, empty where it has none.
func Revision(ctx context.Context, dir string) string {
	git := func(args ...string) string {
		out, err := exec.CommandContext(ctx, "git", append([]string{"-C", dir}, args...)...).Output()
		if err != nil {
			return "" // no git or no repository: there is nothing to tell
		}
		return strings.TrimSpace(string(out))
	}
	branch, revision := git("rev-parse", "--abbrev-ref", "HEAD"), git("rev-parse", "--short", "HEAD")
	return strings.TrimSpace(branch + " " + revision)
}
