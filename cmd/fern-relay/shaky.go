package main

import (
	"bufio"
	"context"
	"errors"

	"github.com/spf13/cobra"

	"fernrelay/core/history"
	"fernrelay/core/pick"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/report"
)

// figuresLine is the JSON of a test's figures. Runs are given by their numbers, 0 for none.
type figuresLine struct {
	ID      string           `json:"id"`
	Runs    int              `json:"runs"` // that count as evidence
	Bad     int              `json:"bad"`
	Rate    float64          `json:"rate"` // of passing, from 0 to 1; 0 if it never ran
	Flips   int              `json:"flips"`
	Flaky   history.Interval `json:"flaky"`
	Seconds float64          `json:"seconds"` // that it takes now
	Before  float64          `json:"before_s,omitempty"`
	Changed int              `json:"changed,omitempty"` // from which run on it takes another time

	FirstBad int `json:"first_bad,omitempty"` // of the runs that were looked at
	LastBad  int `json:"last_bad,omitempty"`
	LastWell int `json:"last_passed,omitempty"`
}

func newFiguresLine(id string, f *history.Figures, runs []*run.Record) figuresLine {
	number := func(at int) int {
		if at < 0 {
			return 0
		}
		return runs[at].Number
	}
	line := figuresLine{ID: id, Runs: f.Ran, Bad: f.Bad, Flips: f.Flips, Flaky: f.Flaky, Seconds: f.Seconds, Before: f.Before,
		Changed: number(f.Changed), FirstBad: number(f.FirstBad), LastBad: number(f.LastBad), LastWell: number(f.LastWell)}
	if f.Ran > 0 {
		line.Rate = f.Rate
	}
	return line
}

// shakyReport is the JSON of shaky.
type shakyReport struct {
	Format string        `json:"format"`
	Runs   int           `json:"runs"` // that were looked at
	Tests  []figuresLine `json:"tests"`
}

func newShaky(s *settings) *cobra.Command {
	var expression string
	var runs int
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "shaky",
		Short: "List the tests that do not always pass, the most troubled first",
		Long: "Shaky lists the tests that were bad in the latest runs, the most troubled first: a\n" +
			"failure counts half as much ten runs later. It shows how flaky a test is as an\n" +
			"interval that contains the true share of changes in 19 of 20 cases.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := checkRuns(runs); err != nil {
				return err
			}
			r, held, err := s.openHeld(cmd.Context(), expression)
			if err != nil {
				return err
			}
			defer r.Close()
			past, err := r.Ledger().PastWithChanges(runs, nil)
			if err != nil {
				return err
			}
			var tests []int
			for _, at := range past.Order(history.ByTrouble, held) {
				if past.Figures[at].Bad > 0 {
					tests = append(tests, at)
				}
			}
			out := bufio.NewWriter(cmd.OutOrStdout())
			if !asJSON {
				report.Shaky(out, past, tests)
				return out.Flush()
			}
			described := shakyReport{"fern-shaky/1", len(past.Runs), []figuresLine{}}
			for _, at := range tests {
				described.Tests = append(described.Tests, newFiguresLine(past.History.IDs[at], &past.Figures[at], past.Runs))
			}
			return errors.Join(newEncoder(out).Encode(described), out.Flush())
		},
	}
	addPick(cmd, &expression)
	addRuns(cmd, &runs)
	addJSON(cmd, &asJSON, "one JSON object")
	return cmd
}

// openHeld opens the ledger, and returns a function for Past.Order that reports whether a pick selects a test: nil
// for all tests, also those that the project no longer has, if the pick is empty.
func (s *settings) openHeld(ctx context.Context, expression string) (*app.History, func(id string) bool, error) {
	if expression == "" {
		r, err := s.openLedger(ctx)
		return r, nil, err
	}
	r, err := s.open(ctx)
	if err != nil {
		return nil, nil, err
	}
	tests, err := r.Pick(expression)
	if err != nil {
		return nil, nil, errors.Join(err, r.Close())
	}
	if e, err := pick.Parse(expression); err == nil && pick.CrossingOf(e) != nil {
		if err := s.restrict(r.History(), expression); err != nil {
			return nil, nil, errors.Join(err, r.Close())
		}
	}
	held := make(map[string]bool, len(tests))
	for _, t := range tests {
		held[t.ID] = true
	}
	return r.History(), func(id string) bool { return held[id] }, nil
}
