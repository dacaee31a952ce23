// Package workspace holds an open project: its adapters, and the tests that they found with everything that
// fern.toml, earlier runs and the session say about them.
//
//	w, err := workspace.Open(ctx, project, recall, nil)
//	tests, err := w.Pick("frost not nightly")
//	...
//	w, err = w.Reload(ctx, changedFiles, recall)
//
// A Workspace never changes. [Workspace.Reload] and [Workspace.With] return another one.
package workspace

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/pick"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/adapter/command"
	"fernrelay/internal/adapter/golang"
	"fernrelay/internal/adapter/host"
	"fernrelay/internal/process"
	"fernrelay/internal/processors"
	"fernrelay/internal/project"
	"fernrelay/internal/service"
)

// Workspace is an open project.
type Workspace struct {
	Project *project.Project
	Tests
	Own      Own
	Notes    []string                   // what is wrong and is ignored
	Adapters map[string]adapter.Adapter // by suite
	Broken   map[string]error           // by suite: why its tests cannot be found
	found    map[string]adapter.Found   // by suite; the catalog takes the tests over
	saved    map[string]string          // picks by name
	said     map[int]said               // by index of the catalog's tests: what the adapters said about those that differ
}

// Own is what a person set for this session only.
type Own struct {
	Picks map[string]string // saved picks
	Rules []project.Rule
}

// Past is what earlier runs say about the tests of a catalog.
type Past struct {
	Times  history.Times
	Latest [][]run.Outcome // by index of the catalog's tests, the oldest first; nil if nothing is known
	Runs   int
	Rates  func() []float64           // pass rates by index of the catalog's tests, NaN for those without one
	Steps  func() map[string][]string // the names of steps by ID
	// In returns Latest and Rates of only the runs of crossings with some values.
	In    func(of matrix.Assignment) (Past, error)
	Notes []string // what is wrong with the past and is ignored
}

// latest returns the latest outcomes of the test at an index.
func (p *Past) latest(i int) []run.Outcome {
	if p.Latest == nil {
		return nil
	}
	return p.Latest[i]
}

// Recall returns the past of a catalog's tests.
type Recall func(*catalog.Catalog) (Past, error)

// Open finds the tests of a project. It calls progress, which may be nil, with what it does.
func Open(ctx context.Context, p *project.Project, recall Recall, progress func(what string)) (*Workspace, error) {
	w := &Workspace{Project: p, Adapters: map[string]adapter.Adapter{}, Broken: map[string]error{}, found: map[string]adapter.Found{}}
	return w, w.discover(ctx, recall, progress)
}

// Reload re-reads the project after files changed, given by their absolute paths. Suites in whose folder
// nothing changed keep the tests that they have.
func (w *Workspace) Reload(ctx context.Context, changed []string, recall Recall) (*Workspace, error) {
	p, err := project.Open(w.Project.Dir)
	if err != nil {
		return nil, err
	}
	p.Below = w.Project.Below
	other := &Workspace{Project: p, Own: w.Own, Adapters: map[string]adapter.Adapter{}, Broken: map[string]error{}, found: map[string]adapter.Found{}}
	found := w.refound()
	for _, s := range p.Suites {
		within := filepath.Join(p.Dir, filepath.FromSlash(s.Dir))
		touched := slices.ContainsFunc(changed, func(file string) bool {
			below, err := filepath.Rel(within, file)
			return err == nil && filepath.IsLocal(below) && filepath.Base(file) != project.FileName
		})
		same := slices.ContainsFunc(w.Project.Suites, func(old project.Suite) bool { return reflect.DeepEqual(old, s) })
		if same && !touched {
			other.Adapters[s.Name], other.found[s.Name] = w.Adapters[s.Name], found[s.Name]
		}
	}
	return other, other.discover(ctx, recall, nil)
}

// With returns the workspace with other picks and rules of the session, and with the past as it is now.
func (w *Workspace) With(own Own, recall Recall) (*Workspace, error) {
	other := *w
	other.Own = own
	return &other, other.describe(w.Catalog.With(w.undescribed()), recall)
}

// GoTest is a test in Go source.
type GoTest struct {
	File     string // absolute
	Function string
	Flags    []string // of its build
}

// GoTest returns where a test is in Go source; ok is false if it is in no Go suite.
func (w *Workspace) GoTest(t *catalog.Test) (at GoTest, ok bool) {
	a, ok := w.Adapters[t.Suite].(adapter.Sourced)
	if !ok || t.File == "" {
		return at, false
	}
	at.File = filepath.Join(w.Project.Dir, filepath.FromSlash(t.File))
	at.Function, at.Flags = a.Source(t)
	return at, at.Function != ""
}

// WithSources returns the adapters, of which the one of a suite uses other contents of some files, by their absolute
// paths, and builds in a store of its own.
func (w *Workspace) WithSources(suite, store string, contents map[string][]byte) (map[string]adapter.Adapter, error) {
	a, ok := w.Adapters[suite].(adapter.Editable)
	if !ok {
		return nil, fmt.Errorf("no other source of the tests of suite %s can be tried", suite)
	}
	adapters := maps.Clone(w.Adapters)
	var err error
	adapters[suite], err = a.WithSources(store, contents)
	return adapters, err
}

// At returns the workspace as it is in a crossing of the project's matrix.
func (w *Workspace) At(c *matrix.Crossing, recall Recall) (*Workspace, error) {
	at := *w
	at.Project = w.Project.At(c)
	at.Adapters = maps.Clone(w.Adapters)
	tests := w.undescribed()
	for _, s := range at.Project.Suites {
		a, ok := at.Adapters[s.Name].(adapter.Varied)
		if !ok {
			continue
		}
		there, err := a.Elsewhere(at.Project.BuildPath(s), s.Go.BuildFlags, environment(at.Project))
		if err != nil {
			return nil, fmt.Errorf("suite %s: %w", s.Name, err)
		}
		for i := range tests {
			if tests[i].Suite == s.Name {
				there.Constrain(&tests[i])
			}
		}
		at.Adapters[s.Name] = there
	}
	return &at, at.describe(w.Catalog.With(tests), recall)
}

