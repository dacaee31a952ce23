package wholefile

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
)

// names lists what is in a folder.
func names(t *testing.T, dir string) string {
	t.Helper()
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, e := range entries {
		all = append(all, e.Name())
	}
	return strings.Join(all, " ")
}

func content(t *testing.T, path string) string {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// TestWriteIsAllOrNothing fails in the middle of a text: the file keeps its content, and nothing is left beside it.
func TestWriteIsAllOrNothing(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "report.html")
	if err := Write(path, Bytes([]byte("first"))); err != nil {
		t.Fatal(err)
	}
	broken := errors.New("the disk is full")
	for name, write := range map[string]func(func(w io.Writer) error) error{
		"Write":   func(c func(w io.Writer) error) error { return Write(path, c) },
		"Replace": func(c func(w io.Writer) error) error { return Replace(path, 0o600, c) },
	} {
		err := write(func(w io.Writer) error {
			io.WriteString(w, "sec")
			return broken
		})
		if err != broken || content(t, path) != "first" || names(t, dir) != "report.html" {
			t.Errorf("%s: %v; the file has %q, beside it are %s", name, err, content(t, path), names(t, dir))
		}
	}
}

// TestReadersSeeOneText reads a file while it is written again and again: each time it is one of the texts, whole.
func TestReadersSeeOneText(t *testing.T) {
	path := filepath.Join(t.TempDir(), "shared")
	texts := [][]byte{bytes.Repeat([]byte("a"), 300_000), bytes.Repeat([]byte("b"), 200_000)}
	if err := Write(path, Bytes(texts[0])); err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	for n := range 2 {
		wg.Go(func() {
			for i := range 15 {
				if err := Write(path, Bytes(texts[(i+n)%2])); err != nil {
					t.Error(err)
				}
			}
		})
	}
	for range 60 {
		if data, err := os.ReadFile(path); err != nil || !bytes.Equal(data, texts[0]) && !bytes.Equal(data, texts[1]) {
			t.Fatalf("read %d bytes, %v", len(data), err)
		}
	}
	wg.Wait()
}

// TestPlaces writes to what may be there already: a link, which is replaced, a pipe, which is written to, and folders that are
// missing or are no folders.
func TestPlaces(t *testing.T) {
	dir := t.TempDir()
	target, link, pipe := filepath.Join(dir, "target"), filepath.Join(dir, "link"), filepath.Join(dir, "pipe")
	if err := errors.Join(os.WriteFile(target, []byte("mine"), 0o600), os.Symlink(target, link), syscall.Mkfifo(pipe, 0o600)); err != nil {
		t.Fatal(err)
	}
	if err := Write(link, Bytes([]byte("new"))); err != nil || content(t, target) != "mine" || content(t, link) != "new" {
		t.Errorf("through a link: %v; its target has %q", err, content(t, target))
	}
	read := make(chan string)
	go func() {
		data, err := os.ReadFile(pipe)
		if err != nil {
			t.Error(err)
		}
		read <- string(data)
	}()
	if err := Write(pipe, Bytes([]byte("flows"))); err != nil {
		t.Error(err)
	}
	if got := <-read; got != "flows" {
		t.Errorf("a pipe passes %q on", got)
	}
	if info, err := os.Lstat(pipe); err != nil || info.Mode()&fs.ModeNamedPipe == 0 {
		t.Errorf("the pipe is now %v, %v", info.Mode(), err)
	}
	for _, path := range []string{filepath.Join(dir, "none", "x"), filepath.Join(target, "x")} {
		for _, err := range []error{Write(path, Bytes(nil)), Clear(path)} {
			if err == nil || !strings.Contains(err.Error(), path) {
				t.Errorf("%s: %v, which does not name it", path, err)
			}
		}
	}
	if err := Write(dir, Bytes(nil)); err == nil || names(t, dir) != "link pipe target" {
		t.Errorf("over a folder: %v; there are %s", err, names(t, dir))
	}
}

// TestModeAndClear holds the permissions of files, and that a place that is cleared has no file.
func TestModeAndClear(t *testing.T) {
	dir := t.TempDir()
	secret, open := filepath.Join(dir, "secret"), filepath.Join(dir, "open")
	old := syscall.Umask(0o022)
	defer syscall.Umask(old)
	if err := errors.Join(Replace(secret, 0o600, Bytes([]byte("s"))), Write(open, Bytes([]byte("o")))); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]fs.FileMode{secret: 0o600, open: 0o644} {
		if info, err := os.Stat(path); err != nil || info.Mode() != want {
			t.Errorf("%s has the mode %v, %v; want %v", path, info.Mode(), err, want)
		}
	}
	if err := errors.Join(Clear(open), Clear(filepath.Join(dir, "never"))); err != nil || names(t, dir) != "secret" {
		t.Errorf("after clearing: %v; there are %s", err, names(t, dir))
	}
}
