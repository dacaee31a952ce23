package main

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"fernrelay/core/run"
	"fernrelay/internal/wording"
)

func newForget(s *settings) *cobra.Command {
	var runs, days int
	cmd := &cobra.Command{
		Use:   "forget",
		Short: "Remove old runs from the ledger",
		Args:  none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if runs < 0 || days < 0 || runs+days == 0 {
				return errors.New("say what to keep: --runs N for the latest runs, --days N for those of the last days")
			}
			r, err := s.openLedger(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			gone, err := r.Forget(runs, days)
			if err != nil {
				return err
			}
			size, err := r.Ledger().Size()
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s removed; %s left, %s\n", wording.Plural(gone, "run"), wording.Plural(size.Runs, "run"), wording.Bytes(size.Bytes))
			return nil
		},
	}
	cmd.Flags().IntVar(&runs, "runs", 0, "keep the latest `N` runs")
	cmd.Flags().IntVar(&days, "days", 0, "keep the runs of the last `N` days")
	return cmd
}

func newCheck(s *settings) *cobra.Command {
	return &cobra.Command{
		Use:   "check",
		Short: "Read the whole ledger, and set it aside if it is damaged",
		Args:  none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := s.openLedger(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			note, err := r.Check(cmd.Context())
			switch {
			case errors.Is(err, run.ErrNoRecord):
				note = "no runs yet"
			case err != nil:
				return err
			case note == "":
				note = "the ledger is undamaged"
			}
			fmt.Fprintln(cmd.OutOrStdout(), note)
			return nil
		},
	}
}
