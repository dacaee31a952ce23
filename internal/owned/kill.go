package owned

import (
	"errors"
	"os"
	"syscall"
)

// KillTree kills a program that this process started in a process group of its own and has not waited for, with all
// that is in that group.
func KillTree(pid int) error {
	if pid <= 1 {
		return errors.New("no process of ours")
	}
	if err := syscall.Kill(-pid, syscall.SIGKILL); !errors.Is(err, syscall.ESRCH) {
		return err
	}
	return os.ErrProcessDone
}

// KillChild kills a child of this process that has not been waited for, so that no other process has its number.
func KillChild(pid int) {
	if pid > 1 {
		_ = syscall.Kill(pid, syscall.SIGKILL) // it may have ended
	}
}

// exists reports whether a process has a number, of whichever user.
func exists(pid int) bool { return !errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) }
