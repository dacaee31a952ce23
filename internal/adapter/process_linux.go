package adapter

import "syscall"

// ownGroup puts a process into a group of its own, and has it end with ours, also
// where ours is killed.
func ownGroup() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
}
