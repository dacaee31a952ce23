package main

import (
	"archive/zip"
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/spf13/cobra/doc"
)

// TestManualPages holds that the embedded manual pages say what the help of the commands says. -update writes them.
func TestManualPages(t *testing.T) {
	t.Setenv("CI", "") // which changes a default
	made, written := t.TempDir(), t.TempDir()
	root := newRoot(&settings{interrupts: &interrupts{}})
	root.DisableAutoGenTag = true
	date := time.Date(2026, time.December, 1, 0, 0, 0, 0, time.UTC)
	if err := doc.GenManTree(root, &doc.GenManHeader{Title: "FERN-RELAY", Section: "1", Date: &date, Source: "fern-relay", Manual: "Fern Relay"}, made); err != nil {
		t.Fatal(err)
	}
	pages, err := os.ReadDir(made)
	if err != nil {
		t.Fatal(err)
	}
	if *update {
		var archive bytes.Buffer
		w := zip.NewWriter(&archive)
		if err := w.AddFS(os.DirFS(made)); err != nil {
			t.Fatal(err)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		manualPages = archive.Bytes()
		if err := os.WriteFile("man.zip", manualPages, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := writeManual(written); err != nil {
		t.Fatal(err)
	}
	for _, page := range pages {
		want, _ := os.ReadFile(filepath.Join(made, page.Name()))
		got, err := os.ReadFile(filepath.Join(written, page.Name()))
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s is not that of the commands: go test ./cmd/fern-relay -run TestManualPages -update", page.Name())
		}
	}
	if left, err := os.ReadDir(written); err != nil || len(left) != len(pages) {
		t.Errorf("%d pages are written, want %d: %v", len(left), len(pages), err)
	}
}
