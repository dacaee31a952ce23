//go:build !linux

package adapter

import "syscall"

// ownGroup puts a process into a group of its own.
func ownGroup() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }
