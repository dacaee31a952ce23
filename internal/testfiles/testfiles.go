// Package testfiles makes files for tests.
package testfiles

import (
	"os"
	"path/filepath"
	"testing"
)

// Write makes files below a folder: texts by path, with slashes. It ends the
// test where it cannot.
func Write(t testing.TB, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
