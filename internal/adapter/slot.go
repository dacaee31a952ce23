package adapter

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"fernrelay/core/outcome"
)

// Slot is what a worker owns, so that two workers never share it.
type Slot struct {
	Number int      // from 1
	Temp   string   // a folder for temporary files; it exists
	Port   int      // the first of Ports that are for this slot alone
	Space  string   // a prefix for names in shared stores, of this slot alone
	Env    []string // NAME=value, on top of our own environment

	Limit time.Duration // of one test; 0 where its suite's holds
}

// TestLimit is the time that one test may take, where its suite gives it another.
func (s Slot) TestLimit(suite time.Duration) time.Duration { return cmp.Or(s.Limit, suite) }

// Ports is how many ports a slot has.
const Ports = 20

// firstPort is the lowest that is given out, slotsKept for how many slots there are
// ranges, which several runs on a machine share: each begins at another.
const (
	firstPort = 20_000
	slotsKept = 500
)

// Setup is what a project wants done with the slots of its workers. Its texts may
// hold {slot}, {space}, {tmp} and {port}.
type Setup struct {
	Dir            string // where the commands run
	Env            map[string]string
	Limit          time.Duration // of one test; 0 where its suite's holds
	Prepare, Clean []string      // command lines: once before the slot is used, and after; none where empty
}

// Slot makes the slot of a worker, with its folder below the one given.
func (u Setup) Slot(below string, number int) (Slot, error) {
	pid := os.Getpid()
	s := Slot{Number: number, Limit: u.Limit, Temp: filepath.Join(below, fmt.Sprint("slot", number)), Space: fmt.Sprintf("%s%d_", spaceOf(pid), number),
		Port: firstPort + Ports*((17*pid+number)%slotsKept)}
	s.Env = []string{fmt.Sprint("FERN_SLOT=", number), fmt.Sprint("FERN_PORT=", s.Port), spaceVariable + s.Space}
	for _, name := range slices.Sorted(maps.Keys(u.Env)) {
		s.Env = append(s.Env, name+"="+s.Fill(u.Env[name]))
	}
	return s, os.MkdirAll(s.Temp, 0o755)
}

// spaceOf is what the spaces of all slots of a process of ours begin with.
func spaceOf(pid int) string { return fmt.Sprintf("fern%d_", pid) }

// Sweep kills what has been left anywhere by processes that ran in slots of this
// process, none of which is in use any more.
func Sweep() { killSpace(spaceOf(os.Getpid())) }

// KillLeft kills what the tests of a process of ours have left, which was killed
// itself. Where a process has its number again nothing is done.
func KillLeft(pid int) {
	if pid > 0 && errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) {
		killSpace(spaceOf(pid))
	}
}

// Fill puts what the slot owns in the place of {slot}, {space}, {tmp} and {port}.
func (s Slot) Fill(text string) string {
	return strings.NewReplacer("{slot}", strconv.Itoa(s.Number), "{space}", s.Space, "{tmp}", s.Temp, "{port}", strconv.Itoa(s.Port)).Replace(text)
}

// Begin prepares a slot before it is used. The error says what the command printed.
func (u Setup) Begin(ctx context.Context, s Slot) error {
	if err := u.command(ctx, s, u.Prepare); err != nil {
		return fmt.Errorf("prepare of worker %d: %w", s.Number, err)
	}
	return nil
}

// cleanPatience is how long cleaning may take, also where all else was cancelled.
const cleanPatience = 30 * time.Second

// End cleans a slot after it was used.
func (u Setup) End(s Slot) error {
	ctx, cancel := context.WithTimeout(context.Background(), cleanPatience)
	defer cancel()
	if err := u.command(ctx, s, u.Clean); err != nil {
		return fmt.Errorf("clean of worker %d: %w", s.Number, err)
	}
	return nil
}

func (u Setup) command(ctx context.Context, s Slot, words []string) error {
	if len(words) == 0 {
		return nil
	}
	filled := make([]string, len(words))
	for i, word := range words {
		filled[i] = s.Fill(word)
	}
	cmd := Command(ctx, u.Dir, s, filled[0], filled[1:]...)
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	// A server that it leaves behind may hold its output open.
	if err := cmd.Run(); err != nil && !errors.Is(err, exec.ErrWaitDelay) {
		return fmt.Errorf("%s: %s", strings.Join(filled, " "), strings.TrimSuffix(Ending(err)+": "+outcome.PlainLine(said.String()), ": "))
	}
	return nil
}
