package main

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/split"
	"fernrelay/internal/draw"
)

// charts are the drawings by their names.
var charts = map[string]func(ctx context.Context, s *settings, f *drawFlags) (draw.Drawing, error){
	"timeline": drawTimeline,
	"weave":    drawWeave,
	"shards":   drawShards,
	"curve":    drawCurve,
	"history":  drawPast("history"),
	"slow":     drawPast("slow"),
	"trend":    drawPast("trend"),
	"matrix":   drawMatrix,
}

// drawFlags are the flags of the command draw.
type drawFlags struct {
	planFlags
	shards int
	file   string
}

func newDraw(s *settings) *cobra.Command {
	names := slices.Sorted(maps.Keys(charts))
	f := &drawFlags{}
	cmd := &cobra.Command{
		Use:   "draw CHART",
		Short: "Draw a chart as SVG or PDF",
		Long: "Draw draws a chart into a file, as SVG or PDF by its ending. The charts are: timeline,\n" +
			"the workers of the latest run on one time axis; weave, the crosstab of groups and tags\n" +
			"with the picked tests; shards, a plan with one bar per shard; curve, the finish against\n" +
			"the number of shards; history, the tests against the latest runs, the most troubled\n" +
			"first; slow, the slowest tests; trend, work and wall time run by run; matrix, what explains\n" +
			"the failures of the latest run of each crossing, and the crossings on one time axis.",
		Args:      needs(1, 1, "the name of a chart"),
		ValidArgs: names,
		RunE: func(cmd *cobra.Command, args []string) error {
			chart := charts[args[0]]
			if chart == nil {
				return fmt.Errorf("there is no chart %q: the charts are %s", args[0], strings.Join(names, ", "))
			}
			drawing, err := chart(cmd.Context(), s, f)
			if err != nil {
				return err
			}
			return draw.WriteFile(f.file, drawing)
		},
	}
	f.add(cmd)
	f.addHere(cmd)
	cmd.Flags().IntVar(&f.shards, "shards", 0, "draw `N` shards, or mark N on the curve")
	cmd.Flags().StringVarP(&f.file, "output", "o", "", "write this `file`, ending in .svg or .pdf")
	_ = cmd.MarkFlagRequired("output")
	return cmd
}

// drawPast draws a chart of what the runs say together.
func drawPast(chart string) func(context.Context, *settings, *drawFlags) (draw.Drawing, error) {
	return func(ctx context.Context, s *settings, f *drawFlags) (draw.Drawing, error) {
		r, held, err := s.openHeld(ctx, f.pick)
		if err != nil {
			return draw.Drawing{}, err
		}
		defer r.Close()
		past, err := r.Ledger().PastWithChanges(history.PastRuns, nil)
		if err != nil {
			return draw.Drawing{}, err
		}
		return draw.Past(chart, r.Project.Name, past, past.Order(history.ByTrouble, held))
	}
}

func drawTimeline(ctx context.Context, s *settings, f *drawFlags) (draw.Drawing, error) {
	if f.pick != "" {
		return draw.Drawing{}, errors.New("the timeline shows a whole run: --pick is for the other charts")
	}
	r, err := s.open(ctx)
	if err != nil {
		return draw.Drawing{}, err
	}
	defer r.Close()
	record, run, err := r.Ledger().Last()
	if err != nil {
		return draw.Drawing{}, fmt.Errorf("the timeline shows the latest run: %w: run the tests first", err)
	}
	return draw.Timeline(fmt.Sprintf("%s, run %d", r.Project.Name, record.Number), run), nil
}

func drawMatrix(ctx context.Context, s *settings, f *drawFlags) (draw.Drawing, error) {
	if f.pick != "" {
		return draw.Drawing{}, errors.New("the matrix shows whole crossings: --pick is for the other charts")
	}
	r, err := s.open(ctx)
	if err != nil {
		return draw.Drawing{}, err
	}
	defer r.Close()
	if r.Project.Matrix == nil {
		return draw.Drawing{}, errNoMatrix
	}
	results, err := r.LatestResults()
	if err != nil {
		return draw.Drawing{}, err
	}
	return draw.Matrix(r.Project.Name, results, results.Explain()), nil
}

func drawWeave(ctx context.Context, s *settings, f *drawFlags) (draw.Drawing, error) {
	r, err := s.open(ctx)
	if err != nil {
		return draw.Drawing{}, err
	}
	defer r.Close()
	e, held, err := r.Index.Pick(f.pick)
	if err != nil {
		return draw.Drawing{}, err
	}
	weave := catalog.NewWeave(r.Catalog, r.Tree, r.Catalog.Tags(), r.Index.Within(e).Has, held.Has)
	return draw.Weave(r.Project.Name, f.pick, weave), nil
}

func drawShards(ctx context.Context, s *settings, f *drawFlags) (draw.Drawing, error) {
	if f.shards < 1 || f.shards > mostShards {
		return draw.Drawing{}, fmt.Errorf("--shards is %d: for this chart a number from 1 to %d is expected", f.shards, mostShards)
	}
	study, err := s.study(ctx, &f.planFlags, f.shards)
	if err != nil {
		return draw.Drawing{}, err
	}
	return draw.Shards(f.title(f.shards), study.Plan(split.Thorough)), nil
}

// curveLength is the least number of shards up to which the curve goes.
const curveLength = 16

func drawCurve(ctx context.Context, s *settings, f *drawFlags) (draw.Drawing, error) {
	study, err := s.study(ctx, &f.planFlags, max(curveLength, f.shards))
	if err != nil {
		return draw.Drawing{}, err
	}
	points := study.Work.Curve(study.Fleet, max(curveLength, f.shards+4), split.Quick)
	return draw.Curve(f.title(len(points)), points, f.shards), nil
}
