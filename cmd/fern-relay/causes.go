package main

import (
	"github.com/spf13/cobra"

	"fernrelay/core/cause"
	"fernrelay/core/history"
	"fernrelay/internal/report"
)

// causesReport is the JSON of causes.
type causesReport struct {
	Format   string      `json:"format"`
	Run      int         `json:"run"`
	Failures int         `json:"failures"`
	Causes   []causeLine `json:"causes"`
}

// causeLine is a cause.
type causeLine struct {
	Words  string          `json:"words"`
	Origin *cause.Frame    `json:"origin,omitempty"`
	Path   []cause.Frame   `json:"path,omitempty"` // from the origin outward
	Lacks  *cause.Resource `json:"lacks,omitempty"`
	Tests  []string        `json:"tests"`
	Since  int             `json:"since,omitempty"` // the run in which it was first known
}

func causeLines(causes []history.KnownCause) []causeLine {
	lines := make([]causeLine, len(causes))
	for i, c := range causes {
		lines[i] = causeLine{Words: c.Words, Path: c.Path, Lacks: c.Lacks}
		if c.Origin.File != "" {
			lines[i].Origin = &c.Origin
		}
		for _, r := range c.Results {
			lines[i].Tests = append(lines[i].Tests, r.ID)
		}
		if c.Since != nil {
			lines[i].Since = c.Since.Number
		}
	}
	return lines
}

func newCauses(s *settings) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "causes [RUN]",
		Short: "Group the failures of a run by their causes; default the latest",
		Args:  needs(0, 1, "a run: its number, last or last-1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, record, run, err := s.openRun(cmd.Context(), append(args, "last")[0])
			if err != nil {
				return err
			}
			defer r.Close()
			causes, err := r.Ledger().Causes(run)
			if err != nil {
				return err
			}
			if asJSON {
				return newEncoder(cmd.OutOrStdout()).Encode(causesReport{"fern-causes/1", record.Number, len(run.Troubled()), causeLines(causes)})
			}
			report.Causes(cmd.OutOrStdout(), causes)
			return nil
		},
	}
	addJSON(cmd, &asJSON, "one JSON object")
	return cmd
}
