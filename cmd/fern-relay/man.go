package main

import (
	"archive/zip"
	"bytes"
	_ "embed"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
)

// manualPages is an archive of the manual pages, which a test makes from the help of the commands: to make them at run time would
// cost every command the start of what renders them.
//
//go:embed man.zip
var manualPages []byte

// newMan writes manual pages.
func newMan() *cobra.Command {
	return &cobra.Command{
		Use:   "man DIR",
		Short: "Write a manual page for each command into a folder",
		Args:  needs(1, 1, "a folder"),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := writeManual(args[0]); err != nil {
				return err
			}
			fmt.Fprintf(stderr, "the manual pages are in %s: man -l %s/fern-relay.1 shows the first\n", args[0], args[0])
			return nil
		},
	}
}

func writeManual(dir string) error {
	pages, err := zip.NewReader(bytes.NewReader(manualPages), int64(len(manualPages)))
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, page := range pages.File {
		data, err := fs.ReadFile(pages, page.Name)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, filepath.Base(page.Name)), data, 0o644); err != nil {
			return err
		}
	}
	return nil
}
