package owned

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// writtenName is the file in which a folder of the user's keeps what Fern Relay wrote there: a SHA-256 by name.
const writtenName = ".fern-relay-written"

// RemoveSuperseded removes the files of an earlier plan from a folder of the user's: those that isOne selects and that
// are not written again now. It removes only what Fern Relay wrote there and nobody changed since, and returns an error
// that names another such file, because whoever reads the folder would take it for a part of the plan.
func RemoveSuperseded(folder string, isOne func(name string) bool, now []string) error {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	names, err := entries(root)
	if err != nil {
		return err
	}
	written := readWritten(root)
	again := map[string]bool{}
	for _, name := range now {
		again[name] = true
	}
	var ours, others []string
	for _, name := range names {
		switch {
		case again[name] || !isOne(name):
		case written[name] != "" && written[name] == sumOf(root, name):
			ours = append(ours, name)
		default:
			others = append(others, name)
		}
	}
	if len(others) > 0 {
		return fmt.Errorf("%s has %s, which is not of this plan, and which Fern Relay did not write or somebody changed: move it away", folder, strings.Join(others, ", "))
	}
	for _, name := range ours {
		if err := gone(root.Remove(name)); err != nil {
			return err
		}
	}
	return nil
}

// KeepWritten notes the files that Fern Relay has written into a folder of the user's, for RemoveSuperseded.
func KeepWritten(folder string, names []string) error {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	sums := map[string]string{}
	for _, name := range names {
		sums[name] = sumOf(root, name)
	}
	text, err := json.Marshal(sums)
	if err != nil {
		return err
	}
	return WriteData(filepath.Join(folder, writtenName), append(text, '\n'))
}

// readWritten reads what KeepWritten noted.
func readWritten(root *os.Root) (written map[string]string) {
	info, err := root.Lstat(writtenName)
	if errors.Is(err, fs.ErrNotExist) || err == nil && (!info.Mode().IsRegular() || info.Size() > mostRecord) {
		return nil
	}
	file, err := root.OpenFile(writtenName, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil
	}
	defer file.Close()
	if json.NewDecoder(file).Decode(&written) != nil {
		return nil // nothing is known to be ours
	}
	return written
}
