// Package disk says how much room a disk has.
//
//	free, err := disk.Free(dir)
package disk

import "golang.org/x/sys/unix"

// Free returns the bytes that this user may still write on the disk of a folder.
func Free(dir string) (int64, error) {
	var stat unix.Statfs_t
	if err := unix.Statfs(dir, &stat); err != nil {
		return 0, err
	}
	return int64(min(stat.Bavail, 1<<40)) * int64(stat.Bsize), nil // their types differ between systems
}
