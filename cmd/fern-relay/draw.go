package main

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/internal/draw"
	"fernrelay/internal/relay"
)

// charts are the drawings by their names.
var charts = map[string]func(r *relay.Relay, expression string) (draw.Drawing, error){
	"timeline": drawTimeline,
	"weave":    drawWeave,
}

func newDraw(s *settings) *cobra.Command {
	names := slices.Sorted(maps.Keys(charts))
	var expression, file string
	cmd := &cobra.Command{
		Use:   "draw CHART",
		Short: "Draw a chart as SVG or PDF",
		Long: "Draw draws a chart into a file, as SVG or PDF by its ending. The charts are: timeline,\n" +
			"the workers of the latest run on one time axis; weave, the crosstab of groups and tags\n" +
			"with what the pick holds.",
		Args:      cobra.ExactArgs(1),
		ValidArgs: names,
		RunE: func(cmd *cobra.Command, args []string) error {
			chart := charts[args[0]]
			if chart == nil {
				return fmt.Errorf("there is no chart %q: the charts are %s", args[0], strings.Join(names, ", "))
			}
			if args[0] == "timeline" && expression != "" {
				return errors.New("the timeline shows a whole run: --pick is for the weave")
			}
			r, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			drawing, err := chart(r, expression)
			if err != nil {
				return err
			}
			return draw.WriteFile(file, drawing)
		},
	}
	addPick(cmd, &expression)
	cmd.Flags().StringVarP(&file, "output", "o", "", "the `file`, ending in .svg or .pdf")
	_ = cmd.MarkFlagRequired("output")
	return cmd
}

func drawTimeline(r *relay.Relay, _ string) (draw.Drawing, error) {
	kept, run, err := r.Last()
	if err != nil {
		return draw.Drawing{}, fmt.Errorf("the timeline shows the latest run: %w", err)
	}
	return draw.Timeline(fmt.Sprintf("%s, run %d", r.Project.Name, kept.Number), run), nil
}

func drawWeave(r *relay.Relay, expression string) (draw.Drawing, error) {
	_, held, err := r.Index.Pick(expression)
	if err != nil {
		return draw.Drawing{}, err
	}
	weave := catalog.NewWeave(r.Catalog, r.Tree, r.Catalog.Tags(), held.Has)
	return draw.Weave(r.Project.Name, expression, weave), nil
}
