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

	"fernrelay/core/run"
	"fernrelay/internal/ledger"
	"fernrelay/internal/project"
)

// openLedger is the ledger, shared by all that is made of one opened project.
type openLedger struct {
	mu     sync.Mutex
	ledger *ledger.Ledger // nil until there is something kept or to keep
	broken error          // why it cannot be used; nil if it can
}

// OpenLedger opens the project of a folder for what its ledger says, without looking for its tests.
func OpenLedger(ctx context.Context, dir string) (*Relay, error) {
	p, err := project.Open(dir)
	if err != nil {
		return nil, err
	}
	r := &Relay{Project: p, history: &openLedger{}}
	r.Notes = append(r.openHistory(ctx), r.setup().Recover()...)
	return r, r.history.broken
}

// NoProject is a folder without a project: nothing is known about it.
func NoProject(dir string) *Relay {
	return &Relay{Project: &project.Project{Dir: dir, Name: filepath.Base(dir)}, history: &openLedger{}}
}

// openHistory opens the ledger if there is one, puts a damaged one aside, and keeps the runs whose
// processes were killed. The project can be used also without it, as the notes say then.
func (r *Relay) openHistory(ctx context.Context) (notes []string) {
	store := r.Project.StorePath()
	if _, err := os.Lstat(filepath.Join(store, ledger.FileName)); err != nil && !ledger.HasKilled(store) {
		return nil // there is nothing yet
	}
	_, err := r.openLedger()
	if err == nil {
		err = r.ledger().Probe()
	}
	notes, err = r.without(ctx, err)
	if r.history.broken = err; err != nil {
		return notes
	}
	killed, err := r.killed()
	if err != nil { // as on a full disk: what is kept can be read all the same
		killed = []string{fmt.Sprintf("a run whose process was killed cannot be kept yet: %v", err)}
	}
	return append(notes, killed...)
}

// without goes on after an error of the ledger: a damaged one is put aside, so that a new one begins.
// Any other error is returned; the project is used without a ledger then.
func (r *Relay) without(ctx context.Context, wrong error) (notes []string, err error) {
	if wrong == nil {
		return nil, nil
	}
	err = wrong
	if ledger.Damaged(wrong) {
		var note string
		if note, err = r.putAside(ctx, wrong); note != "" {
			notes = append(notes, note)
		}
	}
	if err != nil {
		r.closeLedger()
		notes = append(notes, fmt.Sprintf("nothing of the past is known: %v", err))
	}
	return notes, err
}

func (r *Relay) closeLedger() {
	r.history.mu.Lock()
	defer r.history.mu.Unlock()
	if r.history.ledger != nil {
		_ = r.history.ledger.Close() // nothing is to be written to it
		r.history.ledger = nil
	}
}

// putAside puts a damaged ledger aside and begins a new one.
func (r *Relay) putAside(ctx context.Context, damage error) (note string, err error) {
	r.closeLedger()
	name, err := ledger.SetAside(ctx, r.Project.StorePath())
	if err != nil {
		return "", err
	}
	if name != "" {
		note = fmt.Sprintf("the ledger was damaged: %s. It is put aside as %s, and a new one begins", ledger.Reason(damage), filepath.Join(r.Project.StorePath(), name))
	}
	_, err = r.openLedger()
	return note, err
}

// PutAside puts the ledger of a folder's project aside if it is damaged; the note says so.
func PutAside(ctx context.Context, dir string, damage error) (note string, err error) {
	p, err := project.Open(dir)
	if err != nil {
		return "", err
	}
	r := &Relay{Project: p, history: &openLedger{}}
	defer r.Close()
	return r.putAside(ctx, damage)
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

// openLedger opens the ledger, and makes it if there is none.
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

// ErrRemoved says that the ledger was removed while a run went on.
var ErrRemoved = errors.New("the ledger was removed while the run went on, and with it all earlier runs")

// keep keeps a run and forgets what need not be kept any more. If the ledger turns out to be damaged or
// to have been removed, it keeps the run in a new one.
func (r *Relay) keep(k ledger.RunRecord, run *run.Run) (number int, err error) {
	kept, err := r.openLedger()
	if err == nil && kept.Removed(r.Project.StorePath()) {
		r.closeLedger()
		if kept, err = r.openLedger(); err == nil {
			number, err = kept.Keep(k, run)
		}
		return number, errors.Join(ErrRemoved, err)
	}
	if err == nil {
		number, err = kept.Keep(k, run)
	}
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
	if _, err := kept.Forget(r.Project.Retention.Runs, r.Project.Retention.Days, time.Now()); err != nil {
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
