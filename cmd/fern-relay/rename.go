package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"fernrelay/core/plain"
	"fernrelay/internal/wording"
)

func newRename(s *settings) *cobra.Command {
	return &cobra.Command{
		Use:   "rename OLD NEW",
		Short: "Give the runs of a renamed suite or group to its new name",
		Long: "Rename changes the IDs of earlier runs and hunts after a suite, or a group written as\n" +
			"suite:group, got a new name, so that its tests keep their past.",
		Args: needs(2, 2, "two names: the old one and the new one"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if args[0] == args[1] || args[0] == "" || args[1] == "" || strings.Contains(args[0], ":") != strings.Contains(args[1], ":") {
				return fmt.Errorf("%q cannot become %q: name two suites, or two groups as suite:group", args[0], args[1])
			}
			r, err := s.openLedger(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			renamed, err := r.Rename(args[0], args[1])
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s of %s renamed to %s\n", wording.Plural(renamed, "test"), plain.Line(args[0]), plain.Line(args[1]))
			return nil
		},
	}
}
