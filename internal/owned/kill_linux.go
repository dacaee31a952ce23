package owned

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Processes lists the processes of the system that are meant.
func Processes(meant func(pid int) bool) (pids []int) {
	entries, _ := os.ReadDir("/proc") // none if it is not mounted
	for _, entry := range entries {
		if pid, err := strconv.Atoi(entry.Name()); err == nil && meant(pid) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// ProcessStat reads the state, the parent and the group of a process, and what follows (proc(5), from field 3 on).
func ProcessStat(pid int) ([]string, error) {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return nil, err
	}
	fields := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:])) // the name before may hold anything
	if len(fields) < 20 {
		return nil, fmt.Errorf("the system describes process %d in an unknown way", pid)
	}
	return fields, nil
}

// startOf returns when a process started, in ticks since the system did. It returns 0 for one that has ended, though
// nobody has waited for it yet.
func startOf(pid int) (uint64, error) {
	fields, err := ProcessStat(pid)
	if err != nil {
		return 0, err
	}
	if fields[0] == "Z" || fields[0] == "X" {
		return 0, nil
	}
	return strconv.ParseUint(fields[19], 10, 64)
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
		for _, pid := range Processes(func(pid int) bool { return pid > 1 && pid != os.Getpid() }) {
			found = killIfMarked(pid, secret) || found
		}
		if !found {
			return
		}
		time.Sleep(time.Millisecond)
	}
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
