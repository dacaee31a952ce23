package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync/atomic"
	"time"

	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/internal/ledger"
	"fernrelay/internal/process"
	"fernrelay/internal/project"
	"fernrelay/internal/workspace"
	"fernrelay/internal/worktree"
)

// History is the history of a project, for those who do not need its tests.
type History struct {
	Project *project.Project
	Notes   []string // what is wrong and is ignored
	store   *ledger.Store
	in      matrix.Assignment                 // to whose crossings the ledger is restricted; nil for all runs
	origin  atomic.Pointer[func() run.Source] // of the first run, as OpenToRun asks for it; nil otherwise
}

// OpenHistory opens the history of a folder's project.
func OpenHistory(ctx context.Context, dir string) (*History, error) {
	h, err := openHistory(ctx, dir)
	if err != nil {
		return nil, err
	}
	return h, h.store.Err()
}

// openHistory is OpenHistory, but a ledger that cannot be used is only noted.
func openHistory(ctx context.Context, dir string) (*History, error) {
	p, err := project.Open(dir)
	if err != nil {
		return nil, err
	}
	return historyOf(ctx, p), nil
}

// historyOf opens the history of a project. Before anything else it cleans up after processes that were killed: it kills
// what their tests left running, then gives back what their hunts borrowed, and then cleans their slots.
func historyOf(ctx context.Context, p *project.Project) *History {
	process.RecordIn(p.Records)
	killed := workspace.Setup(p).Recover()
	notes, err := worktree.GiveBack(p.Dir, p.StorePath(), func() string { return project.Head(ctx, p.Dir) })
	if err != nil {
		notes = append(notes, fmt.Sprintf("what a hunt borrowed is not given back: %v", err))
	}
	notes = append(notes, killed.Clean()...)
	store, more := ledger.OpenStore(ctx, p.StorePath(), p.Store)
	return &History{Project: p, Notes: append(notes, more...), store: store}
}

// Source returns the source of the project: as it was when the project was opened if that was asked for and this is the first
// run since.
func (h *History) Source(ctx context.Context) run.Source {
	if known := h.origin.Swap(nil); known != nil {
		return (*known)()
	}
	return project.Origin(ctx, h.Project.Dir)
}

// NoHistory returns an empty history, for a folder without a project.
func NoHistory(dir string) *History {
	p := &project.Project{Dir: dir, Name: filepath.Base(dir)}
	store, _ := ledger.OpenStore(context.Background(), p.StorePath(), p.Store)
	return &History{Project: p, store: store}
}

// Restrict restricts the ledger to the runs of crossings with some values. The error says that the matrix has none.
func (h *History) Restrict(of matrix.Assignment) error {
	if h.Project.Matrix == nil {
		return errors.New("crossing: needs a project with a matrix")
	}
	if h.in = of; of != nil {
		return h.Project.Matrix.Check(of)
	}
	return nil
}

// Ledger returns the ledger to read from. It is empty if nothing is kept yet.
func (h *History) Ledger() *ledger.Ledger {
	if h.in != nil {
		return h.store.Ledger().In(h.in)
	}
	return h.store.Ledger()
}

// Writable returns the ledger to write to. It makes one if there is none.
func (h *History) Writable() (*ledger.Ledger, error) { return h.store.Writable() }

// Check reads the whole ledger. If it is damaged, Check sets it aside, and the note says so.
func (h *History) Check(ctx context.Context) (note string, err error) { return h.store.Check(ctx) }

// Forget removes all runs but the latest n and those of the last days, 0 for no bound. It returns the number
// of runs that it removed.
func (h *History) Forget(n, days int) (int, error) {
	if !h.store.Exists() {
		return 0, run.ErrNoRecord
	}
	l, err := h.store.Writable()
	if err != nil {
		return 0, err
	}
	gone, err := l.Forget(n, days, time.Now())
	if err != nil || gone == 0 {
		return gone, err
	}
	return gone, l.Compact()
}

// Rename gives the runs of a suite, or of a group as suite:group, to its new name, and returns the number of its tests.
func (h *History) Rename(from, to string) (int, error) {
	if !h.store.Exists() {
		return 0, run.ErrNoRecord
	}
	l, err := h.store.Writable()
	if err != nil {
		return 0, err
	}
	return l.Rename(from, to)
}

// Close closes the ledger.
func (h *History) Close() error { return h.store.Close() }

// SetAsideDamaged returns err, unless it says that the ledger of a folder's project is damaged. Then it sets
// that ledger aside, so that the next command can work, and returns a note that names the file.
func SetAsideDamaged(ctx context.Context, dir string, err error) (note string, _ error) {
	if !ledger.Damaged(err) {
		return "", err
	}
	p, failure := project.Open(dir)
	if failure == nil {
		note, failure = ledger.SetAside(ctx, p.StorePath(), err)
	}
	if note == "" {
		failure = fmt.Errorf("the ledger is damaged: %s: %w", ledger.Reason(err), cmp.Or(failure, errors.New("run fern-relay ledger check")))
	}
	return note, failure
}
