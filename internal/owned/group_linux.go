package owned

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"fernrelay/core/lazy"
)

// A Group is a control group (cgroups(7), version 2) that holds a program and all its processes.
// A nil *Group does nothing.
type Group struct {
	dir  string
	file *os.File
}

// groupHome is the control group of one record, in which its programs have theirs: whoever kills it kills them all.
type groupHome struct {
	once sync.Once
	dir  string // empty if there is none
	last atomic.Int64
}

// homes numbers the homes of this process.
var homes atomic.Int64

// groupName is what the last part of the path of a home looks like: the prefix, a process, a number, random digits.
var groupName = lazy.Regexp(`^` + Prefix + `([0-9]+)-[0-9]+-[0-9a-f]{12}$`)

// isGroupName reports whether a name is that of a home of a process.
func isGroupName(name string, pid int) bool {
	parts := groupName().FindStringSubmatch(name)
	return parts != nil && parts[1] == strconv.Itoa(pid)
}

// PrepareGroup makes the control group for the programs of the record, before the first of them needs it. The first call
// in a process takes a few milliseconds, as it tries whether processes may have control groups.
func (r *Record) PrepareGroup() { r.group.once.Do(r.makeHome) }

// trial is whether a process may start in a control group, which shows only when one does.
var trial struct {
	sync.Mutex
	made, works bool
}

// startsIn reports whether processes may start in control groups, tried with an empty one.
func startsIn(dir string) bool {
	trial.Lock()
	defer trial.Unlock()
	if !trial.made {
		trial.made, trial.works = true, tryToStart(dir)
	}
	return trial.works
}

func tryToStart(dir string) bool {
	if _, err := os.Stat(dir + "/cgroup.kill"); err != nil {
		return false // a kernel before 5.14
	}
	file, err := os.Open(dir)
	if err != nil {
		return false
	}
	defer file.Close()
	program := exec.Command("true")
	program.SysProcAttr = &syscall.SysProcAttr{UseCgroupFD: true, CgroupFD: int(file.Fd())}
	return program.Run() == nil
}

// makeHome makes the control group of the record. The record names it before it exists, and has its inode before a
// program is in it.
func (r *Record) makeHome() {
	own := ownGroup()
	if own == "" {
		return
	}
	dir := filepath.Join(own, fmt.Sprintf("%s%d-%d-%s", Prefix, os.Getpid(), homes.Add(1), newNumber()[:12]))
	if r.add(recordLine{Group: dir}) != nil || os.Mkdir(dir, 0o755) != nil {
		return
	}
	info, err := os.Lstat(dir)
	if err != nil || r.add(recordLine{Group: dir, Inode: inodeOf(info)}) != nil || !startsIn(dir) {
		_ = syscall.Rmdir(dir) // it is empty
		return
	}
	r.group.dir = dir
}

func (h *groupHome) remove() {
	h.once.Do(func() {}) // it may be made this moment
	if h.dir != "" {
		removeGroup(h.dir)
	}
}

// ownGroup is the folder of the control group that this process is in; empty if there is none.
var ownGroup = sync.OnceValue(func() string {
	groups, _ := os.ReadFile("/proc/self/cgroup")
	var path string
	for line := range strings.Lines(string(groups)) {
		if below, ok := strings.CutPrefix(strings.TrimSpace(line), "0::"); ok {
			path = below
		}
	}
	mount := groupMount()
	if path == "" || mount == "" {
		return ""
	}
	return filepath.Join(mount, path)
})

// groupMount returns where the control groups are mounted; empty for nowhere.
func groupMount() string {
	mounts, _ := os.ReadFile("/proc/self/mountinfo")
	for line := range strings.Lines(string(mounts)) {
		fields := strings.Fields(line)
		if at := slices.Index(fields, "-"); at > 4 && at+1 < len(fields) && fields[at+1] == "cgroup2" && fields[3] == "/" {
			return fields[4]
		}
	}
	return ""
}

// NewGroup makes a control group for a program that starts with these attributes. It returns nil if the system offers
// none.
func (r *Record) NewGroup(attributes *syscall.SysProcAttr) *Group {
	r.PrepareGroup()
	if r.group.dir == "" {
		return nil
	}
	g := &Group{dir: filepath.Join(r.group.dir, strconv.FormatInt(r.group.last.Add(1), 10))}
	if os.Mkdir(g.dir, 0o755) != nil {
		return nil
	}
	var err error
	if g.file, err = os.Open(g.dir); err != nil {
		_ = syscall.Rmdir(g.dir) // else with its home
		return nil
	}
	attributes.UseCgroupFD, attributes.CgroupFD = true, int(g.file.Fd())
	return g
}

