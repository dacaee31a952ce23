package owned

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"
)

// changeTime returns when a file was last changed in any way, which no program can set.
func changeTime(info fs.FileInfo) string {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return ""
	}
	return fmt.Sprintf("@%d.%d", stat.Ctim.Sec, stat.Ctim.Nsec)
}

// MountAt identifies the mount that a folder belongs to, see mountOf.
func MountAt(path string) (uint64, error) {
	var stat unix.Statx_t
	err := unix.Statx(unix.AT_FDCWD, path, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_MNT_ID, &stat)
	if err == nil && stat.Mask&unix.STATX_MNT_ID != 0 {
		return stat.Mnt_id, nil
	}
	dir, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer dir.Close()
	return mountOf(dir)
}

// mountOf identifies the mount that an open folder belongs to. A bind mount of the same disk is another one (statx(2),
// STATX_MNT_ID).
func mountOf(dir *os.File) (uint64, error) {
	var stat unix.Statx_t
	err := unix.Statx(int(dir.Fd()), "", unix.AT_EMPTY_PATH, unix.STATX_MNT_ID, &stat)
	if err == nil && stat.Mask&unix.STATX_MNT_ID != 0 {
		return stat.Mnt_id, nil
	}
	// A kernel before 5.8 names it here (proc(5)).
	text, err := os.ReadFile(fmt.Sprintf("/proc/self/fdinfo/%d", dir.Fd()))
	if err != nil {
		return 0, fmt.Errorf("%s is left alone: this system does not say what is mounted there: %w", dir.Name(), err)
	}
	for line := range bytes.Lines(text) {
		if number, ok := bytes.CutPrefix(line, []byte("mnt_id:")); ok {
			return strconv.ParseUint(string(bytes.TrimSpace(number)), 10, 64)
		}
	}
	return 0, fmt.Errorf("%s is left alone: this system does not say what is mounted there", dir.Name())
}

// isMountPoint reports whether something is mounted on an open folder.
func isMountPoint(dir *os.File) bool {
	var stat unix.Statx_t
	err := unix.Statx(int(dir.Fd()), "", unix.AT_EMPTY_PATH, unix.STATX_BASIC_STATS, &stat)
	return err == nil && stat.Attributes_mask&unix.STATX_ATTR_MOUNT_ROOT != 0 && stat.Attributes&unix.STATX_ATTR_MOUNT_ROOT != 0
}
