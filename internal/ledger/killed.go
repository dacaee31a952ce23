package ledger

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"fernrelay/core/run"
)

// Killed is a run whose process ended before the run was kept.
type Killed struct {
	Task Task
	Run  *run.Run // what it had come to; tests without an outcome are not in it
}

// HasKilled reports whether a store has the journal of a run whose process is gone.
func HasKilled(store string) bool {
	return slices.ContainsFunc(journals(store, journalEnding), func(name string) bool { return !lives(name) })
}

// Killed finds the runs in a store whose processes are gone, keeps them in the ledger with missing outcomes as
// lost, and returns the latest, nil if there is none. LastKilled returns that one from then on.
func (l *Ledger) Killed(store string) (latest *Killed, number int, err error) {
	for _, name := range journals(store, journalEnding) {
		k, err := orphan(name)
		if err != nil {
			return nil, 0, fmt.Errorf("the journal %s: %w: remove it", name, err)
		}
		if k == nil {
			continue // its process lives
		}
		if len(k.Task.Tests) == 0 { // it had not begun
			if err := removeData(store, name); err != nil {
				return nil, 0, err
			}
			continue
		}
		if kept, err := numberOf(l.db, filepath.Base(name)); err != nil || kept > 0 {
			if err := errors.Join(err, removeData(store, name)); err != nil { // it was killed after its run was kept
				return nil, 0, err
			}
			continue
		}
		whole := run.New()
		k.Run.Replay(whole.Apply)
		for _, id := range k.Task.Tests {
			if whole.Result(id) == nil {
				whole.Apply(run.Event{Event: run.Finished, ID: id, Outcome: run.Lost, At: whole.Ended, Failure: run.Failure{Message: "its run was killed"}})
			}
		}
		if number, err = l.Keep(k.Task.Record(name), whole); err != nil {
			return nil, 0, err
		}
		if err := renameData(store, name, filepath.Join(store, killedName)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, 0, err
		}
		latest = k
	}
	return latest, number, nil
}

// orphan reads a journal whose process is gone; nil if it lives, or has just removed it.
func orphan(name string) (*Killed, error) {
	file, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		return nil, nil
	}
	return readJournal(file)
}

// readJournal reads a journal up to its end, or to the line that was cut off.
func readJournal(r io.Reader) (*Killed, error) {
	lines := json.NewDecoder(bufio.NewReader(r))
	k := &Killed{Run: run.New()}
	if err := lines.Decode(&k.Task); err != nil {
		return k, nil // killed before the first line was whole
	}
	var last time.Time
	for {
		var e run.Event
		if err := lines.Decode(&e); err != nil {
			break
		}
		if e.Event == run.RunBegins || e.Event == run.Finished {
			k.Run.Apply(e)
		}
		last = e.At
	}
	k.Run.Apply(run.Event{Event: run.RunEnds, At: last})
	return k, nil
}

// LastKilled returns the run that was killed last and not resumed since, or run.ErrNoRecord.
func LastKilled(store string) (*Killed, error) {
	file, err := os.Open(filepath.Join(store, killedName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, run.ErrNoRecord
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return readJournal(file)
}

// ForgetKilled forgets the run that was killed last, as it is resumed.
func ForgetKilled(store string) error {
	return removeData(store, filepath.Join(store, killedName))
}
