package process

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"fernrelay/core/plain"
	"fernrelay/internal/owned"
)

// Slot is what a worker owns, so that two workers never share it.
type Slot struct {
	Number int      // from 1
	Temp   string   // a folder for temporary files; it exists
	Port   int      // the first of Ports that are for this slot alone
	Space  string   // a prefix for names in shared stores, of this slot alone
	Env    []string // NAME=value, on top of our own environment

	Limit time.Duration // of one test; 0 for that of its suite

	folder *owned.Folder // that Temp is in
	record *owned.Record // of what the slot's programs own; nil for the record of programs outside of slots
}

// Limits bound what the processes of a suite may take; 0 for no bound.
type Limits struct {
	Test      time.Duration // one test
	Idle      time.Duration // while no test runs: to start, between tests and to end, and to list the tests
	Start     time.Duration // the start of a host, until it says hello
	Handshake time.Duration // another answer of a host that runs no test for it
}

// Limits returns the limits of a suite in the slot, which may have another limit for tests.
func (s Slot) Limits(suite Limits) Limits {
	if s.Limit > 0 && suite.Idle == suite.Test {
		suite.Idle = s.Limit
	}
	suite.Test = cmp.Or(s.Limit, suite.Test)
	return suite
}

// Ports is the number of ports of a slot.
const Ports = 20

// firstPort is the lowest port of a slot, and slotsKept the number of slots with ranges, which several runs on a
// machine share: each begins at another.
const (
	firstPort = 20_000
	slotsKept = 500
)

// Setup is what a project wants done with the slots of its workers. Its texts may
// hold {slot}, {space}, {tmp} and {port}.
type Setup struct {
	Dir            string // in which the commands run
	Env            map[string]string
	Limit          time.Duration // of one test; 0 for that of its suite
	Prepare, Clean []string      // command lines: once before the slot is used, and after; none if empty
	Timeout        time.Duration // of each of these commands; 0 for prepareLimit and cleanLimit
	Records        string        // the folder for records of slots in use; none if empty
	Record         *owned.Record // one that was begun there; nil if Open is to begin it
	Offset         int           // is added to the numbers of slots, so that runs side by side in one process share none
}

// The default durations of the commands of a slot. Cleaning also happens after an interrupt, when a person waits
// for the end.
const (
	prepareLimit = 10 * time.Minute
	cleanLimit   = 30 * time.Second
)

// slot makes a slot of a process, with its temporary files in the folder.
func (u Setup) slot(folder *owned.Folder, pid, number int) (s Slot, err error) {
	s = Slot{Number: number, Limit: u.Limit, Space: fmt.Sprintf("%s%d_", spaceOf(pid), number), Port: firstPort + Ports*((17*pid+number)%slotsKept), folder: folder}
	if s.Temp, err = folder.Mkdir(fmt.Sprint("slot", number)); err != nil {
		return s, err
	}
	s.Env = []string{fmt.Sprint("FERN_SLOT=", number), fmt.Sprint("FERN_PORT=", s.Port), spaceVariable + s.Space}
	for _, name := range slices.Sorted(maps.Keys(u.Env)) {
		s.Env = append(s.Env, name+"="+s.Fill(u.Env[name]))
	}
	return s, nil
}

// Beside returns the slot with another space and folder for temporary files, which EmptyTemp of this one leaves alone.
func (s Slot) Beside(name string) (Slot, error) {
	s.Space += name + "_"
	temp, err := s.folder.Mkdir(filepath.Base(s.Temp) + "-" + name)
	s.Temp = temp
	return s, err
}

// OpenUp lets other users enter the folder that the slot's folders for temporary files are in, so that a service of one of them can use
// its own. Nobody else can list it.
func (s Slot) OpenUp() error { return os.Chmod(s.folder.Path(), 0o711) }

// WithRecord returns the slot with a record that names what its programs own.
func (s Slot) WithRecord(record *owned.Record) Slot {
	s.record = record
	return s
}

// spaceOf is what the spaces of all slots of a process of ours begin with.
func spaceOf(pid int) string { return fmt.Sprintf("fern%d_", pid) }

// Sweep kills what processes have left that ran in slots of this process, except in those in
// which one still runs. The error names processes that cannot be killed.
func Sweep() error { return sweep(spaceOf(os.Getpid())) }

// Fill replaces {slot}, {space}, {tmp} and {port} by what the slot owns.
func (s Slot) Fill(text string) string { return Fill(text, s.Values()) }

// Values returns the values of the slot's placeholders, by their names.
func (s Slot) Values() map[string]string {
	return map[string]string{"slot": strconv.Itoa(s.Number), "space": s.Space, "tmp": s.Temp, "port": strconv.Itoa(s.Port)}
}

// Begin prepares a slot before it is used. What the command starts in the background runs until
// the slot's End. The error holds what the command printed.
func (u Setup) Begin(ctx context.Context, s Slot) error {
	if err := u.command(ctx, s, u.Prepare, cmp.Or(u.Timeout, prepareLimit), true); err != nil {
		return fmt.Errorf("prepare of worker %d: %w", s.Number, err)
	}
	return nil
}

// End cleans a slot after it was used, and kills what Begin left running for it.
func (u Setup) End(s Slot) error {
	var errs []error
	if err := u.command(context.Background(), s, u.Clean, cmp.Or(u.Timeout, cleanLimit), false); err != nil {
		errs = append(errs, fmt.Errorf("clean of worker %d: %w", s.Number, err))
	}
	return errors.Join(append(errs, sweep(s.Space))...)
}

func (u Setup) command(ctx context.Context, s Slot, words []string, limit time.Duration, leaves bool) error {
	if len(words) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeoutCause(ctx, limit, fmt.Errorf("still running after %s, and killed", limit))
	defer cancel()
	filled := make([]string, len(words))
	for i, word := range words {
		filled[i] = s.Fill(word)
	}
	cmd := Command(ctx, u.Dir, s, filled[0], filled[1:]...)
	cmd.leaves = leaves
	said := &Tail{Limit: saidLimit}
	cmd.Stdout, cmd.Stderr = said, said
	err := cmd.Run()
	if err == nil {
		return nil
	}
	ending := Ending(err)
	if cause := context.Cause(ctx); cause != nil {
		ending = cause.Error()
	}
	return fmt.Errorf("%s: %s", strings.Join(filled, " "), strings.TrimSuffix(ending+": "+plain.Line(said.String()), ": "))
}

// saidLimit bounds what an error repeats of a command's output, in bytes.
const saidLimit = 4 << 10
