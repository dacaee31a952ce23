package owned

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

// startOf returns when a process started, in ticks since the system did (proc(5), field 22). It returns 0 for one that
// has ended, though nobody has waited for it yet.
func startOf(pid int) (uint64, error) {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	fields := bytes.Fields(data[bytes.LastIndexByte(data, ')')+1:]) // the name before may hold anything
	if len(fields) < 20 {
		return 0, fmt.Errorf("the system describes process %d in an unknown way", pid)
	}
	if state := string(fields[0]); state == "Z" || state == "X" {
		return 0, nil
	}
	return strconv.ParseUint(string(fields[19]), 10, 64)
}

// lives reports whether the process lives that has a number and started at a time.
func lives(pid int, started uint64) bool {
	if !exists(pid) {
		return false
	}
	now, err := startOf(pid)
	return err != nil || now == started && now != 0
}

// sweeps bounds how often killMarked looks for processes that others started meanwhile.
const sweeps = 100

// killMarked kills the processes that have a secret in their environment.
func killMarked(secret string) {
	for range sweeps {
		found := false
		for _, pid := range processes() {
			found = killIfMarked(pid, secret) || found
		}
		if !found {
			return
		}
		time.Sleep(time.Millisecond)
	}
}

// processes lists the processes of the system.
func processes() (pids []int) {
	entries, _ := os.ReadDir("/proc") // none if it is not mounted
	for _, entry := range entries {
		if pid, err := strconv.Atoi(entry.Name()); err == nil && pid > 1 && pid != os.Getpid() {
			pids = append(pids, pid)
		}
	}
	return pids
}

// killIfMarked kills a process if its environment has a secret. It holds the process by a descriptor meanwhile, so that
// another that gets its number is safe.
func killIfMarked(pid int, secret string) bool {
	if !isMarked(pid, secret) {
		return false
	}
	fd, err := unix.PidfdOpen(pid, 0)
	if err != nil {
		return false // it has ended
	}
	defer unix.Close(fd)
	if !isMarked(pid, secret) {
		return false
	}
	return unix.PidfdSendSignal(fd, unix.SIGKILL, nil, 0) == nil
}

// isMarked reports whether the environment of a process has a secret. That of a process which has ended is empty.
func isMarked(pid int, secret string) bool {
	environment, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
	if err != nil {
		return false
	}
	for setting := range bytes.SplitSeq(environment, []byte{0}) {
		if value, ok := bytes.CutPrefix(setting, []byte(SecretVariable+"=")); ok {
			return slices.ContainsFunc(bytes.Split(value, []byte(":")), func(s []byte) bool { return string(s) == secret })
		}
	}
	return false
}
