package owned

import (
	"fmt"
	"io"
	"os"
	"strings"
	"syscall"
)

// RemoveSuperseded removes the files of an earlier plan from a folder of the user's: those whose names isOne selects and
// that are not written again now. It removes a file only if isOurs finds nothing in it but what a plan writes. It returns
// an error that names any other, because whoever reads the folder would take it for a part of the plan.
func RemoveSuperseded(folder string, now []string, isOne func(name string) bool, isOurs func(content io.Reader) bool) error {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	names, err := entries(root)
	if err != nil {
		return err
	}
	again := map[string]bool{}
	for _, name := range now {
		again[name] = true
	}
	var ours, others []string
	for _, name := range names {
		switch {
		case again[name] || !isOne(name):
		case holds(root, name, isOurs):
			ours = append(ours, name)
		default:
			others = append(others, name)
		}
	}
	if len(others) > 0 {
		return fmt.Errorf("%s has %s, which is not of this plan and holds more than IDs of tests: move it away", folder, strings.Join(others, ", "))
	}
	for _, name := range ours {
		if err := gone(root.Remove(name)); err != nil {
			return err
		}
	}
	return nil
}

// holds reports whether a regular file has what isOurs looks for.
func holds(root *os.Root, name string, isOurs func(content io.Reader) bool) bool {
	if info, err := root.Lstat(name); err != nil || !info.Mode().IsRegular() || !belongsToUs(info) {
		return false
	}
	file, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return false
	}
	defer file.Close()
	return isOurs(file)
}
