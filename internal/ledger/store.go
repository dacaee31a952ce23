package ledger

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// A Store opens and closes the ledger of one project, so that nobody else has to ask whether there is one: if a
// project has none, or one that cannot be used, reads go to an empty ledger in memory. It is safe for use by
// several goroutines.
//
//	store, notes := ledger.OpenStore(ctx, project.StorePath(), project.Store)
//	defer store.Close()
//	runs, err := store.Ledger().List()
type Store struct {
	folder string
	make   func() (folder string, err error)

	mu     sync.Mutex
	kept   *Ledger // nil until there is something to read or to write
	empty  *Ledger // nil until it is needed
	broken error   // why the ledger cannot be used
}

// OpenStore opens the ledger in a folder if there is one. It sets a damaged ledger aside, and keeps the runs
// whose processes were killed. make creates the folder for the first run. The notes say what is wrong: the
// project can be used all the same.
func OpenStore(ctx context.Context, folder string, make func() (string, error)) (s *Store, notes []string) {
	s = &Store{folder: folder, make: make}
	if _, err := os.Lstat(filepath.Join(folder, FileName)); err != nil && !HasKilled(folder) {
		return s, nil
	}
	l, err := s.Writable()
	if err == nil {
		err = l.Probe()
	}
	if notes, err = s.Recover(ctx, err); err != nil {
		return s, notes
	}
	killed, err := s.keepKilled()
	if err != nil { // as on a full disk: the ledger can be read all the same
		killed = fmt.Sprintf("a run whose process was killed cannot be kept yet: %v", err)
	}
	if killed != "" {
		notes = append(notes, killed)
	}
	return s, notes
}

// Err returns the reason why the ledger cannot be used, or nil.
func (s *Store) Err() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.broken
}

// Exists reports whether there is a ledger.
func (s *Store) Exists() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.kept != nil
}

// Ledger returns the ledger to read from. It is empty if the project has none.
func (s *Store) Ledger() *Ledger {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.kept != nil {
		return s.kept
	}
	if s.empty == nil {
		s.empty = openEmpty(s.folder)
	}
	return s.empty
}

// Known is [Ledger.Known], without the cost of an empty ledger if the project has none.
func (s *Store) Known(c *catalog.Catalog) (*Known, error) {
	if !s.Exists() {
		return &Known{}, nil
	}
	return s.Ledger().Known(c)
}

// Writable returns the ledger to write to, and makes it if there is none.
func (s *Store) Writable() (*Ledger, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.kept != nil {
		return s.kept, nil
	}
	folder, err := s.make()
	if err != nil {
		return nil, err
	}
	s.kept, err = Open(folder)
	return s.kept, err
}

// Close closes the ledger.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, l := range []*Ledger{s.kept, s.empty} {
		if l != nil {
			errs = append(errs, l.Close())
		}
	}
	s.kept, s.empty = nil, nil
	return errors.Join(errs...)
}

// Recover continues after an error of the ledger, which may be nil: it sets a damaged ledger aside and begins
// a new one. After any other error, which it returns, the store has no ledger.
func (s *Store) Recover(ctx context.Context, wrong error) (notes []string, err error) {
	if wrong == nil {
		return nil, nil
	}
	err = wrong
	if Damaged(wrong) {
		var note string
		if note, err = s.SetAside(ctx, wrong); note != "" {
			notes = append(notes, note)
		}
	}
	if err != nil {
		_ = s.Close() // nothing is to be written to it
		notes = append(notes, fmt.Sprintf("earlier runs are not known: %v", err))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.broken = err
	return notes, err
}

// SetAside renames a ledger that is damaged, and begins a new one. The note names the file.
func (s *Store) SetAside(ctx context.Context, damage error) (note string, err error) {
	_ = s.Close() // what it holds is damaged
	if note, err = SetAside(ctx, s.folder, damage); err != nil {
		return "", err
	}
	_, err = s.Writable()
	return note, err
}

// Check reads the whole ledger. It sets it aside if it is damaged; the note says so.
func (s *Store) Check(ctx context.Context) (note string, err error) {
	if !s.Exists() {
		return "", run.ErrNoRecord
	}
	if err := s.Ledger().Check(ctx); Damaged(err) {
		return s.SetAside(ctx, err)
	}
	return "", err
}

// ErrRemoved reports that the ledger was removed while a run went on.
var ErrRemoved = errors.New("the ledger was removed while the run went on, and with it all earlier runs")

// Keep adds a run to the ledger, and removes runs beyond the latest maxRuns and older than maxDays (0 for no
// bound). If the ledger is damaged or was removed, Keep adds the run to a new one.
func (s *Store) Keep(record run.Record, ran *run.Run, maxRuns, maxDays int) (number int, err error) {
	l, err := s.Writable()
	if err == nil && l.Removed(s.folder) {
		_ = s.Close() // its file is gone
		if l, err = s.Writable(); err == nil {
			number, err = l.Keep(record, ran)
		}
		return number, errors.Join(ErrRemoved, err)
	}
	if err == nil {
		number, err = l.Keep(record, ran)
	}
	if Damaged(err) {
		note, err := s.SetAside(context.Background(), err)
		if err != nil {
			return 0, err
		}
		ran.AddNote(note)
		return s.Ledger().Keep(record, ran)
	}
	if err != nil {
		return 0, err
	}
	if _, err := l.Forget(maxRuns, maxDays, time.Now()); err != nil {
		return number, fmt.Errorf("run %d is kept, but older ones cannot be removed from the ledger: %w", number, err)
	}
	return number, nil
}

// keepKilled keeps the runs whose processes are gone. The note describes the latest.
func (s *Store) keepKilled() (note string, err error) {
	k, number, err := s.Ledger().Killed(s.folder)
	if err != nil || k == nil {
		return "", err
	}
	if k.Run.Done() == len(k.Task.Tests) {
		return fmt.Sprintf("run %d ended but could not be stored at that time; the ledger has it now", number), ForgetKilled(s.folder)
	}
	return fmt.Sprintf("run %d was killed when %d of %d tests had ended: fern-relay run --resume runs the rest", number, k.Run.Done(), len(k.Task.Tests)), nil
}
