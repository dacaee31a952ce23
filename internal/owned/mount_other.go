//go:build !linux

package owned

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

// changeTime returns when a file was last changed in any way, which no program can set.
func changeTime(info fs.FileInfo) string {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return ""
	}
	return fmt.Sprintf("@%d.%d", stat.Ctimespec.Sec, stat.Ctimespec.Nsec)
}

// MountAt identifies the disk that a folder is on.
func MountAt(path string) (uint64, error) {
	dir, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer dir.Close()
	return mountOf(dir)
}

// mountOf identifies the disk that an open folder is on.
func mountOf(dir *os.File) (uint64, error) {
	info, err := dir.Stat()
	if err != nil {
		return 0, err
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, errors.New("this system does not say on which disk a folder is")
	}
	return uint64(stat.Dev), nil
}

// isMountPoint reports whether an open folder is on another disk than the one above it.
func isMountPoint(dir *os.File) bool {
	above, err := os.Open(dir.Name() + "/..")
	if err != nil {
		return false
	}
	defer above.Close()
	own, ownErr := mountOf(dir)
	other, otherErr := mountOf(above)
	return ownErr == nil && otherErr == nil && own != other
}