func newAdapter(p *project.Project, s project.Suite) (adapter.Adapter, error) {
	dir := filepath.Join(p.Dir, filepath.FromSlash(s.Dir))
	below := filepath.ToSlash(filepath.Clean(s.Dir))
	switch s.Kind {
	case project.Host:
		words, err := commandLine(dir, "run", s.Host.Run)
		return host.New(host.Config{Suite: s.Name, Dir: dir, Below: below, Command: words, Limits: process.Limits(s.Limits), Isolate: held(s)}), err
	case project.Command:
		list, err := commandLine(dir, "list", s.Command.List)
		if err != nil {
			return nil, err
		}
		run, err := commandLine(dir, "run", s.Command.Run)
		if err != nil {
			return nil, err
		}
		return command.New(command.Config{Suite: s.Name, Dir: dir, Below: below, List: list, Run: run, Results: s.Command.Results, Limits: process.Limits(s.Limits),
			Isolate: held(s), Stdin: s.Command.Stdin, Group: s.Command.Group})
	}
	return golang.New(golang.Config{Suite: s.Name, Root: p.Dir, Dir: dir, Store: p.BuildPath(s), Data: p.StorePath(), Keep: p.Store,
		BuildFlags: s.Go.BuildFlags, Env: environment(p), NoVet: s.Go.NoVet, Args: s.Go.Args, Limits: process.Limits(s.Limits), Isolate: held(s)})
}

// held returns what one process of a suite holds: of a worker, all that it runs of the suite.
func held(s project.Suite) catalog.Level {
	if s.Isolate == "worker" {
		return catalog.SuiteLevel
	}
	return catalog.Level(s.Isolate)
}

// environment returns what the project sets for the workers of all suites.
func environment(p *project.Project) []string {
	var env []string
	for _, name := range slices.Sorted(maps.Keys(p.Workers.Env)) {
		env = append(env, name+"="+p.Workers.Env[name])
	}
	return env
}

// commandLine splits a command line into words. A program whose name begins with a dot is relative to the
// suite's folder.
func commandLine(dir, key, text string) ([]string, error) {
	words, err := process.Words(text)
	if err != nil {
		return nil, fmt.Errorf("%s = %w", key, err)
	}
	words[0] = process.ProgramPath(dir, words[0])
	return words, nil
}

// discover finds the tests of each suite that has not been asked yet. A suite whose tests cannot be found is broken; that
// is an error only if no suite is left.
func (w *Workspace) discover(ctx context.Context, recall Recall, progress func(what string)) error {
	var nothing []string
	for _, s := range w.Project.Suites {
		if err := w.find(ctx, s, progress); err != nil {
			if ctx.Err() != nil || len(w.Project.Suites) == 1 {
				return err
			}
			w.Broken[s.Name] = err
			nothing = append(nothing, err.Error())
			continue
		}
		if why := w.found[s.Name].Nothing; why != "" {
			nothing = append(nothing, fmt.Sprintf("no tests in suite %s (%s): %s", s.Name, s.Kind, why))
		}
	}
	if len(nothing) == len(w.Project.Suites) {
		return errors.New(strings.Join(nothing, "\n"))
	}
	return w.describe(w.catalog(), recall)
}

// Missing returns an error if a pick may select tests of a suite that is broken, so that its answer is not whole.
func (w *Workspace) Missing(text string) error {
	e, err := pick.Parse(text)
	if err != nil {
		return err
	}
	for _, s := range w.Project.Suites {
		if why := w.Broken[s.Name]; why != nil && w.Index.MaySelect(e, s.Name) {
			return fmt.Errorf("the pick may select tests of suite %s, which cannot be read: mend the suite, or leave it out with -p 'not suite:%s'", s.Name, s.Name)
		}
	}
	return nil
}

// find finds the tests of a suite, unless it has been asked before.
func (w *Workspace) find(ctx context.Context, s project.Suite, progress func(what string)) error {
	if w.Adapters[s.Name] != nil {
		return nil
	}
	a, err := newAdapter(w.Project, s)
	if err != nil {
		return fmt.Errorf("suite %s: %w", s.Name, err)
	}
	if progress != nil {
		progress("finding the tests of suite " + s.Name)
	}
	found, err := a.Discover(ctx)
	if err != nil {
		return err
	}
	w.Adapters[s.Name], w.found[s.Name] = a, found
	return nil
}

// Workers returns the default number of workers: that of fern.toml, or one per processor.
func (w *Workspace) Workers() int {
	if w.Project.Workers.Count > 0 {
		return w.Project.Workers.Count
	}
	return processors.Count()
}

// Services says which services the project's suites need, and what prepares and cleans its workers.
func Services(p *project.Project) service.Config {
	c := service.Config{Specs: p.Services, Needs: map[string][]string{"": p.Workers.Services}, Dir: p.Dir, Data: p.ServicesPath()}
	for _, s := range p.Suites {
		c.Needs[s.Name] = p.ServicesOf(s)
	}
	if p.Crossing != nil {
		c.Share = p.Crossing.Share
	}
	return c
}

// Setup says what the project wants done with the slots of its workers.
func Setup(p *project.Project) process.Setup {
	w := p.Workers
	return process.Setup{Dir: p.Dir, Env: w.Env, Prepare: w.Prepare, Clean: w.Clean, Timeout: w.Timeout, Records: p.RecordsPath()}
}
