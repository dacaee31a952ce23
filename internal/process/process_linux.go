package process

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"fernrelay/internal/owned"
)

// ownGroup puts a process into a group of its own, and kills it when this process ends, in whatever way.
func ownGroup() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
}

// adopt makes this process the parent of every process below it whose own parent ends (prctl(2),
// PR_SET_CHILD_SUBREAPER), so that it can find all of them.
var adopt = sync.OnceFunc(func() {
	_ = unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) // without it, marks in environments have to do
	_ = os.Setenv(owned.SecretVariable, owned.Secrets())    // what does not have it has cleared its environment
})

// strangers reports whether this process may have children that it neither started nor adopted from a program that it
// did: those from before the program that it replaced became this one (exec), or as the first process of a container,
// which adopts everybody's.
var strangers = os.Getpid() == 1 || len(childrenOf(os.Getpid())) > 0

// children are the processes that adapters have started, and what they left behind on purpose.
var children = &family{running: map[int]string{}, kept: map[int]string{}, groups: map[string][]*owned.Group{}}

type family struct {
	starting sync.RWMutex // held shared while a process starts, and whole while orphans are listed

	mu      sync.Mutex
	running map[int]string            // the space of each program that has not been waited for
	kept    map[int]string            // the space of each orphan that its program was to leave
	groups  map[string][]*owned.Group // by space: those that hold such orphans
}

func (f *family) add(p *Process) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.running[p.Process.Pid] = p.space
}

// awaitEnd waits until a child has ended, and leaves it to be waited for, so that
// its number cannot become another's meanwhile.
func awaitEnd(pid int) {
	for errors.Is(unix.Waitid(unix.P_PID, pid, nil, unix.WEXITED|unix.WNOWAIT, nil), unix.EINTR) {
	}
}

// clear kills what a program that has ended left behind, or records it if that is wanted.
func (p *Process) clear() {
	pid := p.Process.Pid
	children.mu.Lock()
	delete(children.running, pid)
	children.mu.Unlock()
	if p.leaves {
		children.keep(p)
		return
	}
	if !p.group.RemoveEmpty() {
		p.group.Kill()
	}
	_ = children.kill(func(o orphan) bool {
		return o.group == pid || children.isLeft(o, p.space)
	})
	p.group.Remove()
}

// uses reports whether a program of a space runs.
func (f *family) uses(space string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, other := range f.running {
		if other == space {
			return true
		}
	}
	return false
}

// idle reports whether no program runs, so that every orphan was left behind.
func (f *family) idle() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return len(f.running) == 0
}

// isLeft reports whether an orphan was left behind: no program runs in its space, which begins with the given
// one, or none at all if it hides its space. One that hides it may also be somebody else's, if this process has such
// children.
func (f *family) isLeft(o orphan, space string) bool {
	return strings.HasPrefix(o.space, space) && !f.uses(o.space) || o.hidden && !strangers && f.idle()
}

// keep notes the orphans that a program has just left as wanted.
func (f *family) keep(p *Process) {
	f.starting.Lock()
	defer f.starting.Unlock()
	orphans := f.orphans()
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, o := range orphans {
		if o.space == p.space || o.hidden {
			f.kept[o.pid] = p.space
		}
	}
	if p.group != nil {
		f.groups[p.space] = append(f.groups[p.space], p.group)
	}
}

// release treats processes that were wanted until now like other orphans, and kills those in control groups.
func (f *family) release(space string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for pid, other := range f.kept {
		if strings.HasPrefix(other, space) {
			delete(f.kept, pid)
		}
	}
	for other, groups := range f.groups {
		if !strings.HasPrefix(other, space) {
			continue
		}
		for _, g := range groups {
			g.Kill()
			g.Remove()
		}
		delete(f.groups, other)
	}
}

// killTime bounds how long orphans that keep coming are killed.
const killTime = 10 * time.Second

// kill kills the orphans that are meant, and the orphans that this makes, until none is left.
// The error names those that do not end.
func (f *family) kill(meant func(orphan) bool) error {
	began, pause := time.Now(), 100*time.Microsecond
	for {
		left, reaped := f.pass(meant)
		if len(left) == 0 && !reaped {
			return nil
		}
		if time.Since(began) > killTime {
			return fmt.Errorf("these processes were killed and do not end: %v", left)
		}
		time.Sleep(pause)
		pause = min(2*pause, 20*time.Millisecond)
	}
}

