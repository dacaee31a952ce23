// Package relay is the whole job on one project: it opens the project, finds
// its tests, and picks, plans, runs and hunts. The application and the commands
// both stand on it.
package relay

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/mattn/go-shellwords"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/adapter"
	"fernrelay/internal/adapter/command"
	"fernrelay/internal/adapter/golang"
	"fernrelay/internal/adapter/host"
	"fernrelay/internal/engine"
	"fernrelay/internal/ledger"
	"fernrelay/internal/project"
)

// Relay is an open project. It does not change once it is made, but for the
// ledger: With and Again give another.
type Relay struct {
	Project *project.Project
	Memory
	Own      Own
	Notes    []string // what is wrong and was passed over
	adapters map[string]adapter.Adapter
	found    map[string]adapter.Found // by suite, as the adapters gave it
	history  *openLedger
}

// Own is what holds for this session only.
type Own struct {
	Picks map[string]string // saved picks
	Rules []project.Rule
}

// Open opens the project of a folder and finds its tests. finding, which may be nil, is
// told what it is at.
func Open(ctx context.Context, dir string, finding func(what string)) (*Relay, error) {
	p, err := project.Open(dir)
	if err != nil {
		return nil, err
	}
	r := &Relay{Project: p, adapters: map[string]adapter.Adapter{}, found: map[string]adapter.Found{}, history: &openLedger{}}
	notes := append(r.openHistory(ctx), r.setup().Recover()...)
	if err = r.discover(ctx, finding); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	r.Notes = append(notes, r.Notes...)
	return r, nil
}

// Reload re-reads the project after files changed, given by their absolute paths. Only suites in whose
// folder something changed list their tests again.
func (r *Relay) Reload(ctx context.Context, changed []string) (*Relay, error) {
	p, err := project.Open(r.Project.Dir)
	if err != nil {
		return nil, err
	}
	again := &Relay{Project: p, Own: r.Own, adapters: map[string]adapter.Adapter{}, found: map[string]adapter.Found{}, history: r.history}
	for _, s := range p.Suites {
		within := filepath.Join(p.Dir, filepath.FromSlash(s.Dir))
		touched := slices.ContainsFunc(changed, func(file string) bool {
			below, err := filepath.Rel(within, file)
			return err == nil && filepath.IsLocal(below) && filepath.Base(file) != project.FileName
		})
		same := slices.ContainsFunc(r.Project.Suites, func(old project.Suite) bool { return reflect.DeepEqual(old, s) })
		if same && !touched {
			again.adapters[s.Name], again.found[s.Name] = r.adapters[s.Name], r.found[s.Name]
		}
	}
	return again, again.discover(ctx, nil)
}

// With gives the project with other things of this session.
func (r *Relay) With(own Own) (*Relay, error) {
	other := *r
	other.Own = own
	return &other, other.recall()
}

// Recall reads again what the ledger knows, as after a run.
func (r *Relay) Recall() (*Relay, error) { return r.With(r.Own) }

// Close closes what is kept.
func (r *Relay) Close() error {
	r.history.mu.Lock()
	defer r.history.mu.Unlock()
	if r.history.ledger == nil {
		return nil
	}
	return r.history.ledger.Close()
}

func newAdapter(p *project.Project, s project.Suite) (adapter.Adapter, error) {
	dir := filepath.Join(p.Dir, filepath.FromSlash(s.Dir))
	below := filepath.ToSlash(filepath.Clean(s.Dir))
	switch s.Kind {
	case project.Host:
		words, err := commandLine(dir, "run", s.Run)
		return host.New(host.Config{Suite: s.Name, Dir: dir, Below: below, Command: words, Limits: adapter.Limits(s.Limits), Isolate: adapter.Isolation(s.Isolate)}), err
	case project.Command:
		list, err := commandLine(dir, "list", s.List)
		if err != nil {
			return nil, err
		}
		run, err := commandLine(dir, "run", s.Run)
		if err != nil {
			return nil, err
		}
		return command.New(command.Config{Suite: s.Name, Dir: dir, Below: below, List: list, Run: run, Results: s.Results, Limits: adapter.Limits(s.Limits), Isolate: adapter.Isolation(s.Isolate)})
	}
	store := filepath.Join(p.StorePath(), "build", s.Name)
	return golang.New(golang.Config{Suite: s.Name, Root: p.Dir, Dir: dir, Store: store, Keep: p.Store,
		BuildFlags: s.BuildFlags, Args: s.Args, Limits: adapter.Limits(s.Limits), Isolate: adapter.Isolation(s.Isolate)})
}

