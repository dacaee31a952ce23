//go:build !linux

package process

import (
	"sync"
	"syscall"
	"time"

	"fernrelay/internal/owned"
)

// ownGroup puts a process into a group of its own.
func ownGroup() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }

func adopt() {}

// children has what process_linux.go needs of it; here no process can be adopted.
var children family

type family struct{ starting sync.RWMutex }

func (*family) add(*Process) {}

func awaitEnd(int) {}

// clear kills what is left of the program's process group.
func (p *Process) clear() {
	if !p.leaves {
		_ = owned.KillTree(p.Process.Pid) // nothing may be left
	}
}

func sweep(string) error { return nil }

func groupUsage(string) (processor, stalled time.Duration, ok bool) { return 0, 0, false }

func watch(string, func()) (stop func()) { return func() {} }

// threads are not known.
type threads struct{}

func (*threads) look(int) {}

func (*threads) used(int) (longest, all, delayed time.Duration) { return 0, 0, 0 }

// processorTime is not known before the end of a process.
func processorTime(int) time.Duration { return 0 }
