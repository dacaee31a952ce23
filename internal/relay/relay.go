// Package relay is the whole job on one project: it opens the project, finds
// its tests, and picks, plans, runs and hunts. The application and the commands
// both stand on it.
package relay

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/mattn/go-shellwords"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
	"fernrelay/core/outcome"
	"fernrelay/core/pick"
	"fernrelay/core/split"
	"fernrelay/core/timing"
	"fernrelay/internal/adapter"
	"fernrelay/internal/adapter/golang"
	"fernrelay/internal/adapter/host"
	"fernrelay/internal/engine"
	"fernrelay/internal/ledger"
	"fernrelay/internal/project"
)

// Relay is an open project.
type Relay struct {
	Project *project.Project
	Memory
	adapters map[string]adapter.Adapter // by suite
	ledger   *ledger.Ledger             // nil until there is something kept or to keep
}

// Memory is the tests as they were found, with what the ledger knows of them.
type Memory struct {
	Catalog *catalog.Catalog
	Past    map[string][]outcome.Outcome // of the latest runs, oldest first, by ID
	Runs    int                          // kept in the ledger
}

// Open opens the project of a folder and finds its tests.
func Open(ctx context.Context, dir string) (*Relay, error) {
	p, err := project.Open(dir)
	if err != nil {
		return nil, err
	}
	r := &Relay{Project: p, adapters: map[string]adapter.Adapter{}}
	for _, s := range p.Suites {
		if r.adapters[s.Name], err = newAdapter(p, s); err != nil {
			return nil, fmt.Errorf("suite %s: %w", s.Name, err)
		}
	}
	if _, err := os.Stat(filepath.Join(p.StorePath(), ledger.FileName)); err == nil {
		if err := r.openLedger(); err != nil {
			return nil, err
		}
	}
	if err := r.discover(ctx); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return r, nil
}

// Close closes what is kept.
func (r *Relay) Close() error {
	if r.ledger == nil {
		return nil
	}
	return r.ledger.Close()
}

func newAdapter(p *project.Project, s project.Suite) (adapter.Adapter, error) {
	dir := filepath.Join(p.Dir, filepath.FromSlash(s.Dir))
	if s.Kind == project.Host {
		command, err := shellwords.Parse(s.Run)
		if err != nil || len(command) == 0 {
			return nil, fmt.Errorf("run = %q is not a command line", s.Run)
		}
		if strings.HasPrefix(command[0], ".") {
			command[0] = filepath.Join(dir, command[0])
		}
		return host.New(host.Config{Suite: s.Name, Dir: dir, Below: filepath.ToSlash(filepath.Clean(s.Dir)), Command: command, Timeout: s.Timeout}), nil
	}
	store := filepath.Join(p.StorePath(), "build", s.Name)
	return golang.New(golang.Config{Suite: s.Name, Root: p.Dir, Dir: dir, Store: store,
		BuildFlags: s.BuildFlags, Args: s.Args, Timeout: s.Timeout})
}

func (r *Relay) openLedger() error {
	if r.ledger != nil {
		return nil
	}
	store, err := r.Project.Store()
	if err != nil {
		return err
	}
	r.ledger, err = ledger.Open(store)
	return err
}

// discover asks every suite for its tests and puts tags and times on them.
func (r *Relay) discover(ctx context.Context) error {
	var tests []catalog.Test
	for _, s := range r.Project.Suites {
		found, err := r.adapters[s.Name].Discover(ctx)
		if err != nil {
			return err
		}
		if len(found) == 0 {
			return fmt.Errorf("no tests here: suite %s of kind %s has none in %s: look whether the folder is the right one",
				s.Name, s.Kind, filepath.Join(r.Project.Dir, s.Dir))
		}
		tests = append(tests, found...)
	}
	var err error
	r.Memory, err = r.recall(catalog.New(tests))
	return err
}

// Recall reads again what the ledger knows, as after a run. It leaves the
// present memory as it is, which others may be reading.
func (r *Relay) Recall() (Memory, error) {
	return r.recall(catalog.New(slices.Clone(r.Catalog.Tests)))
}

// recall puts expected times on the tests, and the tags that go by them.
func (r *Relay) recall(c *catalog.Catalog) (Memory, error) {
	m := Memory{Catalog: c}
	seconds := map[string][]float64{}
	if r.ledger != nil {
		recent, err := r.ledger.Recent()
		if err != nil {
			return m, err
		}
		m.Past, seconds = outcomesOf(recent), secondsOf(recent)
		if m.Runs, err = r.ledger.Runs(); err != nil {
			return m, err
		}
	}
	timing.Expect(c.Tests, seconds)
	for _, rule := range r.Project.Tags {
		for i := range c.Tests {
			if t := &c.Tests[i]; rule.Pick.Match(t) {
				t.AddTag(rule.Tag)
			}
		}
	}
	return m, nil
}

