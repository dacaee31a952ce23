package main

import (
	"github.com/spf13/cobra"

	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/internal/report"
)

// testReport is the JSON of test.
type testReport struct {
	Format string `json:"format"`
	figuresLine
	Share    float64    `json:"share"`               // of all work
	EverBad  int        `json:"ever_bad,omitempty"`  // the first run ever in which it was bad, 0 for none
	BadAt    string     `json:"bad_at,omitempty"`    // and its revision
	WellAt   string     `json:"passed_at,omitempty"` // the revision at which it passed last
	Culprits [][]string `json:"culprits,omitempty"`  // as a hunt caught them
	Hunt     int        `json:"hunt,omitempty"`      // that caught them
	Past     []pastLine `json:"past"`                // the oldest run first
}

// pastLine is the result of the test in a run.
type pastLine struct {
	Run     int         `json:"run"`
	Outcome run.Outcome `json:"outcome"`
	Seconds float64     `json:"seconds"`
}

func newTestCard(s *settings) *cobra.Command {
	var runs int
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "test ID",
		Short: "Show the history of a test",
		Long: "Test shows what the ledger knows about a test, named by any unambiguous ending of its\n" +
			"ID.",
		Args: needs(1, 1, "the ID of a test, or an ending of it"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkRuns(runs); err != nil {
				return err
			}
			r, err := s.openLedger(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			past, err := r.Ledger().PastWithChanges(runs, nil)
			if err != nil {
				return err
			}
			if len(past.Runs) == 0 {
				return run.ErrNoRecord
			}
			test, err := past.Find(args[0])
			if err != nil {
				return err
			}
			card, err := r.Ledger().Card(past, test)
			if err != nil {
				return err
			}
			if !asJSON {
				report.TestCard(cmd.OutOrStdout(), card)
				return nil
			}
			return newEncoder(cmd.OutOrStdout()).Encode(newTestReport(card))
		},
	}
	addRuns(cmd, &runs)
	addJSON(cmd, &asJSON, "one JSON object")
	return cmd
}

func newTestReport(c *history.Card) testReport {
	described := testReport{Format: "fern-test/1", figuresLine: newFiguresLine(c.ID, &c.Figures, c.Runs), Share: c.Share, Past: []pastLine{}}
	if c.First != nil {
		described.EverBad, described.BadAt = c.First.Number, c.First.Revision
	}
	if c.Well != nil {
		described.LastWell, described.WellAt = c.Well.Number, c.Well.Revision
	}
	if c.Caught != nil {
		described.Culprits, described.Hunt = c.Caught.Finding.Culprits, c.Caught.Number
	}
	for i, cell := range c.Cells {
		if o := cell.Outcome(); o != "" {
			described.Past = append(described.Past, pastLine{c.Runs[i].Number, o, float64(cell.Seconds)})
		}
	}
	return described
}
