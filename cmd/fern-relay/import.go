package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"fernrelay/core/plain"
	"fernrelay/internal/report"
)

func newImport(s *settings) *cobra.Command {
	return &cobra.Command{
		Use:   "import FILE…",
		Short: "Add the reports of other tools to the ledger",
		Long: "Import adds the runs of reports to the ledger: JUnit XML, TAP, the Go toolchain's JSON\n" +
			"events or event lines, in files, folders and globs. Files of one folder with different\n" +
			"tests within twelve hours are one run. Tests that the project does not have keep their\n" +
			"names. What hunts found in these runs is kept, unless the victim was hunted here later.\n" +
			"Import leaves out files that were imported before. It also leaves out broken files,\n" +
			"names them, and exits with 3.",
		Args: needs(1, -1, "reports: files or folders"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			debug.SetGCPercent(150) // little of what is read is held
			began := time.Now()
			progress := func(int, int) {}
			if term.IsTerminal(os.Stderr.Fd()) {
				progress = func(done, of int) { stderr.Redraw(fmt.Sprintf("%d of %d files", done, of)) }
				defer fmt.Fprintln(stderr)
			}
			imported, err := r.Import(cmd.Context(), args, progress)
			for _, b := range imported.Broken {
				fmt.Fprintf(stderr, "fern-relay: %s is left out: %v\n", plain.Line(b.Name), plain.Line(b.Err.Error()))
			}
			for _, note := range imported.Notes {
				fmt.Fprintln(stderr, "fern-relay: note:", note)
			}
			if err != nil && !errors.Is(err, context.Canceled) {
				return err
			}
			report.Imported(cmd.OutOrStdout(), imported, time.Since(began))
			if err != nil {
				fmt.Fprintln(stderr, "fern-relay: run the same command again to import the rest")
				return err
			}
			if len(imported.Broken) > 0 {
				return status(3)
			}
			return nil
		},
	}
}
