package process

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"fernrelay/internal/owned"
)

// Slots are the slots of one run or hunt, with the folder for their temporary files. While they are in use, a
// record in the project's data names what they own, so that the next command cleans up after a process that was killed.
//
//	slots, err := setup.Open()
//	slot, err := slots.Slot(1)
//	err = setup.Begin(ctx, slot)
//	// run tests
//	err = setup.End(slot)
//	err = slots.Close()
type Slots struct {
	setup  Setup
	folder *owned.Folder
	record *owned.Record
}

// Open makes the folder for the temporary files of slots, and the record of them in u.Records. Close ends the record.
func (u Setup) Open() (*Slots, error) {
	record := u.Record
	if record == nil {
		record = owned.Begin(u.Records)
	}
	folder, err := record.MakeFolder(os.TempDir())
	if err != nil {
		return nil, errors.Join(fmt.Errorf("no folder for temporary files: %w", err), record.Close())
	}
	return &Slots{u, folder, record}, nil
}

// Slot makes the slot of a worker, from 1.
func (s *Slots) Slot(number int) (Slot, error) {
	slot, err := s.setup.slot(s.folder, os.Getpid(), s.setup.Offset+number)
	if err == nil {
		slot.record = s.record
		s.record.UseSlot(slot.Number)
	}
	return slot, err
}

// Shared makes the slot of what all workers share. No command prepares or cleans it.
func (s *Slots) Shared() (Slot, error) {
	slot, err := s.setup.slot(s.folder, os.Getpid(), s.setup.Offset)
	slot.record = s.record
	return slot, err
}

// Close kills what is left of the slots and removes their temporary files. The error names
// what could not be killed or removed.
func (s *Slots) Close() error {
	return errors.Join(Sweep(), s.folder.Remove(), s.record.Close())
}

// EmptyTemp removes the slot's temporary files. It fails if a test has replaced the folder that they are in.
func (s Slot) EmptyTemp() error { return s.folder.Empty(filepath.Base(s.Temp)) }

// A Recovery cleans up after processes that were killed while they used slots.
type Recovery struct {
	setup Setup
	left  []*owned.Left
	notes []string
}

// Recover finds what processes have left that were killed, and kills what their tests left running. [Recovery.Clean]
// does the rest.
func (u Setup) Recover() *Recovery {
	r := &Recovery{setup: u}
	if u.Records == "" {
		return r
	}
	r.left, r.notes = owned.Find(u.Records)
	for _, l := range r.left {
		l.Kill()
	}
	return r
}

// Clean cleans the slots and removes their temporary files. The notes say what it did and what it could not do. It
// cleans the slots of a process only if that process made their folder on this machine: a record that came along with
// a copy of the project must not make a command run.
func (r *Recovery) Clean() (notes []string) {
	notes = r.notes
	for _, l := range r.left {
		if len(l.Folders) > 0 {
			notes = append(notes, r.setup.cleanSlots(l)...)
		} else if len(l.Slots) > 0 && len(r.setup.Clean) > 0 {
			notes = append(notes, fmt.Sprintf("the slots of process %d are not cleaned, because their folder is gone", l.PID))
		}
		removed := l.Remove()
		if notes = append(notes, removed...); l.Used {
			notes = append(notes, fmt.Sprintf("cleaned up after process %d, which was killed", l.PID))
		}
	}
	return notes
}

func (u Setup) cleanSlots(l *owned.Left) (notes []string) {
	slices.Sort(l.Slots)
	for _, number := range slices.Compact(l.Slots) {
		slot, err := u.slot(l.Folders[0], l.PID, number)
		if err == nil {
			err = u.End(slot)
		}
		if err != nil {
			notes = append(notes, err.Error())
		}
	}
	return notes
}