func outcomesOf(recent map[string][]ledger.Moment) map[string][]outcome.Outcome {
	past := make(map[string][]outcome.Outcome, len(recent))
	for id, moments := range recent {
		for _, m := range moments {
			past[id] = append(past[id], m.Outcome)
		}
	}
	return past
}

// timesCounted is how many of a test's latest measurements make its expected time.
const timesCounted = 9

// secondsOf gives the latest measured seconds of every test.
func secondsOf(recent map[string][]ledger.Moment) map[string][]float64 {
	past := make(map[string][]float64, len(recent))
	for id, moments := range recent {
		for _, m := range slices.Backward(moments) {
			measured := m.Outcome == outcome.Passed || m.Outcome == outcome.Failed || m.Outcome == outcome.Owed || m.Outcome == outcome.Surprise
			if measured && len(past[id]) < timesCounted {
				past[id] = append(past[id], m.Seconds)
			}
		}
	}
	return past
}

// Workers is how many workers run where nothing is said: as fern.toml says, or
// one for each processor.
func (r *Relay) Workers() int {
	if r.Project.Workers > 0 {
		return r.Project.Workers
	}
	return runtime.GOMAXPROCS(0)
}

// Pick gives the tests that an expression holds, in the catalog's order.
func (r *Relay) Pick(text string) ([]catalog.Test, error) {
	expr, err := pick.Parse(text)
	if err != nil {
		return nil, err
	}
	if err := pick.Check(text, expr, r.Catalog); err != nil {
		return nil, err
	}
	var picked []catalog.Test
	for i := range r.Catalog.Tests {
		if expr.Match(&r.Catalog.Tests[i]) {
			picked = append(picked, r.Catalog.Tests[i])
		}
	}
	return picked, nil
}

// OrderFile reads an order from the lines of a file; each is an unambiguous
// ending of an ID.
func (r *Relay) OrderFile(path string) (order.Order, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return order.Order{}, err
	}
	var ids []string
	for n, line := range strings.Split(string(data), "\n") {
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		t, err := r.Catalog.Find(line)
		if err != nil {
			return order.Order{}, fmt.Errorf("%s:%d: %w", path, n+1, err)
		}
		ids = append(ids, t.ID)
	}
	return order.Listed(ids), nil
}

// Request says what to run and how.
type Request struct {
	Pick    string         // as it is kept with the run
	Tests   []catalog.Test // in the order to run
	InOrder bool           // keep to that order; else long groups may go first
	Workers int
}

// Share keeps the tests of shard k of n, from 1, as a plan deals them out.
func Share(tests []catalog.Test, k, n int) ([]catalog.Test, error) {
	units, err := split.Units(tests, split.Group)
	if err != nil {
		return nil, err
	}
	mine := map[string]bool{}
	for _, id := range split.Balance(units, n).Shards[k-1].Tests() {
		mine[id] = true
	}
	var share []catalog.Test
	for _, t := range tests {
		if mine[t.ID] {
			share = append(share, t)
		}
	}
	return share, nil
}

// Queue gives the batches of a request, the first to be taken first.
func (r *Relay) Queue(q Request) []engine.Batch { return engine.Queue(q.Tests, r.adapters, q.InOrder) }

// Run runs tests, tells the sink, and keeps the run in the ledger. The run is
// kept, and given, also where ctx ends.
func (r *Relay) Run(ctx context.Context, q Request, sink outcome.Sink) (run *outcome.Run, number int, err error) {
	if err := r.openLedger(); err != nil {
		return nil, 0, err
	}
	run = outcome.NewRun()
	job := engine.Job{Adapters: r.adapters, Queue: r.Queue(q), Workers: q.Workers}
	err = engine.Run(ctx, job, func(e outcome.Event) {
		run.Apply(e)
		sink(e)
	})
	if err != nil {
		return nil, 0, err
	}
	if number, err = r.ledger.Keep(q.Pick, q.Workers, run); err != nil {
		return run, 0, fmt.Errorf("the run cannot be kept in the ledger: %w", err)
	}
	return run, number, nil
}

// Last gives the latest run kept; ledger.ErrNoRun where there is none.
func (r *Relay) Last() (*ledger.Kept, *outcome.Run, error) {
	if r.ledger == nil {
		return nil, nil, ledger.ErrNoRun
	}
	return r.ledger.Last()
}
