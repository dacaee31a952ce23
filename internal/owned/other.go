//go:build !linux

package owned

import "syscall"

// A Group holds a program and all its processes; this system has none.
type Group struct{}

type groupHome struct{}

func (*groupHome) remove() {}

// PrepareGroup has nothing to prepare here.
func (r *Record) PrepareGroup() {}

// NewGroup returns nil, as this system has no control groups.
func (r *Record) NewGroup(*syscall.SysProcAttr) *Group { return nil }

// Dir returns the folder of the group, empty for none.
func (*Group) Dir() string { return "" }

// Kill kills all processes in the group.
func (*Group) Kill() {}

// RemoveEmpty reports whether the group is gone.
func (*Group) RemoveEmpty() bool { return true }

// Remove removes the group.
func (*Group) Remove() {}

func isGroupName(string, int) bool { return false }

func killGroup(string, uint64) error { return nil }

// startOf is not known here.
func startOf(int) (uint64, error) { return 0, nil }

// lives reports whether a process has a number.
func lives(pid int, _ uint64) bool { return exists(pid) }

// killMarked finds no processes here: this system does not show their environment.
func killMarked(string) {}
