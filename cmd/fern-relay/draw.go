package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"fernrelay/internal/draw"
)

func newDraw(s *settings) *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:       "draw CHART",
		Short:     "Draw a chart as SVG or PDF",
		Long:      "Draw draws a chart into a file, as SVG or PDF by its ending. The charts are: timeline,\nthe workers of the latest run on one time axis.",
		Args:      cobra.ExactArgs(1),
		ValidArgs: []string{"timeline"},
		RunE: func(cmd *cobra.Command, args []string) error {
			if args[0] != "timeline" {
				return fmt.Errorf("there is no chart %q: the charts are timeline", args[0])
			}
			r, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			kept, run, err := r.Last()
			if err != nil {
				return fmt.Errorf("the timeline shows the latest run: %w", err)
			}
			return draw.WriteFile(file, draw.Timeline(fmt.Sprintf("%s, run %d", r.Project.Name, kept.Number), run))
		},
	}
	cmd.Flags().StringVarP(&file, "output", "o", "", "the `file`, ending in .svg or .pdf")
	_ = cmd.MarkFlagRequired("output")
	return cmd
}