// commandLine parts a command line into words; a program that is named by its
// place is looked for from the suite's folder on.
func commandLine(dir, key, text string) ([]string, error) {
	words, err := shellwords.Parse(text)
	if err != nil || len(words) == 0 {
		return nil, fmt.Errorf("%s = %q is not a command line", key, text)
	}
	if strings.HasPrefix(words[0], ".") {
		words[0] = filepath.Join(dir, words[0])
	}
	return words, nil
}

// discover asks every suite for its tests that has not been asked.
func (r *Relay) discover(ctx context.Context, finding func(what string)) error {
	var nothing []string
	for _, s := range r.Project.Suites {
		if r.adapters[s.Name] == nil {
			a, err := newAdapter(r.Project, s)
			if err != nil {
				return fmt.Errorf("suite %s: %w", s.Name, err)
			}
			if finding != nil {
				finding("finding the tests of suite " + s.Name)
			}
			found, err := a.Discover(ctx)
			if err != nil {
				return err
			}
			r.adapters[s.Name], r.found[s.Name] = a, found
		}
		if why := r.found[s.Name].Nothing; why != "" {
			nothing = append(nothing, fmt.Sprintf("no tests in suite %s (%s): %s", s.Name, s.Kind, why))
		}
	}
	if len(nothing) == len(r.Project.Suites) {
		return errors.New(strings.Join(nothing, "\n"))
	}
	return r.recall()
}

// Workers is how many workers run where nothing is said: as fern.toml says, or
// one for each processor.
func (r *Relay) Workers() int {
	if r.Project.Workers.Count > 0 {
		return r.Project.Workers.Count
	}
	return runtime.GOMAXPROCS(0)
}

// Pick gives the tests that an expression holds, in the catalog's order. They are not
// to be changed.
func (r *Relay) Pick(text string) ([]catalog.Test, error) {
	_, held, err := r.Index.Pick(text)
	if err != nil {
		return nil, err
	}
	return r.Catalog.Only(held), nil
}

// Lone applies the rule lone to the tests of a run: where any has it, the others
// are skipped.
func Lone(tests []catalog.Test) []catalog.Test {
	at := slices.IndexFunc(tests, func(t catalog.Test) bool { return t.Rules.Lone != "" && t.SkipReason == "" })
	if at < 0 {
		return tests
	}
	why := "only tests with the rule lone run, such as " + tests[at].ID
	tests = slices.Clone(tests)
	for i := range tests {
		if t := &tests[i]; t.Rules.Lone == "" && t.SkipReason == "" {
			setSkipReason(t, why)
		}
	}
	return tests
}

// Contradictions tells which build constraints among the tests exclude each
// other, so that no one build holds them all.
func Contradictions(tests []catalog.Test) []string {
	counts := map[string]int{}
	elsewhere := map[string]bool{}
	for _, t := range tests {
		for _, tag := range t.Tags {
			counts[tag]++
			elsewhere[tag] = elsewhere[tag] || t.SkipReason != ""
		}
	}
	var notes []string
	for _, tag := range slices.Sorted(maps.Keys(counts)) {
		opposite, negated := strings.CutPrefix(tag, "!")
		if !negated || counts[opposite] == 0 {
			continue
		}
		how := "they are built apart"
		if elsewhere[tag] || elsewhere[opposite] {
			how = "those that this machine cannot build are skipped"
		}
		notes = append(notes, fmt.Sprintf("the picked tests stand behind contradicting build constraints, %s (%d) and %s (%d): %s",
			opposite, counts[opposite], tag, counts[tag], how))
	}
	return notes
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
	Worker  map[string]int // by ID: the only worker that runs it, where that is planned
	Shard   *run.Planned   // the shard of a plan that this is, if it is one

	Schedule *split.Schedule // as Schedule returns it; nil to build it
	Before   *run.Run        // what a run had come to that was killed and that this resumes
	Planned  float64         // seconds that a plan says it takes; 0 where it is not planned
	Together split.Together  // what never runs side by side; as each suite says where empty
	First    map[string]int  // by ID, from 1: the rank of tests that go before others

	StopAfter int             // after so many bad outcomes nothing new is begun; 0 for never
	Retries   int             // how often a test that was bad runs again
	Limit     time.Duration   // of one test; 0 where its suite's holds
	Control   *engine.Control // steers the run; nil where nobody does
	Making    func(string)    // told what is made ready; may be nil
	Order     string          // the rule of the order, as it is kept with the run
}

