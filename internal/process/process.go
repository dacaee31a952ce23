// Package process runs the programs of suites, in the slots of workers, so that nothing that they start outlives them.
//
//	slots, err := process.Setup{Dir: dir, Records: folder}.Open()
//	slot, err := slots.Slot(1) // a temporary folder, ports and a name of its own
//	p := process.Command(ctx, dir, slot, "make", "check")
//	p.Stdout = &process.Tail{Limit: 4 << 10}
//	err = p.Run()
//	ending := process.Ending(err) // in words
//
// On Linux a program and all that it starts are in a control group of their own if the system allows it, and carry a mark in their
// environment; what is left at the end is killed.
package process

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"fernrelay/core/run"
	"fernrelay/internal/owned"
)

// pipeDelay is how long output is read after a program has ended while others hold its pipes.
const pipeDelay = 500 * time.Millisecond

// A Process is a program that runs for a suite, together with all processes that it starts in turn. None of them
// outlives Wait, unless the program is to leave them.
//
// On Linux nothing escapes: neither a new session nor a cleared environment hides a process. On other systems a
// process that leaves the program's process group stays.
type Process struct {
	*exec.Cmd
	space  string        // marks the environment of all its processes
	leaves bool          // what it starts in the background is wanted
	record *owned.Record // names what it owns; nil for one of its own
	own    *owned.Record // that was begun for it alone; nil for none
	group  *owned.Group  // has all its processes; nil if the system offers none

	noGroup bool // do without a control group

	mu    sync.Mutex
	ended bool // the program has ended; its number may soon be another's

	began time.Time
	used  Usage // what its control group says at the end

	threads threads // what they used when they were looked at last
}

// Usage is what a process and all that it started have used.
type Usage struct {
	Wall      time.Duration
	Processor time.Duration // of all processors together
	Stalled   time.Duration // in which one of them waited for a processor; below 0 if the system does not say
	Thread    time.Duration // of a processor, by the thread of the process that used most; 0 if that is not known
	Threads   time.Duration // of a processor, by all threads of the process itself; 0 if that is not known
	Delayed   time.Duration // in which those waited for a processor, added up
}

// Since returns what was used after an earlier moment.
func (u Usage) Since(before Usage) Usage {
	u.Wall, u.Processor = u.Wall-before.Wall, u.Processor-before.Processor
	u.Thread, u.Threads, u.Delayed = max(0, u.Thread-before.Thread), max(0, u.Threads-before.Threads), max(0, u.Delayed-before.Delayed)
	if u.Stalled >= 0 {
		u.Stalled -= max(0, before.Stalled)
	}
	return u
}

// Event returns the event that reports the usage for a test, or for those of its batch if id is empty.
func (u Usage) Event(id string) run.Event {
	return run.Event{Event: run.Measured, ID: id, Seconds: run.Took(u.Wall.Seconds()), Used: &run.Used{Processor: u.Processor.Seconds(), Stalled: u.Stalled.Seconds(), Thread: u.Thread.Seconds(), Threads: u.Threads.Seconds(), Delayed: u.Delayed.Seconds()}}
}

// Usage returns what the process has used so far, or in all once Wait has returned.
func (p *Process) Usage() Usage {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.ended {
		return p.used
	}
	return p.usage()
}

func (p *Process) usage() Usage {
	u := Usage{Wall: time.Since(p.began), Stalled: -1}
	u.Thread, u.Threads, u.Delayed = p.threads.used(p.Process.Pid)
	if processor, stalled, ok := groupUsage(p.group.Dir()); ok {
		u.Processor, u.Stalled = processor, stalled
		return u
	}
	u.Processor = processorTime(p.Process.Pid)
	return u
}

// Command prepares a program that runs in a slot. When ctx ends, all its processes are killed.
func Command(ctx context.Context, dir string, slot Slot, program string, args ...string) *Process {
	p := &Process{Cmd: exec.CommandContext(ctx, program, args...), space: slot.Space, record: slot.record}
	if p.space == "" {
		p.space = spaceOf(os.Getpid()) + "0_"
	}
	p.Dir = dir
	p.Env = append(os.Environ(), spaceVariable+p.space, owned.Mark(), "PWD="+dir) // as else it may name the folder through a link
	p.Env = append(p.Env, slot.Env...)
	if slot.Temp != "" {
		p.Env = append(p.Env, "TMPDIR="+slot.Temp)
	}
	p.SysProcAttr = ownGroup()
	p.Cancel = p.Kill
	p.WaitDelay = pipeDelay
	return p
}

// Self is the first word of a command line that runs this very program, wherever it is.
const Self = "{fern-relay}"

// ProgramPath returns the program that the first word of a command line names. One that begins with a dot is relative to a folder.
func ProgramPath(dir, word string) string {
	if self, err := os.Executable(); word == Self && err == nil {
		return self
	}
	if strings.HasPrefix(word, ".") {
		return filepath.Join(dir, word)
	}
	return word
}

