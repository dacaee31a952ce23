package app

import (
	"context"
	"errors"
	"maps"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/project"
)

// ErrSuperseded ends a run whose tests run again because files changed.
var ErrSuperseded = errors.New("files changed, and it is run again")

// ChangeRequest returns a request to run the tests of a pick that a change to files touches, given by absolute
// paths, and those that an earlier run, which may be nil, left without an outcome. The most troubled run first.
// Files that git ignores touch nothing, as tests may have written them.
func (a *App) ChangeRequest(ctx context.Context, pick string, files []string, left *run.Run, workers int) (Request, error) {
	picked, err := a.Pick(pick)
	if err != nil {
		return Request{}, err
	}
	touched, err := a.TouchedBy(a.sources(ctx, files))
	if err != nil {
		return Request{}, err
	}
	tests := slices.DeleteFunc(slices.Clone(picked), func(t catalog.Test) bool { return touched(&t) == "" && !lostIn(left, t.ID) })
	tests, first, err := a.Troubled(a.widen(a.WithNeeds(tests)))
	if err != nil {
		return Request{}, err
	}
	q, err := a.NewRequest(pick, tests, workers)
	q.First = first
	for suite, groups := range q.Bare {
		q.Bare[suite] = slices.DeleteFunc(groups, func(group string) bool { return touched(&catalog.Test{Suite: suite, Group: group}) == "" })
	}
	maps.DeleteFunc(q.Bare, func(_ string, groups []string) bool { return len(groups) == 0 })
	return q, err
}

// Touches reports whether a change to files touches tests of a pick, so that a run of them is superseded.
func (a *App) Touches(ctx context.Context, pick string, files []string) bool {
	q, err := a.ChangeRequest(ctx, pick, files, nil, 1)
	return err == nil && !q.Empty()
}

// sources returns files without those that git ignores.
func (a *App) sources(ctx context.Context, files []string) []string {
	ignored := project.Ignored(ctx, a.Project.Dir, files)
	return slices.DeleteFunc(slices.Clone(files), func(file string) bool { return ignored[file] })
}

// OnChange says what RunOnChange does with requests.
type OnChange struct {
	Run     func(context.Context, *App, Request) (*run.Run, error)
	Stopped func() bool  // no more runs are wanted
	Idle    func()       // called before it waits for changes
	Report  func(string) // called with what keeps a change from running
}

// RunOnChange runs a request, and then, whenever files change, the tests of its pick that they touch, until ctx
// ends. A change that touches what runs supersedes the run. It returns the latest run.
func (a *App) RunOnChange(ctx context.Context, q Request, o OnChange) (last *run.Run, err error) {
	w := &watcher{OnChange: o, app: a, files: make(chan []string), failed: make(chan error, 1)}
	go w.watch(ctx)
	for {
		var changed []string
		if last, changed, err = w.run(ctx, q); err != nil {
			return nil, err
		}
		if ctx.Err() != nil || o.Stopped() {
			return last, nil
		}
		if changed == nil {
			o.Idle()
		}
		next, err := w.next(ctx, q, changed, last)
		if err != nil || next.Empty() {
			return last, err
		}
		q = next
	}
}

// watcher runs what changes touch.
type watcher struct {
	OnChange
	app    *App
	files  chan []string // that changed
	failed chan error    // why changes are no longer noticed
}

func (w *watcher) watch(ctx context.Context) {
	w.failed <- w.app.Watch(ctx, func(files []string) {
		select {
		case w.files <- files:
		case <-ctx.Done():
		}
	})
}

// run runs a request. If files change that it touches, run ends it; it returns all files that changed.
func (w *watcher) run(ctx context.Context, q Request) (r *run.Run, changed []string, err error) {
	ctx, supersede := context.WithCancelCause(ctx)
	defer supersede(nil)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		r, err = w.Run(ctx, w.app, q)
	}()
	for {
		select {
		case <-ended:
			return r, changed, err
		case files := <-w.files:
			changed = append(changed, w.app.sources(ctx, files)...)
			if len(changed) > 0 && w.app.Touches(ctx, q.Pick, changed) {
				supersede(ErrSuperseded)
			}
		}
	}
}

// next returns a request of what changed files touch, and of later changes until there is something to run. It
// is empty if ctx ends before.
func (w *watcher) next(ctx context.Context, q Request, changed []string, last *run.Run) (Request, error) {
	for {
		if changed == nil {
			select {
			case changed = <-w.files:
			case err := <-w.failed:
				return Request{}, err
			case <-ctx.Done():
				return Request{}, nil
			}
		}
		next, err := w.reload(ctx, q, changed, last)
		switch {
		case err != nil:
			w.Report(err.Error()) // until it is mended
		case next.Empty():
			w.Report("the change touches no picked test")
		default:
			return next, nil
		}
		changed = nil
	}
}

// reload re-reads the project and returns a request of what changed files touch.
func (w *watcher) reload(ctx context.Context, q Request, files []string, last *run.Run) (Request, error) {
	reloaded, err := w.app.Reload(ctx, files)
	if err != nil {
		return Request{}, err
	}
	w.app = reloaded
	next, err := reloaded.ChangeRequest(ctx, q.Pick, files, last, q.Workers)
	next.StopAfter, next.Retries, next.Limit, next.Together = q.StopAfter, q.Retries, q.Limit, q.Together
	return next, err
}

func lostIn(r *run.Run, id string) bool {
	if r == nil {
		return false
	}
	result := r.Result(id)
	return result != nil && result.Outcome == run.Lost
}
