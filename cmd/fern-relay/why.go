package main

import (
	"github.com/spf13/cobra"

	"fernrelay/internal/report"
)

func newWhy(s *settings) *cobra.Command {
	var expression string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "why ID",
		Short: "Explain why a test is in a pick or out of it",
		Long: "Why prints the clause of the pick that keeps a test in or out, how many tests each\n" +
			"clause leaves, and where the test's tags and rules come from.",
		Args: needs(1, 1, "the ID of a test, or an ending of it"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			test, named, err := r.Catalog.FindStep(args[0])
			if err != nil {
				return err
			}
			expr, _, err := r.Index.Pick(expression)
			if err != nil {
				return err
			}
			steps, err := r.Index.Funnel(expression, expr)
			if err != nil {
				return err
			}
			i, _ := r.Catalog.Index(test.ID)
			why, err := report.NewWhy(r.Index, expression, expr, steps, i)
			if err != nil {
				return err
			}
			if named != "" {
				why.OfStep(r.Index, expr, i, named)
			}
			if asJSON {
				return newEncoder(cmd.OutOrStdout()).Encode(why)
			}
			why.Write(cmd.OutOrStdout())
			return nil
		},
	}
	addPick(cmd, &expression)
	addJSON(cmd, &asJSON, "the explanation as a JSON object")
	return cmd
}
