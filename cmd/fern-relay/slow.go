package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"fernrelay/core/history"
	"fernrelay/internal/report"
)

// slowReport is the JSON of slow.
type slowReport struct {
	Format string `json:"format"`
	*history.Slowness
}

func newSlow(s *settings) *cobra.Command {
	var expression string
	var runs, most int
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "slow",
		Short: "List the slowest tests, groups and files, and what each costs",
		Long: "Slow lists the picked tests, groups and files that take the most time, their share of\n" +
			"all work, how much earlier a run on the project's workers would end without each, and\n" +
			"which of them changed their time by more than noise explains.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := checkRuns(runs); err != nil {
				return err
			}
			if most < 1 {
				return fmt.Errorf("--most is %d: a number from 1 is expected", most)
			}
			r, past, err := s.openWithPast(cmd.Context(), runs)
			if err != nil {
				return err
			}
			defer r.Close()
			tests, err := r.Pick(expression)
			if err != nil {
				return err
			}
			slow, err := r.Slowest(past, tests, most)
			if err != nil {
				return err
			}
			if asJSON {
				return newEncoder(cmd.OutOrStdout()).Encode(slowReport{"fern-slow/1", slow})
			}
			report.Slowest(cmd.OutOrStdout(), slow)
			return nil
		},
	}
	addPick(cmd, &expression)
	addRuns(cmd, &runs)
	addJSON(cmd, &asJSON, "one JSON object")
	cmd.Flags().IntVar(&most, "most", 10, "list `N` of each")
	return cmd
}