// spaceVariable marks the environment of the processes of a slot, and of all that they start.
const spaceVariable = "FERN_SPACE="

// outside is where the records of programs are that run in no slot, such as those that list tests.
var outside struct {
	sync.Mutex
	records func() (folder string)
}

// RecordIn has the programs that run in no slot recorded in a folder, which is asked for when one starts; "" for nowhere.
// The programs of a process that works in several projects are recorded in the latest.
func RecordIn(records func() (folder string)) {
	outside.Lock()
	defer outside.Unlock()
	outside.records = records
}

// BeginRecord begins a record for a program that runs in no slot. The caller closes it.
func BeginRecord() *owned.Record {
	outside.Lock()
	defer outside.Unlock()
	if outside.records == nil {
		return owned.Begin("")
	}
	return owned.Begin(outside.records())
}

// Start starts the program.
func (p *Process) Start() error {
	adopt()
	children.starting.RLock() // so that nobody mistakes it for a process that was left behind
	defer children.starting.RUnlock()
	if p.record == nil {
		p.own = BeginRecord()
		p.record = p.own
	}
	if !p.noGroup {
		p.group = p.record.NewGroup(p.SysProcAttr)
	}
	stdout, stderr := p.Stdout, p.Stderr
	p.Stdout, p.Stderr = readWide(stdout), readWide(stderr)
	err := p.Cmd.Start()
	p.Stdout, p.Stderr = stdout, stderr
	if err != nil {
		p.group.Remove()
		p.endRecord()
		return unstarted(p.Path, err)
	}
	p.began = time.Now()
	children.add(p)
	return nil
}

// endRecord ends the record of a program that runs in no slot.
func (p *Process) endRecord() {
	if p.own != nil {
		_ = p.own.Close() // else the next command does
	}
}

// wide is a writer of which io.Copy fills as much at once as a pipe holds.
type wide struct{ io.Writer }

func (w wide) ReadFrom(r io.Reader) (int64, error) {
	return io.CopyBuffer(w.Writer, struct{ io.Reader }{r}, make([]byte, pipeSize))
}

// readWide makes the output of a process that goes to a writer of ours wide.
func readWide(w io.Writer) io.Writer {
	switch w.(type) {
	case nil, io.ReaderFrom: // as files do
		return w
	}
	return wide{w}
}

// notInstalledError is the error for a program that PATH does not have.
type notInstalledError string

func (n notInstalledError) Error() string {
	return fmt.Sprintf("the program %s is not installed, or not in PATH", string(n))
}
func (n notInstalledError) Unwrap() error { return exec.ErrNotFound }

// unstarted explains why a program could not be started.
func unstarted(path string, err error) error {
	_, missing := os.Stat(path)
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return notInstalledError(path)
	case errors.Is(err, syscall.ENOEXEC):
		return fmt.Errorf("%s is no program that this system can run: if it is a script, give it a first line like #!/bin/sh", path)
	case errors.Is(err, syscall.ENOENT) && missing == nil:
		return fmt.Errorf("%s cannot be started: its first line (#!) names a program that does not exist", path)
	}
	return err
}

// Wait waits until the program has ended, and then kills what it left behind. Other
// processes that hold its output open are no error.
func (p *Process) Wait() error {
	stop := watch(p.group.Dir(), func() { p.threads.look(p.Process.Pid) })
	awaitEnd(p.Process.Pid)
	stop()
	p.mu.Lock()
	p.used, p.ended = p.usage(), true
	p.mu.Unlock()
	err := p.Cmd.Wait()
	if p.used.Stalled < 0 && p.ProcessState != nil {
		p.used.Processor = p.ProcessState.UserTime() + p.ProcessState.SystemTime() // with the children that it waited for
	}
	if errors.Is(err, exec.ErrWaitDelay) {
		err = nil
	}
	p.clear()
	p.endRecord()
	return err
}

// Run starts the program and waits for it.
func (p *Process) Run() error {
	if err := p.Start(); err != nil {
		return err
	}
	return p.Wait()
}

// Kill kills the program and what it has started, at once.
func (p *Process) Kill() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.ended {
		return os.ErrProcessDone
	}
	p.group.Kill()
	return owned.KillTree(p.Process.Pid)
}

// dumpTime is how long a Go program may take to print the stacks of its goroutines.
const dumpTime = 2 * time.Second

// Dump asks a Go program to print the stacks of its goroutines and to end, and kills it
// if it takes too long.
func (p *Process) Dump() {
	p.mu.Lock()
	if !p.ended {
		_ = p.Process.Signal(syscall.SIGQUIT) // the kill follows in any case
	}
	p.mu.Unlock()
	time.AfterFunc(dumpTime, func() { _ = p.Kill() })
}

// Ending describes how a process ended, from what Wait returned.
func Ending(err error) string {
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		if err == nil {
			return "exit status 0"
		}
		return err.Error()
	}
	if status, ok := exit.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		return fmt.Sprintf("signal %d, %s", int(status.Signal()), status.Signal())
	}
	return exit.Error()
}
