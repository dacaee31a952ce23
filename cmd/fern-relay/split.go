package main

import (
	"context"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/split"
	"fernrelay/core/timing"
	"fernrelay/internal/report"
)

func newSplit(s *settings) *cobra.Command {
	var expression, timings, together string
	var shards int
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "split",
		Short: "Plan shards that end together",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if shards < 1 {
				return fmt.Errorf("--shards is %d: a number from 1 is expected", shards)
			}
			tests, err := s.testsToSplit(cmd.Context(), expression, timings)
			if err != nil {
				return err
			}
			units, err := split.Units(tests, split.Together(together))
			if err != nil {
				return fmt.Errorf("--together: %w", err)
			}
			plan := split.Balance(units, shards)
			if asJSON {
				return newEncoder(cmd.OutOrStdout()).Encode(plan)
			}
			report.Plan(cmd.OutOrStdout(), plan)
			return nil
		},
	}
	addPick(cmd, &expression)
	addJSON(cmd, &asJSON, "the plan as a JSON object")
	cmd.Flags().IntVar(&shards, "shards", 0, "how many shards")
	cmd.Flags().StringVar(&timings, "timings", "", "CSV `file` with the columns id and seconds; without --pick its IDs are the tests")
	cmd.Flags().StringVar(&together, "together", string(split.Group), "what stays together: test, file or group")
	_ = cmd.MarkFlagRequired("shards")
	return cmd
}

// testsToSplit gives the tests of a CSV file, or the picked tests of the
// project with the times of the file, if any.
func (s *settings) testsToSplit(ctx context.Context, expression, timings string) ([]catalog.Test, error) {
	var timed []catalog.Test
	if timings != "" {
		file, err := os.Open(timings)
		if err != nil {
			return nil, err
		}
		defer file.Close()
		if timed, err = timing.ReadCSV(file); err != nil {
			return nil, fmt.Errorf("%s: %w", timings, err)
		}
		if expression == "" {
			return timed, nil
		}
	}
	r, err := s.open(ctx)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	tests, err := r.Pick(expression)
	if err != nil || timed == nil {
		return tests, err
	}
	past := make(map[string][]float64, len(timed))
	for _, t := range timed {
		past[t.ID] = []float64{t.Expected}
	}
	timing.Expect(tests, past)
	return tests, nil
}
