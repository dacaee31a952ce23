package project

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"fernrelay/internal/testfiles"
)

// TestWatch changes files one after the other and hears of each, of several that
// are written together at once, and of none that is hidden.
func TestWatch(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"fern.toml": "", "deep/er/a_test.go": "", ".git/index": "", "vendor/v.go": ""})
	ctx, stop := context.WithCancel(context.Background())
	reported := make(chan []string, 9)
	ended := make(chan error, 1)
	go func() { ended <- Watch(ctx, dir, func(files []string) { reported <- files }) }()
	hears := func(changed ...string) {
		t.Helper()
		for i := range changed {
			changed[i] = filepath.Join(dir, changed[i])
		}
		var heard []string
		for deadline := time.After(20 * time.Second); ; {
			select {
			case files := <-reported:
				heard = append(heard, files...)
			case <-deadline:
				t.Fatalf("heard of %v, want %v", heard, changed)
			}
			if !slices.ContainsFunc(changed, func(file string) bool { return !slices.Contains(heard, file) }) {
				return
			}
		}
	}
	// The watch begins at some moment: until then the file is written again.
	for begun := false; !begun; {
		testfiles.Write(t, dir, map[string]string{"fern.toml": time.Now().String()})
		select {
		case <-reported:
			begun = true
		case <-time.After(quiet / 2): // changes do not end, and are reported all the same
		}
	}
	testfiles.Write(t, dir, map[string]string{".git/index": "x", "vendor/v.go": "x", "deep/er/.a_test.go.swp": "x", "deep/er/a_test.go": "x", "deep/new/b_test.go": "x"})
	hears("deep/er/a_test.go", "deep/new")
	testfiles.Write(t, dir, map[string]string{"deep/new/b_test.go": "y"})
	hears("deep/new/b_test.go")
	if err := os.Rename(filepath.Join(dir, "deep/new/b_test.go"), filepath.Join(dir, "c_test.go")); err != nil {
		t.Fatal(err)
	}
	hears("deep/new/b_test.go", "c_test.go")
	// What is written as it was is not reported.
	testfiles.Write(t, dir, map[string]string{"c_test.go": "y"})
	testfiles.Write(t, dir, map[string]string{"deep/er/a_test.go": "z"})
	if files := <-reported; len(files) != 1 || filepath.Base(files[0]) != "a_test.go" {
		t.Errorf("reported are %v", files)
	}
	// A file that is emptied, and filled by a disk that takes its time, is reported once it is filled.
	testfiles.Write(t, dir, map[string]string{"c_test.go": ""})
	time.Sleep(2 * quiet)
	if len(reported) > 0 {
		t.Errorf("reported of an empty file are %v", <-reported)
	}
	testfiles.Write(t, dir, map[string]string{"c_test.go": "w"})
	hears("c_test.go")
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	for len(reported) > 0 {
		for _, file := range <-reported {
			if rel, _ := filepath.Rel(dir, file); hidden(filepath.Base(file)) || filepath.Dir(rel) == "vendor" {
				t.Errorf("heard of %s", rel)
			}
		}
	}
}
