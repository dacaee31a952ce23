// Package project reads what a folder says about its tests: fern.toml, or without one its other files, and where
// data is kept.
//
//	p, err := project.Open(dir)
//	for _, suite := range p.Suites {
//		fmt.Println(suite.Name, suite.Kind)
//	}
package project

import (
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/pelletier/go-toml/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/lazy"
	"fernrelay/core/matrix"
	"fernrelay/core/pick"
	"fernrelay/internal/format"
	"fernrelay/internal/process"
	"fernrelay/internal/service"
)

// FileName is the name of a project's configuration.
const FileName = "fern.toml"

// Project is a folder with tests.
type Project struct {
	Dir         string // absolute
	Name        string
	Below       string // the folder in it that was opened, relative to Dir; empty for Dir itself
	Suites      []Suite
	Tags        []TagRule         // in the order of the file
	Picks       map[string]string // saved picks by name
	Rules       []Rule            // in the order of the file
	Resources   map[string]int    // how many tests may hold each at once
	Shared      []string          // resources that all machines share
	Start       time.Duration     // that a machine of the fleet takes before its first test; 0 to learn it
	Touched     []TouchRule       // in the order of the file
	Constrained bool              // tests behind a build constraint that is not met are tests as all others
	Workers     Workers
	Retention   Retention
	Services    []service.Spec
	Matrix      *Matrix          // nil if there is none
	Crossing    *matrix.Crossing // as Project.At returns it; nil for the project itself
}

// Kind says how a suite is found and run.
type Kind string

// The kinds of suite.
const (
	Go      Kind = "go"
	Host    Kind = "host"
	Command Kind = "command"
)

// Suite is one set of tests, found and run by one adapter.
type Suite struct {
	Name     string
	Kind     Kind
	Dir      string // relative to the project
	Limits   Limits
	Isolate  string        // what one process holds: one of isolations of the kind
	Together catalog.Level // what never runs side by side
	Services []string      // names of those that its tests need, beside those of all workers

	Go      GoSettings // of its kind; the others are empty
	Command CommandSettings
	Host    HostSettings
}

// GoSettings are the settings of a suite of Go packages.
type GoSettings struct {
	BuildFlags []string
	NoVet      bool     // packages in which vet finds a mistake are built
	Args       []string // of the test binaries
}

// CommandSettings are the settings of a suite that any program runs.
type CommandSettings struct {
	List    string         // the command line that lists the tests
	Run     string         // the one that runs some
	Results string         // one of ResultFormats; empty for exit
	Stdin   bool           // the program reads the names of the tests from its standard input
	Group   *regexp.Regexp // cuts the group of a test from its name; nil for its folder
}

// HostSettings are the settings of a suite that a test host runs.
type HostSettings struct {
	Run string // its command line
}

// Limits bound what the processes of a suite may take.
type Limits struct {
	Test      time.Duration // one test
	Idle      time.Duration // while no test runs: to start, between tests and to end, and to list the tests
	Start     time.Duration // the start of a host, until it says hello
	Handshake time.Duration // another answer of a host that runs no test for it
}

// Workers is the settings of the project's workers. The words of the commands and the values of Env may have
// {slot}, {space}, {tmp} and {port}.
type Workers struct {
	Count          int           // 0 if not given
	Prepare, Clean []string      // command lines: once per slot, before and after
	Timeout        time.Duration // of each of these; 0 if not given
	Env            map[string]string
	Services       []string // names of those that all tests need
}

// Retention says which runs stay in the ledger: the latest Runs, and those of the last Days days; 0 for all.
type Retention struct{ Runs, Days int }

// TagRule adds a tag to the tests of a pick.
type TagRule struct {
	Tag  string
	Pick pick.Expr
	From string // as "fern.toml:12"
}

// Rule sets rules on the tests of a pick, or clears them.
type Rule struct {
	Text  string // the pick as it is written
	Pick  pick.Expr
	Set   catalog.Rules
	Clear []string // names of rules
	From  string   // as "fern.toml:12"
}

// writtenRule is a [[rule]] as it is written.
type writtenRule struct {
	Pick string `toml:"pick"`
	catalog.Rules
	Clear []string `toml:"clear"`
}

// TouchRule says that a change to a file touches the tests of a pick.
type TouchRule struct {
	Files func(path string) bool // by the file's path relative to the project, with slashes
	Pick  pick.Expr
}

// ResultFormats returns what the results of a command may be.
func ResultFormats() []string {
	names := []string{format.Exit}
	for _, f := range format.Formats {
		names = append(names, f.Name)
	}
	return names
}

// isolations are the units that one process of a suite may run, by kind; the last is the default.
var isolations = map[Kind][]string{Go: {"test", "group"}, Command: {"test", "worker", "group"}, Host: {"test", "group", "worker"}}

