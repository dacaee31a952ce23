package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/internal/draw"
	"fernrelay/internal/relay"
	"fernrelay/internal/report"
)

func newHunt(s *settings) *cobra.Command {
	var expression, svg, pdf string
	var workers int
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "hunt [ID...]",
		Short: "Find the tests that make others fail by running before them",
		Long: "Hunt takes the tests named, those that the pick holds, or those that failed in the\n" +
			"latest run, and finds which tests before them decide their outcome.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkWorkers(cmd, workers); err != nil {
				return err
			}
			r, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			victims, err := findVictims(r, args, expression)
			if err != nil {
				return err
			}
			if workers == 0 {
				workers = r.Workers()
			}
			findings, err := huntAndDraw(cmd.Context(), r, victims, workers, os.Stderr, []string{svg, pdf})
			if asJSON {
				return errors.Join(err, newEncoder(cmd.OutOrStdout()).Encode(hunt.Report{Format: hunt.Format, Victims: findings}))
			}
			for _, f := range findings {
				report.Finding(cmd.OutOrStdout(), f)
			}
			if len(victims) == 0 {
				fmt.Fprintln(cmd.OutOrStdout(), "nothing failed in the latest run: there is nothing to hunt")
			}
			return err
		},
	}
	addPick(cmd, &expression)
	addJSON(cmd, &asJSON, "the findings as a JSON object")
	cmd.Flags().IntVar(&workers, "workers", 0, "how many trials run side by side; as for run without it")
	cmd.Flags().StringVar(&svg, "svg", "", "draw the first victim's frond into this SVG `file`")
	cmd.Flags().StringVar(&pdf, "pdf", "", "draw the first victim's frond into this PDF `file`")
	return cmd
}

func findVictims(r *relay.Relay, ids []string, expression string) ([]catalog.Test, error) {
	if len(ids) == 0 && expression == "" {
		return r.Victims()
	}
	victims := []catalog.Test{}
	if expression != "" {
		picked, err := r.Pick(expression)
		if err != nil {
			return nil, err
		}
		victims = picked
	}
	for _, id := range ids {
		t, err := r.Catalog.Find(id)
		if err != nil {
			return nil, err
		}
		victims = append(victims, *t)
	}
	return victims, nil
}

// huntAndDraw hunts the victims, tells of each verdict as it falls, and draws
// the first frond into the files that are named.
func huntAndDraw(ctx context.Context, r *relay.Relay, victims []catalog.Test, workers int, progress io.Writer, drawings []string) ([]hunt.Finding, error) {
	latest := map[string]relay.Progress{}
	findings, err := r.Hunt(ctx, victims, relay.Pursuit{Workers: workers}, func(p relay.Progress) {
		latest[p.Victim] = p
		if p.Finding.Verdict != "" {
			fmt.Fprintf(progress, "%s  %s after %d trials\n", p.Victim, p.Finding.Verdict, p.Finding.Trials)
		}
		if p.Err != nil {
			fmt.Fprintf(progress, "%s  %v\n", p.Victim, p.Err)
		}
	})
	if len(victims) == 0 {
		return findings, err
	}
	first := latest[victims[0].ID]
	for _, file := range drawings {
		if file != "" {
			err = errors.Join(err, draw.WriteFile(file, draw.Frond(first.Finding, first.Records)))
		}
	}
	return findings, err
}