func inodeOf(info fs.FileInfo) uint64 {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0
	}
	return stat.Ino
}

// Dir returns the folder of the group, empty for none.
func (g *Group) Dir() string {
	if g == nil {
		return ""
	}
	return g.dir
}

// Kill kills all processes in the group, at once.
func (g *Group) Kill() {
	if g != nil {
		killThrough(g.file)
	}
}

// killThrough kills all processes in an open control group and in those below it.
func killThrough(dir *os.File) {
	fd, err := unix.Openat(int(dir.Fd()), "cgroup.kill", unix.O_WRONLY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return // it was removed
	}
	defer unix.Close(fd)
	_, _ = unix.Write(fd, []byte("1")) // as above
}

// RemoveEmpty removes the group if it has no process left, and reports whether it did.
func (g *Group) RemoveEmpty() bool { return g == nil || syscall.Rmdir(g.dir) == nil }

// Remove removes the group, once the processes that were killed in it are gone.
func (g *Group) Remove() {
	if g == nil {
		return
	}
	removeGroup(g.dir)
	_ = g.file.Close()
}

// removeGroup removes a control group and those below it, once their processes are gone. This destroys nothing: the system
// refuses if a process is in one.
func removeGroup(dir string) {
	for pause := 100 * time.Microsecond; pause < time.Second; pause *= 2 {
		if removeGroups(dir) {
			return
		}
		time.Sleep(pause)
	}
}

// removeGroups tries once to remove a control group and those below it.
func removeGroups(dir string) bool {
	if err := syscall.Rmdir(dir); err == nil || errors.Is(err, fs.ErrNotExist) {
		return true
	}
	below, _ := os.ReadDir(dir) // none if it has just been removed
	for _, entry := range below {
		if entry.IsDir() {
			removeGroups(filepath.Join(dir, entry.Name()))
		}
	}
	return syscall.Rmdir(dir) == nil
}

// killGroup kills what is in a control group of a process that is gone, and removes the group. It must be below the
// control groups that this user manages, belong to the user, and have the inode of the record; without an inode, its
// process was killed before anything was in it, so that it is only removed.
func killGroup(path string, inode uint64) error {
	managed := managedGroups()
	below, err := filepath.Rel(managed, path)
	if managed == "" || err != nil || !filepath.IsLocal(below) || below == "." {
		if _, err := os.Lstat(path); err != nil {
			return nil // it is gone
		}
		return fmt.Errorf("the control group %s is left alone: this command may not manage it", path)
	}
	root, err := os.OpenRoot(managed)
	if err != nil {
		return fmt.Errorf("the control group %s is left alone: %w", path, err)
	}
	defer root.Close()
	group, info, err := openBelow(root, below)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("the control group %s is left alone: %w", path, err)
	}
	defer group.Close()
	self, err := group.Open(".")
	if err != nil {
		return fmt.Errorf("the control group %s is left alone: %w", path, err)
	}
	defer self.Close()
	if !isGroup(self) || !belongsToUs(info) || inode != 0 && inodeOf(info) != inode {
		return fmt.Errorf("the control group %s is left alone: it is not the one of the record", path)
	}
	if inode != 0 {
		killThrough(self)
	}
	removeGroup(path)
	return nil
}

// isGroup reports whether an open folder is a control group of version 2.
func isGroup(dir *os.File) bool {
	var stat unix.Statfs_t
	return unix.Fstatfs(int(dir.Fd()), &stat) == nil && stat.Type == unix.CGROUP2_SUPER_MAGIC
}

// managedGroups returns the highest control group above that of this process which its user manages; empty for none.
func managedGroups() (managed string) {
	mount := groupMount()
	for dir := ownGroup(); dir != ""; dir = filepath.Dir(dir) {
		info, err := os.Lstat(dir)
		if err != nil || !belongsToUs(info) || unix.Access(dir, unix.W_OK) != nil || unix.Access(filepath.Join(dir, "cgroup.procs"), unix.W_OK) != nil {
			return managed
		}
		if managed = dir; dir == mount {
			return managed
		}
	}
	return managed
}
