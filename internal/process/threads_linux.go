package process

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"
)

// threads is what the threads of a process had used when they were looked at last: after its end nobody can look.
type threads struct {
	mu                    sync.Mutex
	longest, all, delayed time.Duration
	looks                 int
}

// A look at the threads of a process reads a file for each. Of a process with more than mostThreads it looks at one in manyThreads
// times only.
const (
	mostThreads = 32
	manyThreads = 20
)

// used returns what the thread of a process has used of a processor that used most, what all of them have used, and how long they
// waited for one.
func (t *threads) used(pid int) (longest, all, delayed time.Duration) {
	t.look(pid)
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.longest, t.all, t.delayed
}

// look reads what the threads of a process have used (/proc/PID/task/TID/schedstat in the kernel's documentation).
func (t *threads) look(pid int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	folder := fmt.Sprintf("/proc/%d/task", pid)
	dir, err := os.Open(folder)
	if err != nil {
		return
	}
	defer dir.Close()
	names, _ := dir.Readdirnames(-1)
	if t.looks++; len(names) > mostThreads && t.looks%manyThreads != 0 {
		return
	}
	var longest, all, waited time.Duration
	for _, name := range names {
		used, delayed := timesOf(folder + "/" + name)
		longest, all, waited = max(longest, used), all+used, waited+delayed
	}
	if all > t.all { // less means that it ends, and some are gone
		t.longest, t.all, t.delayed = max(t.longest, longest), all, waited
	}
}

// timesOf returns how long the thread ran and how long it waited for a processor: 0 if it is gone.
func timesOf(folder string) (used, delayed time.Duration) {
	data, _ := os.ReadFile(folder + "/schedstat")
	if words := strings.Fields(string(data)); len(words) >= 2 {
		ran, _ := strconv.ParseInt(words[0], 10, 64) // nanoseconds; the system writes numbers
		waited, _ := strconv.ParseInt(words[1], 10, 64)
		return time.Duration(ran), time.Duration(waited)
	}
	return 0, 0
}
