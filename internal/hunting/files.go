package hunting

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/project"
	"fernrelay/internal/worktree"
)

// keepFiles has the trials find the project's files as they are now, without those that earlier runs have left, and
// returns a function that puts them back. The files of a project that is too large stay as trials make them, and so do ours.
func (h *hunter) keepFiles(ctx context.Context, ours []string) (release func(), err error) {
	store, err := h.app.Project.Store()
	if err != nil {
		return nil, err
	}
	tree, err := h.snapshot(ctx, store, h.below(ours))
	if errors.Is(err, worktree.ErrTooLarge) || errors.Is(err, worktree.ErrBusy) || errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		h.unkept = "the files that tests leave in the project were not put back between the trials: " + err.Error()
		return func() {
			if !h.explained.Load() {
				h.note([]string{h.unkept})
			}
		}, nil
	}
	if err != nil {
		return nil, err
	}
	left, err := h.leftByRuns()
	if err == nil {
		err = tree.SetAside(left)
	}
	if err != nil {
		_, closed := tree.Close() // nothing ran
		return nil, errors.Join(err, closed)
	}
	h.pool.Keep(tree)
	return func() {
		notes, err := tree.Close()
		if err != nil {
			notes = append(notes, err.Error())
		}
		h.note(notes)
	}, nil
}

// snapshot takes a snapshot of the project's files. Of a project that is too large, it leaves out what git tracks, which
// tests rarely change.
func (h *hunter) snapshot(ctx context.Context, store string, ours map[string]bool) (*worktree.Snapshot, error) {
	tracked, committed := project.Tracked(ctx, h.app.Project.Dir)
	sources := h.sourceFiles()
	o := worktree.Options{
		Skip: func(name string) bool { return ours[name] },
		Person: func(name string, mode fs.FileMode) bool {
			return tracked(name) || sources[name] || sources[path.Ext(name)] || mode&0o111 != 0
		},
		Committed: committed,
		Revision:  func() string { return project.Head(context.WithoutCancel(ctx), h.app.Project.Dir) },
	}
	tree, err := worktree.Take(h.app.Project.Dir, store, o)
	if errors.Is(err, worktree.ErrTooLarge) {
		o.Skip = func(name string) bool { return ours[name] || tracked(name) }
		tree, err = worktree.Take(h.app.Project.Dir, store, o)
	}
	return tree, err
}

// below returns which of the files are in the project, by their paths in it.
func (h *hunter) below(files []string) map[string]bool {
	inside := map[string]bool{}
	root, err := project.Real(h.app.Project.Dir)
	if err != nil {
		return inside
	}
	for _, file := range files {
		dir, err := project.Real(filepath.Dir(file))
		if below, wrong := filepath.Rel(root, filepath.Join(dir, filepath.Base(file))); err == nil && wrong == nil {
			inside[filepath.ToSlash(below)] = true
		}
	}
	return inside
}

// sourceFiles returns the files that people write, by their paths or by their endings.
func (h *hunter) sourceFiles() map[string]bool {
	sources := map[string]bool{project.FileName: true, ".go": true, ".mod": true, ".sum": true}
	for i := range h.app.Catalog.Tests {
		file := h.app.Catalog.Tests[i].File
		sources[file], sources[path.Ext(file)] = true, true
	}
	delete(sources, "") // tests in files without an ending say nothing of other files
	return sources
}

// mostNotes bounds the files that a hunt names at its end.
const mostNotes = 10

// note reports what a person should know at the end of the hunts.
func (h *hunter) note(notes []string) {
	if len(notes) == 0 || h.first == "" {
		return
	}
	if more := len(notes) - mostNotes; more > 0 {
		notes = append(notes[:mostNotes:mostNotes], fmt.Sprintf("and %d more", more))
	}
	h.report(hunt.Progress{Victim: h.first, Note: strings.Join(notes, "\n")})
}

// runsLookedAt is how many of the latest runs may have left files.
const runsLookedAt = 20

// clockTick is how far the time of a file may be behind the clock: file systems take it from the kernel's last tick,
// of which a second has 100 or more.
const clockTick = 10 * time.Millisecond

// leftByRuns returns a function that reports whether a file was last written during a run. SetAside asks it only of files
// that people do not write.
func (h *hunter) leftByRuns() (func(path string, mode fs.FileMode, changed time.Time) bool, error) {
	runs, err := h.ledger.List()
	if err != nil {
		return nil, err
	}
	runs = runs[max(0, len(runs)-runsLookedAt):]
	return func(_ string, _ fs.FileMode, changed time.Time) bool {
		return slices.ContainsFunc(runs, func(r *run.Record) bool { // the ledger holds milliseconds
			return r.Imported == "" && !changed.Before(r.Began.Add(-clockTick)) && changed.Before(r.Ended.Add(time.Millisecond))
		})
	}, nil
}
