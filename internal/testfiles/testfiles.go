// Package testfiles makes files for tests.
package testfiles

import (
	"fmt"
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

// OrderDependent makes a Go module with two packages whose tests depend on their order, and returns its folder.
func OrderDependent(t testing.TB) string {
	t.Helper()
	dir := t.TempDir()
	files := map[string]string{"go.mod": "module example.org/made\n\ngo 1.26\n"}
	for _, pkg := range []string{"one", "two"} {
		files[pkg+"/x_test.go"] = fmt.Sprintf(orderDependent, pkg)
	}
	Write(t, dir, files)
	return dir
}

const orderDependent = `package %s

import ("testing"; "time")

var spoiled, filled bool

func TestFills(t *testing.T) { filled = true }

func TestNeeds(t *testing.T) { if !filled { t.Error("empty") } }

func TestVictim(t *testing.T) { time.Sleep(30 * time.Millisecond); if spoiled { t.Error("got 1, want 2") } }

func TestSpoils(t *testing.T) { spoiled = true }

func TestAlwaysBad(t *testing.T) { t.Error("bad") }
`
