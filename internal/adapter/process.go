package adapter

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"
)

// pipeDelay is how long output is still read after a process has ended while
// others hold its pipes.
const pipeDelay = 500 * time.Millisecond

// Command prepares a program in a process group of its own, which is killed as
// a whole when ctx ends.
func Command(ctx context.Context, dir string, slot Slot, program string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), slot.Env...)
	if slot.Temp != "" {
		cmd.Env = append(cmd.Env, "TMPDIR="+slot.Temp)
	}
	cmd.SysProcAttr = ownGroup()
	cmd.Cancel = func() error { return KillGroup(cmd) }
	cmd.WaitDelay = pipeDelay
	return cmd
}

// spaceVariable tells the processes of a slot, and all that they begin, from others.
const spaceVariable = "FERN_SPACE="

// killSpace kills what is left of slots whose space begins so, also processes that went
// out of their group. It goes by the environment that processes were begun with, as far
// as the system tells it.
func killSpace(space string) {
	mark := []byte("\x00" + spaceVariable + space)
	environments, _ := filepath.Glob("/proc/[0-9]*/environ") // a well-formed pattern; none elsewhere than on Linux
	for _, name := range environments {
		environment, err := os.ReadFile(name)
		if err != nil || !bytes.Contains(append([]byte{0}, environment...), mark) {
			continue // gone, or not ours
		}
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(name)))
		if err == nil && pid != os.Getpid() {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}

// KillGroup kills the process group of a started command.
func KillGroup(cmd *exec.Cmd) error {
	err := syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
	if errors.Is(err, syscall.ESRCH) {
		return os.ErrProcessDone
	}
	return err
}

// Ending tells in words how a process ended, from what Wait returned.
func Ending(err error) string {
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		if err == nil || errors.Is(err, exec.ErrWaitDelay) {
			return "exit status 0"
		}
		return err.Error()
	}
	if status, ok := exit.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		return fmt.Sprintf("signal %d, %s", int(status.Signal()), status.Signal())
	}
	return exit.Error()
}
