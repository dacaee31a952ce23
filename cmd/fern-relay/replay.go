package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"fernrelay/internal/report"
	"fernrelay/internal/wording"
)

func newReplay(s *settings) *cobra.Command {
	files := reportFiles{}
	var worker int
	cmd := &cobra.Command{
		Use:   "replay RUN",
		Short: "Repeat a run: the same tests on the same workers in the same order",
		Long: "Replay repeats a run of the ledger, named by its number, last, or last-1: every test runs\n" +
			"on the worker that had it, in the order in which that worker began its tests.",
		Args: needs(1, 1, "a run: its number, last or last-1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("worker") && worker < 1 {
				return fmt.Errorf("--worker is %d: a number from 1 is expected", worker)
			}
			r, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			request, gone, err := r.ReplayRequest(args[0], worker)
			if err != nil {
				return fmt.Errorf("cannot replay: %w", err)
			}
			if gone > 0 {
				fmt.Fprintf(stderr, "fern-relay: note: %s of the run left out: the project no longer has them\n", wording.Plural(gone, "test"))
			}
			runner := &runner{interrupts: s.interrupts, app: r, show: report.ShowSum, out: cmd.OutOrStdout()}
			run, err := runner.run(cmd.Context(), request, files)
			if err != nil {
				return err
			}
			return withStatus(run.ExitStatus())
		},
	}
	files.add(cmd)
	cmd.Flags().IntVar(&worker, "worker", 0, "repeat only what worker `K` ran")
	return cmd
}
