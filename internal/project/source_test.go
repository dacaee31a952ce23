package project

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// TestSourcesOfOthers holds that of the files which tests and reports name only regular ones of the project are
// read, without waiting and without end, and only those and the toolchain's go to an editor.
func TestSourcesOfOthers(t *testing.T) {
	parent := t.TempDir()
	p := &Project{Dir: filepath.Join(parent, "in")}
	if err := os.MkdirAll(p.Dir, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"in/-c evil.go", "in/fine.go", "secret"} {
		if err := os.WriteFile(filepath.Join(parent, name), []byte("text"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := syscall.Mkfifo(filepath.Join(p.Dir, "fifo"), 0o644); err != nil {
		t.Fatal(err)
	}
	for link, to := range map[string]string{"out": "../secret", "zero": "/dev/zero", "same": "fine.go"} {
		if err := os.Symlink(to, filepath.Join(p.Dir, link)); err != nil {
			t.Fatal(err)
		}
	}
	large := filepath.Join(p.Dir, "large")
	if err := os.WriteFile(large, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(large, 1<<40); err != nil {
		t.Skip(err) // the disk has no sparse files
	}
	for name, readable := range map[string]bool{"fine.go": true, "same": true, "-c evil.go": true, "large": true,
		"fifo": false, "out": false, "zero": false, "../secret": false, "../../../../../../dev/zero": false, "/dev/zero": false, ".": false, "none.go": false, "": false} {
		data, err := p.ReadSource(name)
		if (err == nil) != readable || len(data) > sourceLimit {
			t.Errorf("%q: %d bytes, %v", name, len(data), err)
		}
		path, err := p.SourcePath(name)
		if (err == nil) != readable || err == nil && !filepath.IsAbs(path) {
			t.Errorf("%q goes to the editor as %q, %v", name, path, err)
		}
	}
	if dir := toolchain(); dir != "" {
		if path, err := p.SourcePath(filepath.Join(dir, "src", "testing", "testing.go")); err != nil || !strings.HasSuffix(path, "testing.go") {
			t.Errorf("a file of the toolchain goes to the editor as %q, %v", path, err)
		}
	}
}
