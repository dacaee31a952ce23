package main

import (
	"bufio"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/internal/report"
)

// comparison is the JSON of compare.
type comparison struct {
	Format  string           `json:"format"`
	Before  int              `json:"before"` // runs
	After   int              `json:"after"`
	Failing []differenceLine `json:"failing"`
	Mended  []differenceLine `json:"mended"`
	Slower  []differenceLine `json:"slower"`
	Faster  []differenceLine `json:"faster"`
	New     []differenceLine `json:"new"`
	Gone    []differenceLine `json:"gone"`
}

type differenceLine struct {
	ID     string     `json:"id"`
	Before *sideOfRun `json:"before,omitempty"`
	After  *sideOfRun `json:"after,omitempty"`
}

// sideOfRun is the result of a test in one of the runs.
type sideOfRun struct {
	Outcome run.Outcome `json:"outcome"`
	Seconds float64     `json:"seconds"`
	Message string      `json:"message,omitempty"`
}

func differenceLines(list []history.Difference) []differenceLine {
	lines := make([]differenceLine, len(list))
	side := func(r *run.Result) *sideOfRun {
		if r == nil {
			return nil
		}
		return &sideOfRun{r.Outcome, r.Seconds, r.Message}
	}
	for i, d := range list {
		lines[i] = differenceLine{d.ID, side(d.Before), side(d.After)}
	}
	return lines
}

func newCompare(s *settings) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "compare A [B]",
		Short: "Report how run B differs from run A, or A from the run before it",
		Long: "Compare lists the tests that are newly failing, mended, slower, faster, new and gone in\n" +
			"run B, compared with run A. With one run, it compares that run with the one before it. A\n" +
			"time has changed if it differs by a fifth, by 50 ms, and by more than noise explains.",
		Args: needs(1, 2, "one or two runs: their numbers, last or last-1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := s.openLedger(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			after, ran, err := r.Ledger().Find(args[len(args)-1])
			if err != nil {
				return err
			}
			before, earlier, err := r.Ledger().Find(args[0])
			if len(args) == 1 && err == nil {
				if before, earlier, err = r.Ledger().Before(after); errors.Is(err, run.ErrNoRecord) {
					err = fmt.Errorf("run %d is the first: there is no earlier run to compare it with", after.Number)
				}
			}
			if err == nil && before.Number == after.Number {
				err = fmt.Errorf("both names are of run %d: name another run to compare it with", after.Number)
			}
			if err != nil {
				return err
			}
			c, err := r.Ledger().Compare(earlier, ran, after)
			if err != nil {
				return err
			}
			out := bufio.NewWriter(cmd.OutOrStdout())
			if asJSON {
				return errors.Join(newEncoder(out).Encode(comparison{"fern-compare/1", before.Number, after.Number, differenceLines(c.Failing), differenceLines(c.Mended),
					differenceLines(c.Slower), differenceLines(c.Faster), differenceLines(c.New), differenceLines(c.Gone)}), out.Flush())
			}
			report.Compared(out, before, after, c)
			return out.Flush()
		},
	}
	addJSON(cmd, &asJSON, "one JSON object")
	return cmd
}
