// Package testfiles makes files for tests.
package testfiles

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
)

// Write creates files below a folder: texts by path, with slashes. It ends the test if it cannot.
func Write(t testing.TB, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := writeApart(path, text); err != nil {
			t.Fatal(err)
		}
	}
}

// writeApart writes a file while this process starts no other: one that is being started would keep the file open
// for writing for a moment, in which a script cannot run.
func writeApart(path, text string) error {
	syscall.ForkLock.RLock()
	defer syscall.ForkLock.RUnlock()
	return os.WriteFile(path, []byte(text), 0o644)
}
