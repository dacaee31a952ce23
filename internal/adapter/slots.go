package adapter

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
)

// Slots are the slots of one run or hunt, with the folder for their temporary files. While they are in use, a
// record in the project's store says so, so that the next command cleans up after a process that was killed.
//
//	slots, err := setup.Open()
//	slot, err := slots.Slot(1)
//	err = setup.Begin(ctx, slot)
//	// run tests
//	err = setup.End(slot)
//	err = slots.Close()
type Slots struct {
	setup  Setup
	temp   string
	mu     sync.Mutex
	record *os.File // nil if there is no place for one
}

// recordHead is the first line of a record; a Slot follows on each other line.
type recordHead struct {
	PID    int    `json:"pid"`
	Groups string `json:"groups"` // see Groups
	Temp   string `json:"temp"`
}

// Folders and files are found again by these names.
const (
	tempPrefix    = "fern-relay-"
	recordPattern = "slots-*.jsonl"
)

// Open makes the folder for the temporary files of slots, and the record of them in u.Records.
func (u Setup) Open() (*Slots, error) {
	temp, err := os.MkdirTemp("", tempPrefix)
	if err != nil {
		return nil, fmt.Errorf("no folder for temporary files: %w", err)
	}
	s := &Slots{setup: u, temp: temp}
	if u.Records == "" || os.MkdirAll(u.Records, 0o755) != nil {
		return s, nil
	}
	// A run continues without a record, as in a folder that cannot be written to.
	file, err := os.CreateTemp(u.Records, recordPattern)
	if err != nil {
		return s, nil
	}
	_ = syscall.Flock(int(file.Fd()), syscall.LOCK_EX) // until this process ends
	s.record = file
	s.write(recordHead{os.Getpid(), Groups(), temp})
	return s, nil
}

func (s *Slots) write(line any) {
	if s.record != nil {
		_ = json.NewEncoder(s.record).Encode(line)
	}
}

// Slot makes the slot of a worker, from 1.
func (s *Slots) Slot(number int) (Slot, error) {
	slot, err := s.setup.slot(s.temp, number)
	if err == nil {
		s.mu.Lock()
		s.write(slot)
		s.mu.Unlock()
	}
	return slot, err
}

// Shared makes the slot of what all workers share. No command prepares or cleans it.
func (s *Slots) Shared() (Slot, error) { return s.setup.slot(s.temp, 0) }

// Close kills what is left of the slots and removes their temporary files. The error names
// what could not be killed or removed.
func (s *Slots) Close() error {
	errs := []error{Sweep(), removeTemp(s.temp)}
	if s.record != nil {
		errs = append(errs, gone(os.Remove(s.record.Name())), s.record.Close())
	}
	return errors.Join(errs...)
}

func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// EmptyTemp removes the slot's temporary files.
func (s Slot) EmptyTemp() error {
	if err := removeTemp(s.Temp); err != nil {
		return err
	}
	return os.MkdirAll(s.Temp, 0o755)
}

// removeTemp removes a folder of temporary files, even if tests took away the permission.
func removeTemp(dir string) error {
	if os.RemoveAll(dir) == nil {
		return nil
	}
	_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() {
			_ = os.Chmod(path, 0o700)
		}
		return nil
	})
	if err := os.RemoveAll(dir); err != nil {
		return fmt.Errorf("the folder %s with temporary files cannot be removed: %w: remove it by hand", dir, err)
	}
	return nil
}

// Recover cleans up after processes that were killed while they used slots: it kills what their
// tests left, cleans their slots, and removes their temporary files. The notes say what it did
// and what it could not do.
func (u Setup) Recover() (notes []string) {
	if u.Records == "" {
		return nil
	}
	names, _ := filepath.Glob(filepath.Join(u.Records, recordPattern)) // a well-formed pattern
	for _, name := range names {
		file, err := os.Open(name)
		if err != nil {
			continue // its process has just removed it
		}
		if syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil && stillThere(file) {
			notes = append(notes, u.recover(file)...)
		}
		file.Close()
	}
	return notes
}

// stillThere reports whether a file has not been removed since it was opened.
func stillThere(file *os.File) bool {
	now, err := os.Stat(file.Name())
	if err != nil {
		return false
	}
	then, err := file.Stat()
	return err == nil && os.SameFile(now, then)
}

func (u Setup) recover(record *os.File) (notes []string) {
	lines := json.NewDecoder(bufio.NewReader(record))
	var head recordHead
	if lines.Decode(&head) != nil {
		_ = os.Remove(record.Name()) // its process was killed before anything was used
		return nil
	}
	KillLeft(head.PID, head.Groups)
	for {
		var slot Slot
		if lines.Decode(&slot) != nil {
			break // the end, or a line that was cut off
		}
		if err := u.End(slot); err != nil {
			notes = append(notes, err.Error())
		}
	}
	if strings.HasPrefix(filepath.Base(head.Temp), tempPrefix) {
		if err := removeTemp(head.Temp); err != nil {
			notes = append(notes, err.Error())
		}
	}
	if err := gone(os.Remove(record.Name())); err != nil {
		notes = append(notes, err.Error())
	}
	return append(notes, fmt.Sprintf("cleaned up after process %d, which was killed while it ran tests", head.PID))
}
