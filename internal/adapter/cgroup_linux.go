package adapter

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// A cgroup is a control group (cgroups(7), version 2) that holds a program and all its processes.
// A nil *cgroup does nothing.
type cgroup struct {
	dir  string
	file *os.File
}

var cgroupNumber struct {
	sync.Mutex
	last int
}

// cgroupPrefix is how the folders of this process's control groups begin; empty if it may not make any.
var cgroupPrefix = sync.OnceValue(func() string {
	own := ownCgroup()
	if own == "" {
		return ""
	}
	prefix := fmt.Sprintf("%s/fern-relay-%d-", own, os.Getpid())
	dir := prefix + "trial"
	if os.Mkdir(dir, 0o755) != nil {
		return ""
	}
	defer os.Remove(dir)
	if _, err := os.Stat(dir + "/cgroup.kill"); err != nil {
		return "" // a kernel before 5.14
	}
	file, err := os.Open(dir)
	if err != nil {
		return ""
	}
	defer file.Close()
	trial := exec.Command("true") // whether a process may start in it shows only when one does
	trial.SysProcAttr = &syscall.SysProcAttr{UseCgroupFD: true, CgroupFD: int(file.Fd())}
	if trial.Run() != nil {
		return ""
	}
	return prefix
})

// ownCgroup is the folder of the control group that this process is in; empty if there is none.
func ownCgroup() string {
	groups, _ := os.ReadFile("/proc/self/cgroup")
	mounts, _ := os.ReadFile("/proc/self/mountinfo")
	var path string
	for line := range strings.Lines(string(groups)) {
		if below, ok := strings.CutPrefix(strings.TrimSpace(line), "0::"); ok {
			path = below
		}
	}
	for line := range strings.Lines(string(mounts)) {
		fields := strings.Fields(line)
		if at := slices.Index(fields, "-"); path != "" && at > 4 && at+1 < len(fields) && fields[at+1] == "cgroup2" && fields[3] == "/" {
			return filepath.Join(fields[4], path)
		}
	}
	return ""
}

// newCgroup makes a control group in which a process starts that has these attributes.
func newCgroup(attributes *syscall.SysProcAttr) *cgroup {
	prefix := cgroupPrefix()
	if prefix == "" {
		return nil
	}
	cgroupNumber.Lock()
	cgroupNumber.last++
	g := &cgroup{dir: prefix + strconv.Itoa(cgroupNumber.last)}
	cgroupNumber.Unlock()
	if os.Mkdir(g.dir, 0o755) != nil {
		return nil
	}
	var err error
	if g.file, err = os.Open(g.dir); err != nil {
		g.remove()
		return nil
	}
	attributes.UseCgroupFD, attributes.CgroupFD = true, int(g.file.Fd())
	return g
}

// isEmpty reports whether the group has no process left; then it removes the group.
func (g *cgroup) isEmpty() bool { return g == nil || os.Remove(g.dir) == nil }

// remove removes the group, once the processes that were killed in it are gone.
func (g *cgroup) remove() {
	if g == nil {
		return
	}
	if g.file != nil {
		_ = g.file.Close()
	}
	for pause := 100 * time.Microsecond; pause < time.Second; pause *= 2 {
		if err := os.Remove(g.dir); !errors.Is(err, syscall.EBUSY) {
			return
		}
		time.Sleep(pause)
	}
}

// usage returns what the processes of the group have used of processors, and how long one of them waited for one
// (cgroups(7), cpu.stat and cpu.pressure). ok is false if the system does not say.
func (g *cgroup) usage() (processor, stalled time.Duration, ok bool) {
	if g == nil {
		return 0, 0, false
	}
	used, usedOK := microseconds(g.dir+"/cpu.stat", "usage_usec ")
	waited, waitedOK := microseconds(g.dir+"/cpu.pressure", "total=")
	return used, waited, usedOK && waitedOK
}

// watchEvery is the time between two looks at the waiting of a group. What the system adds up between two looks counts
// by the processors on which the processes were, so that waiting on several of them counts too little.
const watchEvery = 25 * time.Millisecond

// watch looks at the group's use of processors from time to time, until the returned function is called.
func (g *cgroup) watch() (stop func()) {
	if g == nil {
		return func() {}
	}
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
				_, _ = os.ReadFile(g.dir + "/cpu.pressure")
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
