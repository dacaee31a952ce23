package main

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/split"
	"fernrelay/internal/draw"
)

// chartData reads what charts of each kind show.
var chartData = map[draw.Kind]func(ctx context.Context, s *settings, f *drawFlags) (draw.Data, error){
	draw.OfRun: runData, draw.OfPick: pickData, draw.OfPlan: planData, draw.OfCurve: curveData, draw.OfPast: pastData, draw.OfMatrix: matrixData,
}

// drawFlags are the flags of the command draw.
type drawFlags struct {
	planFlags
	shards int
	file   string
}

func newDraw(s *settings) *cobra.Command {
	kinds := slices.Collect(maps.Keys(chartData))
	var names []string
	long := "Draw draws a chart into a file, as SVG or PDF by its ending. The charts are:\n"
	for _, c := range draw.ChartsOf(kinds...) {
		names = append(names, c.Name)
		long += fmt.Sprintf("\n  %-9s %s", c.Name, c.Shows)
	}
	f := &drawFlags{}
	cmd := &cobra.Command{
		Use:       "draw CHART",
		Short:     "Draw a chart as SVG or PDF",
		Long:      long,
		Args:      needs(1, 1, "the name of a chart"),
		ValidArgs: names,
		RunE: func(cmd *cobra.Command, args []string) error {
			chart, err := draw.Named(args[0], kinds...)
			if err != nil {
				return err
			}
			data, err := chartData[chart.Of](cmd.Context(), s, f)
			if err != nil {
				return err
			}
			drawing, err := chart.Draw(data)
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

// pastData reads what the runs say together.
func pastData(ctx context.Context, s *settings, f *drawFlags) (d draw.Data, err error) {
	r, held, err := s.openHeld(ctx, f.pick)
	if err != nil {
		return d, err
	}
	defer r.Close()
	past, err := r.Ledger().PastWithChanges(history.PastRuns, nil)
	if err != nil {
		return d, err
	}
	return draw.Data{Title: r.Project.Name, Past: past, Tests: past.Order(history.ByTrouble, held)}, nil
}

func runData(ctx context.Context, s *settings, f *drawFlags) (d draw.Data, err error) {
	if f.pick != "" {
		return d, errors.New("the chart shows a whole run: --pick is for the other charts")
	}
	r, err := s.open(ctx)
	if err != nil {
		return d, err
	}
	defer r.Close()
	record, run, err := r.Ledger().Last()
	if err != nil {
		return d, fmt.Errorf("the chart shows the latest run: %w: run the tests first", err)
	}
	return draw.Data{Title: fmt.Sprintf("%s, run %d", r.Project.Name, record.Number), Run: run}, nil
}

func matrixData(ctx context.Context, s *settings, f *drawFlags) (d draw.Data, err error) {
	if f.pick != "" {
		return d, errors.New("the matrix shows whole crossings: --pick is for the other charts")
	}
	r, err := s.open(ctx)
	if err != nil {
		return d, err
	}
	defer r.Close()
	if r.Project.Matrix == nil {
		return d, errNoMatrix
	}
	results, err := r.LatestResults()
	if err != nil {
		return d, err
	}
	return draw.Data{Title: r.Project.Name, Matrix: results, Explained: results.Explain()}, nil
}

func pickData(ctx context.Context, s *settings, f *drawFlags) (d draw.Data, err error) {
	r, err := s.open(ctx)
	if err != nil {
		return d, err
	}
	defer r.Close()
	e, held, err := r.Index.Pick(f.pick)
	if err != nil {
		return d, err
	}
	weave := catalog.NewWeave(r.Catalog, r.Tree, r.Catalog.Tags(), r.Index.Within(e).Has, held.Has)
	return draw.Data{Title: r.Project.Name, Pick: f.pick, Weave: weave}, nil
}

func planData(ctx context.Context, s *settings, f *drawFlags) (d draw.Data, err error) {
	if f.shards < 1 || f.shards > mostShards {
		return d, fmt.Errorf("--shards is %d: for this chart a number from 1 to %d is expected", f.shards, mostShards)
	}
	study, err := s.study(ctx, &f.planFlags, f.shards)
	if err != nil {
		return d, err
	}
	return draw.Data{Title: f.title(f.shards), Plan: study.Plan(split.Thorough)}, nil
}

// curveLength is the least number of shards up to which the curve goes.
const curveLength = 16

func curveData(ctx context.Context, s *settings, f *drawFlags) (d draw.Data, err error) {
	study, err := s.study(ctx, &f.planFlags, max(curveLength, f.shards))
	if err != nil {
		return d, err
	}
	points := study.Work.Curve(study.Fleet, max(curveLength, f.shards+4), split.Quick)
	return draw.Data{Title: f.title(len(points)), Points: points, Shards: f.shards}, nil
}
