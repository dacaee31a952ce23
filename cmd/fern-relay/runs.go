package main

import (
	"bufio"
	"errors"

	"github.com/spf13/cobra"

	"fernrelay/core/run"
	"fernrelay/internal/report"
)

// runLine is the JSON of a run.
type runLine struct {
	*run.Record
	Wall float64 `json:"wall_s"` // 0 if it is not known
}

func newRuns(s *settings) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "runs",
		Short: "List the runs, the latest first",
		Args:  none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := s.openLedger(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			runs, err := r.Ledger().List()
			if err != nil {
				return err
			}
			out := bufio.NewWriter(cmd.OutOrStdout())
			if !asJSON {
				report.Runs(out, runs)
				return out.Flush()
			}
			encoder := newEncoder(out)
			for i := len(runs) - 1; i >= 0; i-- {
				if err := encoder.Encode(runLine{runs[i], runs[i].Wall()}); err != nil {
					return err
				}
			}
			return out.Flush()
		},
	}
	addJSON(cmd, &asJSON, "a JSON object a line")
	return cmd
}

// shownRun is the JSON of show.
type shownRun struct {
	Format string `json:"format"`
	runLine
	Causes []causeLine `json:"causes"`
	Tests  []testLine  `json:"tests"`
}

// testLine is a test of a run.
type testLine struct {
	ID      string      `json:"id"`
	Outcome run.Outcome `json:"outcome"`
	Seconds float64     `json:"seconds"`
	Worker  int         `json:"worker,omitempty"`
	Batch   int         `json:"batch,omitempty"`
	Flaky   bool        `json:"flaky,omitempty"`
	run.Failure
	Output string     `json:"output,omitempty"`
	Steps  []run.Step `json:"steps,omitempty"`
}

func newTestLine(r *run.Result) testLine {
	return testLine{ID: r.ID, Outcome: r.Outcome, Seconds: r.Seconds, Worker: r.Worker, Batch: r.Batch, Flaky: r.Flaky, Failure: r.Failure,
		Output: string(r.Output), Steps: r.Steps}
}

func newShow(s *settings) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "show RUN",
		Short: "Show a run: when and how it ran, its counts, its failures",
		Args:  needs(1, 1, "a run: its number, last or last-1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, record, run, err := s.openRun(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			defer r.Close()
			causes, err := r.Ledger().Causes(run)
			if err != nil {
				return err
			}
			out := bufio.NewWriter(cmd.OutOrStdout())
			if !asJSON {
				report.Shown(out, record, run, causes)
				return out.Flush()
			}
			shown := shownRun{Format: "fern-run/1", runLine: runLine{record, record.Wall()}, Causes: causeLines(causes), Tests: []testLine{}}
			for _, result := range run.Results {
				shown.Tests = append(shown.Tests, newTestLine(result))
			}
			return errors.Join(newEncoder(out).Encode(shown), out.Flush())
		},
	}
	addJSON(cmd, &asJSON, "one JSON object")
	return cmd
}
