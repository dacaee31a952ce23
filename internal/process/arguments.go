package process

import (
	"runtime"
	"strings"
	"syscall"
)

// The room for arguments and variables, in bytes: what every system has, what macOS has, and what a program gets at most however
// much Linux allows.
const (
	leastRoom = 128 << 10
	macRoom   = 1 << 20
	mostRoom  = 4 << 20
)

// ArgumentRoom returns how many bytes of arguments a program can be started with in an environment, by [ArgumentSize].
func ArgumentRoom(env []string) int {
	room := macRoom
	var stack syscall.Rlimit
	if runtime.GOOS == "linux" && syscall.Getrlimit(syscall.RLIMIT_STACK, &stack) == nil {
		room = int(min(stack.Cur/4, mostRoom))
	}
	room = max(leastRoom, room) - 8<<10 // for the name of the program, and what the system itself adds
	for _, variable := range env {
		room -= ArgumentSize(variable)
	}
	return room
}

// ArgumentSize returns how many bytes an argument or a variable takes: itself, its end, and a pointer to it.
func ArgumentSize(word string) int { return len(word) + 1 + 8 }

// NameLines writes names for a program that reads one a line.
func NameLines(names []string) string { return strings.Join(names, "\n") + "\n" }
