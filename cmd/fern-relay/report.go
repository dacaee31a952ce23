package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"fernrelay/internal/report/runreport"
)

func newReport(s *settings) *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "report RUN -o FILE",
		Short: "Write what there is to say of a run: an HTML page, Markdown, PDF or JUnit XML",
		Long: "Report writes a file about a run, named by its number, as last or as last-1, in the form\n" +
			"that the file's ending names: .html, a page of its own that needs nothing else; .md, a\n" +
			"summary for the page of a CI job; .pdf, a document with the drawings; .xml, JUnit XML.",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := runreport.Check(file); err != nil {
				return err
			}
			r, kept, run, err := s.openRun(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			defer r.Close()
			about, err := runreport.Of(r.Project.Name, r.Ledger(), kept, run)
			if err != nil {
				return err
			}
			if err := runreport.WriteFile(file, about); err != nil {
				return err
			}
			fmt.Fprintf(stderr, "the report of run %d is in %s\n", kept.Number, file)
			return nil
		},
	}
	cmd.Flags().StringVarP(&file, "output", "o", "", "the `file`, ending in .html, .md, .pdf or .xml")
	_ = cmd.MarkFlagRequired("output")
	return cmd
}
