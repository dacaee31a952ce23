package process

import (
	"bytes"
	"os"
	"strconv"
	"sync"
	"time"
)

// groupUsage returns what the processes of a control group have used of processors, and how long one of them waited for one
// (cgroups(7), cpu.stat and cpu.pressure). ok is false if the system does not say.
func groupUsage(dir string) (processor, stalled time.Duration, ok bool) {
	if dir == "" {
		return 0, 0, false
	}
	used, usedOK := microseconds(dir+"/cpu.stat", "usage_usec ")
	waited, waitedOK := microseconds(dir+"/cpu.pressure", "total=")
	return used, waited, usedOK && waitedOK
}

// watchEvery is the time between two looks at the waiting of a group. What the system adds up between two looks counts
// by the processors on which the processes were, so that waiting on several of them counts too little.
const watchEvery = 25 * time.Millisecond

// watch looks at a control group's use of processors from time to time, and calls look, until the returned function is called. dir
// is empty if there is no group.
func watch(dir string, look func()) (stop func()) {
	ended := make(chan struct{})
	var looking sync.WaitGroup
	looking.Go(func() {
		every := time.NewTicker(watchEvery)
		defer every.Stop()
		for {
			select {
			case <-ended:
				return
			case <-every.C:
				if dir != "" {
					_, _ = os.ReadFile(dir + "/cpu.pressure")
				}
				look()
			}
		}
	})
	return func() {
		close(ended)
		looking.Wait()
	}
}

// microseconds reads the first number in a file that follows a word.
func microseconds(file, word string) (time.Duration, bool) {
	data, err := os.ReadFile(file)
	if err != nil {
		return 0, false
	}
	_, rest, found := bytes.Cut(data, []byte(word))
	end := 0
	for end < len(rest) && rest[end] >= '0' && rest[end] <= '9' {
		end++
	}
	n, err := strconv.ParseInt(string(rest[:end]), 10, 64)
	return time.Duration(n) * time.Microsecond, found && err == nil
}
