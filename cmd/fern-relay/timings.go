package main

import (
	"errors"
	"io"
	"io/fs"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/internal/wholefile"
)

func newTimings(s *settings) *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "timings",
		Short: "Write the expected times as CSV, for machines without a ledger",
		Long: "Timings writes a line for every test that was measured: its ID, the expected seconds,\n" +
			"their spread, and the cost of a batch of its group. Plans of the same tests with the\n" +
			"same file are the same on all machines. With --output, lines of the file that are still\n" +
			"true within their spread stay as they are, so that little changes in version control.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			if file == "" {
				return history.WriteCSV(dataOutput(), r.Catalog.Tests, nil)
			}
			earlier, err := readTimings(file)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			byID := make(map[string]catalog.Test, len(earlier))
			for _, t := range earlier {
				byID[t.ID] = t
			}
			return wholefile.Write(file, func(w io.Writer) error { return history.WriteCSV(w, r.Catalog.Tests, byID) })
		},
	}
	cmd.Flags().StringVarP(&file, "output", "o", "", "write to this `file`, keeping lines that are still true")
	return cmd
}
