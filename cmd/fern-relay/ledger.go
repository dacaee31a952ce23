package main

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"fernrelay/core/history"
	"fernrelay/core/pick"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/report"
	"fernrelay/internal/wording"
)

func newLedger(s *settings) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "ledger",
		Short: "Show the history of runs",
		Long: "Ledger reports how large the ledger is; its commands show the history of runs. Name a\n" +
			"run by its number, as last, or as last-1 for the one before, and so on. [ledger] in\n" +
			"fern.toml sets how many runs are kept, with runs = N, and for how long, with days = N.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := s.openLedger(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			size, err := r.Ledger().Size()
			if err != nil {
				return err
			}
			if size.Runs == 0 {
				fmt.Fprintln(cmd.OutOrStdout(), "no runs yet: fern-relay run runs the tests, and ledger import adds the reports of others")
				return nil
			}
			report.Size(cmd.OutOrStdout(), size, retention(r))
			return nil
		},
	}
	cmd.PersistentFlags().StringVarP(&s.ledgerPick, "pick", "p", "", "only runs of crossing:NAME=VALUE,…, as an `expression`")
	cmd.AddCommand(newRuns(s), newShow(s), newTestCard(s), newSlow(s), newShaky(s), newCauses(s), newCompare(s), newQuarantine(s),
		newTimings(s), newImport(s), newExport(s), newPull(s), newRename(s), newForget(s), newCheck(s))
	return cmd
}

// openLedger opens what the ledger of the project says, without looking for its tests.
func (s *settings) openLedger(ctx context.Context) (*app.History, error) {
	h, err := app.OpenHistory(ctx, s.dir)
	if err != nil {
		return nil, err
	}
	collectRarely()
	s.note(h.Notes)
	if err := s.restrict(h, s.ledgerPick); err != nil {
		return nil, errors.Join(err, h.Close())
	}
	return h, nil
}

// restrict restricts the ledger to the runs of the crossing that a pick names, if it names one.
func (s *settings) restrict(h *app.History, text string) error {
	e, err := pick.Parse(text)
	if err != nil {
		return err
	}
	if of := pick.CrossingOf(e); of != nil {
		return h.Restrict(of)
	}
	if text != "" {
		return fmt.Errorf("the pick %q: this command takes only crossing:, as in -p crossing:store=redis", text)
	}
	return nil
}

// openRun opens the ledger and finds a run by what a person calls it.
func (s *settings) openRun(ctx context.Context, name string) (*app.History, *run.Record, *run.Run, error) {
	r, err := s.openLedger(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	record, run, err := r.Ledger().Find(name)
	if err != nil {
		return nil, nil, nil, errors.Join(err, r.Close())
	}
	return r, record, run, nil
}

// note prints notes about the project.
func (s *settings) note(notes []string) {
	for _, note := range notes {
		fmt.Fprintln(stderr, "fern-relay: note:", plain.Line(note))
	}
}

// retention says which runs stay.
func retention(r *app.History) string {
	keep := r.Project.Retention
	switch {
	case keep.Runs > 0 && keep.Days > 0:
		return fmt.Sprintf("the latest %s of the last %s stay", wording.Plural(keep.Runs, "run"), wording.Plural(keep.Days, "day"))
	case keep.Runs > 0:
		return fmt.Sprintf("the latest %s stay", wording.Plural(keep.Runs, "run"))
	case keep.Days > 0:
		return fmt.Sprintf("the runs of the last %s stay", wording.Plural(keep.Days, "day"))
	}
	return "all runs stay; [ledger] in fern.toml bounds them, and ledger forget removes old ones"
}

// addRuns adds the flag that says how far back is looked.
func addRuns(cmd *cobra.Command, runs *int) {
	cmd.Flags().IntVar(runs, "runs", history.PastRuns, "look at the latest `N` runs")
}

func checkRuns(runs int) error {
	if runs < 1 {
		return fmt.Errorf("--runs is %d: a number from 1 is expected", runs)
	}
	return nil
}
