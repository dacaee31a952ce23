package project

import (
	"cmp"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"fernrelay/core/catalog"
)

// suiteTable is a [[suite]] as fern.toml has it.
type suiteTable struct {
	Name       string   `toml:"name"`
	Kind       string   `toml:"kind"`
	Dir        string   `toml:"dir"`
	List       string   `toml:"list"`
	Run        string   `toml:"run"`
	Results    string   `toml:"results"`
	Names      string   `toml:"names"`
	Group      string   `toml:"group"`
	BuildFlags []string `toml:"build-flags"`
	Vet        *bool    `toml:"vet"`
	Args       []string `toml:"args"`
	Timeout    string   `toml:"timeout"`
	Idle       string   `toml:"idle-timeout"`
	Start      string   `toml:"start-timeout"`
	Handshake  string   `toml:"handshake-timeout"`
	Isolate    string   `toml:"isolate"`
	Together   string   `toml:"together"`
	Services   []string `toml:"services"`
}

// wrongKey returns the error of a key of a table.
type wrongKey func(key, format string, args ...any) error

func (p *Project) addSuites(f *file, d *document) error {
	for n := range f.Suites {
		s := &f.Suites[n]
		suite := p.newSuite(s)
		wrong := func(key, format string, args ...any) error { return d.wrong(d.entry("suite", n, key), format, args...) }
		if err := cmp.Or(p.checkSuite(&suite, s, wrong), s.setLevels(&suite, wrong), s.setLimits(&suite, wrong)); err != nil {
			return err
		}
		if !f.Project.Outside && !p.inside(suite.Dir) {
			return wrong("dir", "the folder of suite %s is %q, outside the project: choose one below %s, or set outside = true in [project]", suite.Name, s.Dir, p.Dir)
		}
		p.Suites = append(p.Suites, suite)
	}
	if len(p.Suites) == 0 {
		return p.addDefaultSuites()
	}
	return nil
}

// newSuite returns the suite of a table, as far as nothing in it can be wrong.
func (p *Project) newSuite(s *suiteTable) Suite {
	suite := Suite{Name: s.Name, Kind: Kind(s.Kind), Dir: cmp.Or(s.Dir, "."), Limits: defaultLimits, Services: s.Services}
	switch suite.Kind {
	case Go:
		suite.Go = GoSettings{s.BuildFlags, s.Vet != nil && !*s.Vet, s.Args}
	case Command:
		suite.Command = CommandSettings{s.List, s.Run, s.Results, s.Names == namesOnInput, groupPattern(s.Group)}
	case Host:
		suite.Host = HostSettings{s.Run}
	}
	if suite.Name == "" {
		suite.Name = suite.defaultName()
	}
	if filepath.IsAbs(suite.Dir) {
		if below, err := filepath.Rel(p.Dir, suite.Dir); err == nil {
			suite.Dir = filepath.ToSlash(below)
		}
	}
	return suite
}

// checkSuite refuses names that are taken or cannot be used, and what its kind lacks.
func (p *Project) checkSuite(suite *Suite, s *suiteTable, wrong wrongKey) error {
	switch {
	case !plainName(suite.Name):
		return wrong("name", "a suite's name is %q: expected letters, digits and signs other than : # / \\, and no dot in front, as a folder is named after it", suite.Name)
	case slices.ContainsFunc(p.Suites, func(other Suite) bool { return other.Name == suite.Name }):
		return wrong("name", "two suites are named %q: give each a name of its own", suite.Name)
	case isolations[suite.Kind] == nil:
		return wrong("kind", "the kind of suite %s is %q: go, command or host is expected", suite.Name, s.Kind)
	case suite.Kind == Host && s.Run == "":
		return wrong("run", "suite %s is a host and has no run: add its command line", suite.Name)
	case suite.Kind == Command && (s.List == "" || s.Run == ""):
		return wrong("list", "suite %s is of kind command: add list and run", suite.Name)
	case suite.Kind != Command && s.Names != "":
		return wrong("names", "suite %s is of kind %s: names is a key of a command", suite.Name, s.Kind)
	case suite.Kind != Command && s.Group != "":
		return wrong("group", "suite %s is of kind %s: group is a key of a command", suite.Name, s.Kind)
	case s.Names != "" && s.Names != namesOnInput:
		return wrong("names", "names of suite %s is %q: \"stdin\" is expected, for names on standard input, one a line", suite.Name, s.Names)
	case s.Group != "" && groupPattern(s.Group) == nil:
		return wrong("group", "group of suite %s is %q: a regular expression with one group is expected, as \"/^(.*)[.]/\"", suite.Name, s.Group)
	case s.Results != "" && !slices.Contains(ResultFormats(), s.Results):
		return wrong("results", "the results of suite %s are %q: one of %s is expected", suite.Name, s.Results, strings.Join(ResultFormats(), ", "))
	}
	return nil
}

// setLevels sets what one process holds and what never runs side by side.
func (s *suiteTable) setLevels(suite *Suite, wrong wrongKey) error {
	held := isolations[suite.Kind]
	if held == nil {
		return nil // checkSuite refuses its kind
	}
	if suite.Isolate = cmp.Or(s.Isolate, held[len(held)-1]); !slices.Contains(held, suite.Isolate) {
		return wrong("isolate", "isolate of suite %s is %q: for kind %s it is one of %s", suite.Name, s.Isolate, s.Kind, strings.Join(held, ", "))
	}
	if suite.Together = cmp.Or(catalog.Level(s.Together), suite.defaultTogether()); suite.Together.Check() != nil {
		return wrong("together", "together of suite %s is %q: it is one of test, file, group, suite", suite.Name, s.Together)
	}
	return nil
}

// setLimits sets the limits of its processes.
func (s *suiteTable) setLimits(suite *Suite, wrong wrongKey) error {
	for _, limit := range []struct {
		key, text string
		into      *time.Duration
	}{{"timeout", s.Timeout, &suite.Limits.Test}, {"idle-timeout", cmp.Or(s.Idle, s.Timeout), &suite.Limits.Idle}, {"start-timeout", s.Start, &suite.Limits.Start}, {"handshake-timeout", s.Handshake, &suite.Limits.Handshake}} {
		if limit.text == "" {
			continue
		}
		given, err := time.ParseDuration(limit.text)
		if err != nil || given <= 0 {
			return wrong(limit.key, "the %s of suite %s is %q: a duration like 30s is expected", limit.key, suite.Name, limit.text)
		}
		*limit.into = given
	}
	return nil
}

// namesOnInput is the value of names if the program reads them from its standard input.
const namesOnInput = "stdin"

// groupPattern returns the regular expression between the slashes of a text, nil if it is none or has no group.
func groupPattern(text string) *regexp.Regexp {
	inner, found := strings.CutPrefix(text, "/")
	inner, closed := strings.CutSuffix(inner, "/")
	pattern, err := regexp.Compile(inner)
	if !found || !closed || err != nil || pattern.NumSubexp() != 1 {
		return nil
	}
	return pattern
}