// Limits that hold if a suite does not set others: a test may take as long as the Go toolchain allows a package.
const (
	defaultTimeout   = 10 * time.Minute
	defaultStart     = time.Minute
	defaultHandshake = 10 * time.Second
)

// defaultLimits are the limits of a suite that says nothing.
var defaultLimits = Limits{Test: defaultTimeout, Idle: defaultTimeout, Start: defaultStart, Handshake: defaultHandshake}

// file is fern.toml as it is written.
type file struct {
	Project struct {
		Name        string `toml:"name"`
		Outside     bool   `toml:"outside"`
		Constrained bool   `toml:"constrained"`
	} `toml:"project"`
	Suites    []suiteTable      `toml:"suite"`
	Services  []serviceTable    `toml:"service"`
	Matrix    *matrixTable      `toml:"matrix"`
	Tags      map[string]string `toml:"tags"`
	Picks     map[string]string `toml:"picks"`
	Rules     []writtenRule     `toml:"rule"`
	Resources map[string]int    `toml:"resources"`
	Fleet     struct {
		Resources []string `toml:"resources"`
		Start     string   `toml:"start"`
	} `toml:"fleet"`
	Touched map[string]string `toml:"touched"`
	Workers struct {
		Count   int               `toml:"count"`
		Prepare string            `toml:"prepare"`
		Clean   string            `toml:"clean"`
		Timeout string            `toml:"timeout"`
		Env     map[string]string `toml:"env"`

		Services []string `toml:"services"`
	} `toml:"workers"`
	Ledger struct {
		Runs int `toml:"runs"`
		Days int `toml:"days"`
	} `toml:"ledger"`
}

func parse(dir, path string, data []byte) (*Project, error) {
	var f file
	decoder := toml.NewDecoder(strings.NewReader(string(data)))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&f); err != nil {
		return nil, positioned(path, err)
	}
	p := &Project{Dir: dir, Name: f.Project.Name, Constrained: f.Project.Constrained}
	if p.Name == "" {
		p.Name = filepath.Base(dir)
	}
	d := newDocument(path, data)
	if err := p.addWorkers(&f, d); err != nil {
		return nil, err
	}
	p.Retention = Retention(f.Ledger)
	for key, n := range map[string]int{"runs": f.Ledger.Runs, "days": f.Ledger.Days} {
		if n < 0 {
			return nil, d.wrong(d.entry("ledger", 0, key), "the ledger keeps %d %s: a number from 1 is expected, or 0 for all", n, key)
		}
	}
	if f.Fleet.Start != "" {
		var err error
		if p.Start, err = time.ParseDuration(f.Fleet.Start); err != nil || p.Start <= 0 {
			return nil, d.wrong(d.entry("fleet", 0, "start"), "the start of a machine takes %q: a duration like 90s is expected", f.Fleet.Start)
		}
	}
	for _, add := range []func(*file, *document) error{p.addSuites, p.addPicks, p.addServices, p.addMatrix} {
		if err := add(&f, d); err != nil {
			return nil, err
		}
	}
	return p, nil
}

func (p *Project) addWorkers(f *file, d *document) (err error) {
	w := &f.Workers
	p.Workers = Workers{Count: w.Count, Env: w.Env, Services: w.Services}
	if w.Count < 0 {
		return d.wrong(d.entry("workers", 0, "count"), "count of [workers] is %d: a number from 1 is expected", w.Count)
	}
	if w.Timeout != "" {
		if p.Workers.Timeout, err = time.ParseDuration(w.Timeout); err != nil || p.Workers.Timeout <= 0 {
			return d.wrong(d.entry("workers", 0, "timeout"), "the timeout of prepare and clean is %q: a duration like 30s is expected", w.Timeout)
		}
	}
	for _, c := range []struct {
		key, text string
		words     *[]string
	}{{"prepare", w.Prepare, &p.Workers.Prepare}, {"clean", w.Clean, &p.Workers.Clean}} {
		if c.text == "" {
			continue
		}
		words, err := process.Words(c.text)
		if err != nil {
			return d.wrong(d.entry("workers", 0, c.key), "%s = %w", c.key, err)
		}
		words[0] = process.ProgramPath(p.Dir, words[0])
		*c.words = words
	}
	return nil
}

// defaultName names a suite after its folder or, in the project's own folder, after its kind: checkouts of one project
// may have different names.
func (s *Suite) defaultName() string {
	if base := path.Base(filepath.ToSlash(filepath.Clean(s.Dir))); base != "." {
		return base
	}
	return string(s.Kind)
}

// defaultTogether returns what never runs side by side unless the suite says so: groups, or nothing but each test by
// itself if each is a process of its own.
func (s *Suite) defaultTogether() catalog.Level {
	if s.Isolate == "test" || strings.Contains(s.Command.Run, "{name}") {
		return catalog.TestLevel
	}
	return catalog.GroupLevel
}

