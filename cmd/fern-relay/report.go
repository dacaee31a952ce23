package main

import (
	"context"
	"fmt"
	"sync"

	"github.com/spf13/cobra"

	"fernrelay/internal/app"
	"fernrelay/internal/report/runreport"
)

func newReport(s *settings) *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "report RUN -o FILE",
		Short: "Write a report of a run: an HTML page, Markdown, PDF or JUnit XML",
		Long: "Report writes a file about a run, named by its number, as last or as last-1. The file's\n" +
			"ending chooses the form: .html, a self-contained page; .md, a summary for the page of a\n" +
			"CI job; .pdf, a document with drawings; .xml, JUnit XML.",
		Args: needs(1, 1, "a run: its number, last or last-1"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := runreport.Check(file); err != nil {
				return err
			}
			r, record, run, err := s.openRun(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			defer r.Close()
			about, err := runreport.Of(s.aboutProject(cmd.Context(), r), r.Ledger(), record, run)
			if err != nil {
				return err
			}
			if err := runreport.WriteFile(file, about); err != nil {
				return err
			}
			fmt.Fprintf(stderr, "the report of run %d is in %s\n", record.Number, file)
			return nil
		},
	}
	cmd.Flags().StringVarP(&file, "output", "o", "", "write this `file`, ending in .html, .md, .pdf or .xml")
	_ = cmd.MarkFlagRequired("output")
	return cmd
}

// aboutProject returns what reports say of a project. Without its tests, as in another checkout, their files are not known.
func (s *settings) aboutProject(ctx context.Context, h *app.History) runreport.Project {
	fileOf := sync.OnceValue(func() func(id string) string { // finding the tests takes time, and not all reports show files
		r, err := app.Open(ctx, s.dir, nil)
		if err != nil {
			return func(string) string { return "" }
		}
		defer r.Close()
		return r.Catalog.FileOf
	})
	return runreport.Project{Name: h.Project.Name, File: func(id string) string { return fileOf()(id) }}
}