// pass kills each orphan once that is meant, and takes the dead ones off the system's list. If it takes one off, that may have
// died while the orphans were listed, so that its children are not among them.
func (f *family) pass(meant func(orphan) bool) (left []int, reaped bool) {
	f.starting.Lock()
	defer f.starting.Unlock()
	for _, o := range f.orphans() {
		switch {
		case o.dead:
			_, _ = syscall.Wait4(o.pid, nil, syscall.WNOHANG, nil)
			reaped = true
			f.mu.Lock()
			delete(f.kept, o.pid)
			f.mu.Unlock()
		case f.isKept(o.pid) || !meant(o):
		default: // it is a child of this process, so that its number is not reused until it is waited for
			owned.KillChild(o.pid)
			left = append(left, o.pid)
		}
	}
	return left, reaped
}

func (f *family) isKept(pid int) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	_, kept := f.kept[pid]
	return kept
}

// An orphan is a child of this process that this process did not start: its parent was a
// program of ours and has ended.
type orphan struct {
	pid, group int
	dead       bool   // it has ended and was not waited for
	space      string // as its environment says
	hidden     bool   // its environment says nothing
}

// orphans lists the present orphans. What was started beside adapters, such as an editor, is in
// this process's own group.
func (f *family) orphans() []orphan {
	var found []orphan
	for _, pid := range childrenOf(os.Getpid()) {
		f.mu.Lock()
		_, running := f.running[pid]
		f.mu.Unlock()
		if running {
			continue
		}
		if o, err := readOrphan(pid); err == nil && o.group != syscall.Getpgrp() {
			found = append(found, o)
		}
	}
	return found
}

// childrenOf lists the children of a process. The system lists them by the thread that is
// their parent, which for orphans is the first.
func childrenOf(pid int) []int {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	if err != nil {
		return childrenByParent(pid)
	}
	var pids []int
	for _, word := range strings.Fields(string(data)) {
		if pid, err := strconv.Atoi(word); err == nil {
			pids = append(pids, pid)
		}
	}
	return pids
}

// childrenByParent looks through all processes, for kernels that do not list children.
func childrenByParent(parent int) []int {
	return owned.Processes(func(pid int) bool {
		fields, err := owned.ProcessStat(pid)
		return err == nil && fields[1] == strconv.Itoa(parent)
	})
}

func readOrphan(pid int) (orphan, error) {
	o := orphan{pid: pid}
	fields, err := owned.ProcessStat(pid)
	if err != nil {
		return o, err
	}
	o.group, err = strconv.Atoi(fields[2])
	if o.dead = fields[0] == "Z" || fields[0] == "X"; o.dead || err != nil {
		return o, err
	}
	environment, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
	if err != nil {
		return o, err
	}
	var marked bool
	for _, entry := range bytes.Split(environment, []byte{0}) {
		if space, ok := bytes.CutPrefix(entry, []byte(spaceVariable)); ok {
			o.space = string(space)
		}
		marked = marked || bytes.HasPrefix(entry, []byte(owned.SecretVariable+"="))
	}
	o.hidden = o.space == "" && !marked
	return o, nil
}

// sweep kills what is left of the slots whose spaces have a prefix and in which no program runs.
func sweep(space string) error {
	children.release(space)
	return children.kill(func(o orphan) bool { return children.isLeft(o, space) })
}

// clockTicks is how many ticks of process times a second has on Linux (times(2)).
const clockTicks = 100

// processorTime returns what a process and the children that it waited for have used of processors, 0 if that is not
// known.
func processorTime(pid int) time.Duration {
	fields, err := owned.ProcessStat(pid)
	if err != nil || len(fields) < 15 {
		return 0
	}
	ticks := 0
	for _, field := range fields[11:15] { // utime, stime, cutime, cstime
		n, _ := strconv.Atoi(field) // the system writes numbers
		ticks += n
	}
	return time.Duration(ticks) * time.Second / clockTicks
}