// plainName reports whether a suite's name can be the name of a folder and a part of an ID.
func plainName(name string) bool {
	return name != "" && name[0] != '.' && len(name) <= 100 && !strings.ContainsFunc(name, func(r rune) bool {
		return strings.ContainsRune(`:#/\`, r) || !unicode.IsPrint(r)
	})
}

// inside reports whether a folder, given relative to the project, is in it, also once its links
// are followed. One that does not exist counts as it is written.
func (p *Project) inside(dir string) bool {
	if !filepath.IsLocal(filepath.FromSlash(dir)) {
		return false
	}
	real, err := filepath.EvalSymlinks(filepath.Join(p.Dir, filepath.FromSlash(dir)))
	root, rootErr := filepath.EvalSymlinks(p.Dir)
	return err != nil || rootErr != nil || real == root || within(root, real)
}

// Check reports whether a rule names the rules that there are.
func (r *Rule) Check() error {
	var none catalog.Rules
	if reflect.DeepEqual(r.Set, none) && len(r.Clear) == 0 {
		return fmt.Errorf("this [[rule]] sets nothing: add one of %s, or clear", strings.Join(catalog.RuleNames, " "))
	}
	for _, rule := range r.Clear {
		if !slices.Contains(catalog.RuleNames, rule) {
			return fmt.Errorf("clear: %w", catalog.UnknownRule(rule))
		}
	}
	if err := r.Set.Check(); err != nil {
		return err
	}
	_, err := pick.ParseCondition(r.Set.OnlyIf)
	return err
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
		return fmt.Errorf("%s:%d:%d: %s", path, line, column, decodeWords(wrong))
	}
	return fmt.Errorf("%s: %w", path, err)
}

// mismatch is how the TOML package reports a value of another type than that of its key.
var mismatch = lazy.Regexp(`^cannot decode TOML (\w+) into .*\bof type (\S+)$`)

// expectedTypes describes the values that keys take, by the type of Go that holds them.
var expectedTypes = map[string]string{"string": "a text in quotes", "int": "a whole number", "bool": "true or false", "[]string": "a list of texts, as in [\"a\", \"b\"]"}

// decodeWords says what is wrong with a value, and how to write it.
func decodeWords(wrong *toml.DecodeError) string {
	text := strings.TrimPrefix(wrong.Error(), "toml: ")
	parts := mismatch().FindStringSubmatch(text)
	if parts == nil || len(wrong.Key()) == 0 {
		return text
	}
	key, expected := wrong.Key()[len(wrong.Key())-1], expectedTypes[strings.TrimPrefix(parts[2], "*")]
	if expected == "" {
		expected = "another kind of value"
	}
	words := fmt.Sprintf("%s has a value of type %s: %s is expected", key, parts[1], expected)
	switch {
	case slices.Contains([]string{"timeout", "idle-timeout", "start-timeout", "handshake-timeout", "every", "within", "start"}, key):
		words += fmt.Sprintf(", a time with its unit, as in %s = \"30s\"", key)
	case wrong.Key()[0] == "rule" && slices.Contains(catalog.RuleNames, key) && parts[2] == "string":
		words += fmt.Sprintf(", which says why, as in %s = \"the line is down\"", key)
	}
	return words
}

// known lists the keys that are expected in place of an unknown one.
func known(key []string) string {
	now := catalog.RenamedRules[key[len(key)-1]]
	if key[len(key)-1] == "build_flags" {
		now = "build-flags"
	}
	if now != "" {
		return "it is now called " + now
	}
	tables := map[string]string{
		"project": "name, outside, constrained", "suite": "name, kind, dir, list, run, results, build-flags, vet, args, timeout, idle-timeout, start-timeout, handshake-timeout, isolate, together, services", "workers": "count, prepare, clean, timeout, env, services", "ledger": "runs, days", "fleet": "resources, start",
		"service": "name, create, start, ready, every, within, stop, per, env, as, state, reset", "matrix": "pick, at-once, and the tables vary, with, add and then",
		"matrix.with": "of, services, share, env, build-flags, pick, leave-out, may-fail", "matrix.add": "of", "matrix.then": "run, within",
		"rule": "pick, " + strings.Join(catalog.RuleNames, ", ") + ", clear",
	}
	for n := len(key) - 1; n > 0; n-- {
		name := strings.Join(key[:n], ".")
		if keys, ok := tables[name]; ok {
			return "[" + name + "] takes " + keys
		}
	}
	return "the tables are [project], [[suite]], [tags], [picks], [[rule]], [resources], [fleet], [touched], [ledger], [workers], [[service]] and [matrix]"
}
