package relay

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"fernrelay/core/outcome"
	"fernrelay/internal/ledger"
	"fernrelay/internal/project"
)

// history is the ledger, shared by all that is made of one opened project.
type history struct {
	mu     sync.Mutex
	ledger *ledger.Ledger // nil until there is something kept or to keep
}

// OpenLedger opens the project of a folder for what its ledger says; its tests are not looked
// for.
func OpenLedger(ctx context.Context, dir string) (*Relay, error) {
	p, err := project.Open(dir)
	if err != nil {
		return nil, err
	}
	r := &Relay{Project: p, history: &history{}}
	if r.Notes, err = r.openHistory(ctx); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	r.Notes = append(r.Notes, r.setup().Recover()...)
	return r, nil
}

// Without is a folder in which there is no project: nothing is known of it.
func Without(dir string) *Relay {
	return &Relay{Project: &project.Project{Dir: dir, Name: filepath.Base(dir)}, history: &history{}}
}

// openHistory opens the ledger where there is one. A damaged one is put aside. The runs whose
// processes were killed are kept.
func (r *Relay) openHistory(ctx context.Context) (notes []string, err error) {
	if _, err := os.Stat(filepath.Join(r.Project.StorePath(), ledger.FileName)); err != nil {
		return nil, nil // there is nothing yet
	}
	_, err = r.openLedger()
	if err == nil {
		err = r.ledger().Probe()
	}
	if ledger.Damaged(err) {
		var note string
		if note, err = r.putAside(ctx, err); note != "" {
			notes = append(notes, note)
		}
	}
	if err != nil {
		return nil, err
	}
	killed, err := r.killed()
	if err != nil { // as on a full disk: what is kept can be read all the same
		killed = []string{fmt.Sprintf("a run whose process was killed cannot be kept yet: %v", err)}
	}
	return append(notes, killed...), nil
}

// putAside puts a damaged ledger aside and begins a new one.
func (r *Relay) putAside(ctx context.Context, damage error) (note string, err error) {
	r.history.mu.Lock()
	if r.history.ledger != nil {
		_ = r.history.ledger.Close() // of a file that is damaged
		r.history.ledger = nil
	}
	r.history.mu.Unlock()
	name, err := ledger.SetAside(ctx, r.Project.StorePath())
	if err != nil {
		return "", errors.Join(damage, err)
	}
	if name != "" {
		note = fmt.Sprintf("the ledger was damaged (%v): it is put aside as %s, and a new one is begun", damage, filepath.Join(r.Project.StorePath(), name))
	}
	_, err = r.openLedger()
	return note, err
}

// Check looks through the whole ledger, and puts it aside where it is damaged; the note says so.
func (r *Relay) Check(ctx context.Context) (note string, err error) {
	kept := r.ledger()
	if kept == nil {
		return "", ledger.ErrNoRun
	}
	if err := kept.Check(ctx); ledger.Damaged(err) {
		return r.putAside(ctx, err)
	}
	return "", err
}

// openLedger opens the ledger, and makes it where there is none.
func (r *Relay) openLedger() (*ledger.Ledger, error) {
	r.history.mu.Lock()
	defer r.history.mu.Unlock()
	if r.history.ledger != nil {
		return r.history.ledger, nil
	}
	store, err := r.Project.Store()
	if err != nil {
		return nil, err
	}
	r.history.ledger, err = ledger.Open(store)
	return r.history.ledger, err
}

// ledger gives the ledger, nil where nothing is kept yet.
func (r *Relay) ledger() *ledger.Ledger {
	if r.history == nil {
		return nil
	}
	r.history.mu.Lock()
	defer r.history.mu.Unlock()
	return r.history.ledger
}

// keep keeps a run, in a new ledger where the one that there is turns out damaged, which its note
// then tells, and forgets what need not be kept any more.
func (r *Relay) keep(k ledger.Kept, run *outcome.Run) (number int, err error) {
	number, err = r.ledger().Keep(k, run)
	if ledger.Damaged(err) {
		note, err := r.putAside(context.Background(), err)
		if err != nil {
			return 0, err
		}
		run.Note = strings.TrimSpace(run.Note + "\n" + note)
		return r.ledger().Keep(k, run)
	}
	if err != nil {
		return 0, err
	}
	if _, err := r.ledger().Forget(r.Project.Retention.Runs, r.Project.Retention.Days, time.Now()); err != nil {
		return number, fmt.Errorf("run %d is kept, but older ones cannot be removed from the ledger: %w", number, err)
	}
	return number, nil
}

// machine names the machine that tests run on.
func machine() string {
	name, err := os.Hostname()
	if err != nil {
		name = "unnamed"
	}
	return fmt.Sprintf("%s, %s/%s, %d processors", name, runtime.GOOS, runtime.GOARCH, runtime.NumCPU())
}
