// Package app has the use cases of Fern Relay without a screen: what the application and the commands both
// need.
//
//	a, err := app.Open(ctx, dir, nil)
//	defer a.Close()
//	tests, err := a.Pick("frost not nightly")
//	request, err := a.Request("frost not nightly", tests, a.Workers())
//	result, number, err := a.Run(ctx, request, sink)
//
// An [App] does not change: [App.Reload], [App.With] and [App.Recall] return another one that shares its
// ledger. A [History] is enough for what needs the ledger only.
package app

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/internal/ledger"
	"fernrelay/internal/project"
	"fernrelay/internal/workspace"
)

// App is an open project with its history.
type App struct {
	*workspace.Workspace
	history *History
}

// Open opens the project of a folder and finds its tests. It calls progress, which may be nil, with what it does.
func Open(ctx context.Context, dir string, progress func(what string)) (*App, error) {
	h, err := openHistory(ctx, dir)
	if err != nil {
		return nil, err
	}
	return h.open(ctx, progress)
}

// OpenToRun is Open, and asks git meanwhile what the first run keeps of the project, which takes as long.
func OpenToRun(ctx context.Context, dir string, progress func(what string)) (*App, error) {
	p, err := project.Open(dir)
	if err != nil {
		return nil, err
	}
	origin := sync.OnceValue(func() run.Source { return project.Origin(ctx, p.Dir) })
	go origin()
	h := historyOf(ctx, p)
	h.origin.Store(&origin)
	return h.open(ctx, progress)
}

// OpenWithPast is Open, and reads meanwhile what the latest runs say, at most n of them.
func OpenWithPast(ctx context.Context, dir string, n int, progress func(what string)) (*App, *history.Past, error) {
	h, err := openHistory(ctx, dir)
	if err != nil {
		return nil, nil, err
	}
	meanwhile, l := make(chan *history.Past, 1), h.Ledger()
	go func() {
		past, err := l.Past(n, nil)
		if err != nil {
			past = nil // opening sets a damaged ledger aside
		}
		meanwhile <- past
	}()
	a, err := h.open(ctx, progress)
	past := <-meanwhile
	if err != nil || past != nil {
		return a, past, err
	}
	if past, err = a.Ledger().Past(n, nil); err != nil {
		return nil, nil, errors.Join(err, a.Close())
	}
	return a, past, nil
}

// open finds the tests of the history's project.
func (h *History) open(ctx context.Context, progress func(what string)) (*App, error) {
	w, err := workspace.Open(ctx, h.Project, h.recall(ctx), progress)
	if err != nil {
		return nil, errors.Join(err, h.Close())
	}
	w.Notes = append(h.Notes, w.Notes...)
	return New(w, h), nil
}

// New returns a project with its history.
func New(w *workspace.Workspace, h *History) *App { return &App{w, h} }

// Reload re-reads the project after files changed, given by their absolute paths.
func (a *App) Reload(ctx context.Context, changed []string) (*App, error) {
	w, err := a.Workspace.Reload(ctx, changed, a.history.recall(ctx))
	if err != nil {
		return nil, err
	}
	return &App{w, a.history}, nil
}

// With returns the project with other picks and rules of this session.
func (a *App) With(own workspace.Own) (*App, error) {
	w, err := a.Workspace.With(own, a.history.recall(context.Background()))
	if err != nil {
		return nil, err
	}
	return &App{w, a.history}, nil
}

// Timed returns the project with the times of some tests, as of a file, in place of those of the ledger.
func (a *App) Timed(tests []catalog.Test) (*App, error) {
	recall := a.history.recall(context.Background())
	w, err := a.Workspace.With(a.Own, func(c *catalog.Catalog) (workspace.Past, error) {
		past, err := recall(c)
		past.Times = history.TimesOf(tests)
		return past, err
	})
	if err != nil {
		return nil, err
	}
	return &App{w, a.history}, nil
}

// Recall returns the project with what the ledger knows now, as after a run.
func (a *App) Recall() (*App, error) { return a.With(a.Own) }

// History returns the history of the project.
func (a *App) History() *History { return a.history }

// Ledger returns the project's ledger, to read from.
func (a *App) Ledger() *ledger.Ledger { return a.history.Ledger() }

// Close closes the ledger.
func (a *App) Close() error { return a.history.Close() }

// Watch calls changed with the absolute paths of files in the project that change, until ctx ends. An error
// means that it no longer notices changes.
func (a *App) Watch(ctx context.Context, changed func(files []string)) error {
	return project.Watch(ctx, a.Project.Dir, changed)
}

// recall reads from the ledger what a workspace needs to know of the past. If the ledger is damaged, it sets
// it aside and continues without.
func (h *History) recall(ctx context.Context) workspace.Recall {
	return func(c *catalog.Catalog) (past workspace.Past, err error) {
		known, err := h.store.Known(c)
		if err != nil {
			past.Notes, _ = h.store.Recover(ctx, err) // the notes name the error
			known, err = h.store.Known(c)
		}
		if err != nil {
			return past, err
		}
		past.Times, past.Latest, past.Runs = known.Times, known.Latest, known.Runs
		for _, r := range known.Renamed {
			past.Notes = append(past.Notes, fmt.Sprintf("suite %s has no past, but the ledger knows %d of its tests as suite %s: fern-relay ledger rename %s %s gives it that past", r.New, r.Tests, r.Old, r.Old, r.New))
		}
		past.Steps = sync.OnceValue(h.steps)
		past.Rates = sync.OnceValue(func() []float64 { return rates(h.Ledger(), c) })
		past.In = func(of matrix.Assignment) (workspace.Past, error) { return h.pastIn(of, c) }
		return past, nil
	}
}

// runsOfSteps is how many of the latest runs say which steps tests have.
const runsOfSteps = 10

// steps returns the names of the steps that tests had in the latest runs, by ID.
func (h *History) steps() map[string][]string {
	steps, err := h.Ledger().Steps(runsOfSteps)
	if err != nil {
		return nil // the next to read the ledger reports it
	}
	return steps
}
