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
		data, err := os.ReadFile(folder + "/" + name + "/schedstat")
		words := strings.Fields(string(data))
		if err != nil || len(words) < 2 {
			continue
		}
		used, _ := strconv.ParseInt(words[0], 10, 64) // nanoseconds; the system writes numbers
		delayed, _ := strconv.ParseInt(words[1], 10, 64)
		longest, all, waited = max(longest, time.Duration(used)), all+time.Duration(used), waited+time.Duration(delayed)
	}
	if all > t.all { // less means that it ends, and some are gone
		t.longest, t.all, t.delayed = max(t.longest, longest), all, waited
	}
}