// Schedule returns the schedule of a request. It is built once per run, and shared with those who follow it.
func (r *Relay) Schedule(q Request) *split.Schedule {
	deal := split.Deal{Resources: r.Project.Resources, Lasting: map[string]bool{}, Workers: q.Workers, InOrder: q.InOrder, Worker: q.Worker, First: q.First, Together: map[string]split.Together{}}
	for _, s := range r.Project.Suites {
		deal.Together[s.Name] = cmp.Or(q.Together, s.Together)
	}
	for suite, a := range r.adapters {
		deal.Lasting[suite] = a.Scope() == adapter.ScopeWorker
	}
	return deal.Schedule(q.Tests)
}

// Ready makes a request of tests: those that must wait for others stand behind
// them, and lone is obeyed. The error names tests that wait for each other in a
// circle.
func (r *Relay) Ready(text string, tests []catalog.Test, workers int) (Request, error) {
	settled, err := order.Settle(Lone(tests))
	return Request{Pick: text, Tests: settled, Workers: workers}, err
}

// setup is what the project wants done with the slots of its workers.
func (r *Relay) setup() adapter.Setup {
	w := r.Project.Workers
	return adapter.Setup{Dir: r.Project.Dir, Env: w.Env, Prepare: w.Prepare, Clean: w.Clean, Timeout: w.Timeout, Records: filepath.Join(r.Project.StorePath(), "slots")}
}

// Run runs tests, passes on what happens to the sink, and keeps the run in the ledger, also if ctx ends. If
// it cannot be kept, the error says why and what becomes of it; the run is returned all the same.
func (r *Relay) Run(ctx context.Context, q Request, sink run.Sink) (ran *run.Run, number int, err error) {
	schedule := q.Schedule
	if schedule == nil {
		schedule = r.Schedule(q)
	}
	task := q.task(schedule)
	task.Revision, task.Dirty = project.Origin(ctx, r.Project.Dir)
	journal, note, unwritten := r.beginJournal(task)
	ran = run.New()
	setup := r.setup()
	setup.Limit = q.Limit
	job := engine.Job{Adapters: r.adapters, Schedule: schedule, Workers: q.Workers, Setup: setup,
		StopAfter: q.StopAfter, Retries: q.Retries, Control: q.Control, Floods: journal.Floods(), Making: q.Making}
	err = engine.Run(ctx, job, func(e run.Event) {
		if e.Event == run.RunBegins {
			e.Planned = q.Shard
		}
		ran.Apply(e)
		if e.Event == run.Finished && e.Outcome.Bad() {
			journal.TellOutput(ran.Result(e.ID), e)
		}
		journal.Tell(e)
		if e.Event == run.RunBegins && q.Before != nil {
			q.Before.Replay(func(e run.Event) { // so that it stands there whole
				if e.Worker, e.Batch = 0, 0; e.Event == run.Finished {
					journal.Tell(e)
				}
			})
		}
		sink(e)
	})
	if err != nil {
		return nil, 0, errors.Join(err, journal.End())
	}
	ran.Note = strings.TrimSpace(ran.Note + "\n" + note)
	number, err = r.keep(task.RunRecord(journal.Name()), ran)
	switch {
	case number > 0:
		return ran, number, errors.Join(err, journal.End())
	case unwritten != nil:
		return ran, 0, fmt.Errorf("nothing of this run is kept: %w", cmp.Or(err, unwritten))
	}
	return ran, 0, errors.Join(fmt.Errorf("the run cannot be kept in the ledger: %w. Its journal %s stays, and the next command keeps it", err, journal.Name()), journal.Leave(ran))
}

// beginJournal begins the journal of a run, and makes room for it on a full disk, which the note
// says. Without a journal the run goes on, and is lost if its process is killed; the error says why.
func (r *Relay) beginJournal(task ledger.Task) (journal *ledger.Journal, note string, err error) {
	store, err := r.Project.Store()
	if err != nil {
		return nil, "", err
	}
	journal, err = ledger.BeginJournal(store, task)
	if !errors.Is(err, syscall.ENOSPC) {
		return journal, "", err
	}
	if freed := ledger.MakeRoom(store); freed > 0 {
		note = fmt.Sprintf("the disk was full: %.1f MB of output and steps of earlier runs that could not be kept are removed", float64(freed)/1e6)
		journal, err = ledger.BeginJournal(store, task)
	}
	return journal, note, err
}

// Last gives the latest run kept; ledger.ErrNoRun where there is none.
func (r *Relay) Last() (*ledger.RunRecord, *run.Run, error) { return r.run(0) }
