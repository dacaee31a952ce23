package app

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"math"
	"slices"
	"sync"

	"fernrelay/core/catalog"
	"fernrelay/core/cause"
	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/internal/ledger"
	"fernrelay/internal/project"
	"fernrelay/internal/workspace"
)

// At returns the project as it is in a crossing of its matrix, with the past of that crossing.
func (a *App) At(ctx context.Context, c *matrix.Crossing) (*App, error) {
	w, err := a.Workspace.At(c, a.history.recallIn(ctx, a.Project.Matrix.Matrix, c))
	if err != nil {
		return nil, err
	}
	return &App{w, a.history}, nil
}

// recallIn reads from the ledger what a workspace needs to know of the past of a crossing. Times that it does not know are
// those of crossings with most of its values, then those of any crossing, then those of runs without a matrix.
func (h *History) recallIn(ctx context.Context, m *matrix.Matrix, c *matrix.Crossing) workspace.Recall {
	plain := h.recall(ctx)
	return func(cat *catalog.Catalog) (workspace.Past, error) {
		past, err := plain(cat)
		if err != nil || !h.store.Exists() {
			return past, err
		}
		own, err := h.pastIn(c.Of, cat)
		if err != nil {
			return past, err
		}
		past.Latest, past.Rates = own.Latest, own.Rates
		times := history.FirstOf{own.Times.Tests}
		for _, of := range like(m, c) {
			if enough(times, cat) {
				break
			}
			known, err := h.pastIn(of, cat)
			if err != nil {
				return past, err
			}
			times = append(times, known.Times.Tests)
		}
		past.Times.Tests = append(times, past.Times.Tests)
		return past, nil
	}
}

// pastIn returns what the runs of crossings with some values say about the tests of a catalog.
func (h *History) pastIn(of matrix.Assignment, c *catalog.Catalog) (workspace.Past, error) {
	if !h.store.Exists() {
		return workspace.Past{}, nil
	}
	in := h.store.Ledger().In(of)
	known, err := in.Known(c)
	if err != nil {
		return workspace.Past{}, err
	}
	return workspace.Past{Times: known.Times, Latest: known.Latest, Rates: sync.OnceValue(func() []float64 { return rates(in, c) })}, nil
}

// like returns the values of crossings that are like one, those that are most like it first.
func like(m *matrix.Matrix, c *matrix.Crossing) (all []matrix.Assignment) {
	for _, n := range slices.Backward(m.Spec.Names) {
		of := maps.Clone(c.Of)
		delete(of, n.Name)
		all = append(all, of)
	}
	return append(all, matrix.Assignment{})
}

// enough reports whether times know each test of a catalog.
func enough(times history.Timings, c *catalog.Catalog) bool {
	for i := range c.Tests {
		if _, known := times.Of(c.Tests[i].ID); !known {
			return false
		}
	}
	return true
}

// rates returns the pass rates of a catalog's tests in a ledger, NaN for those that never ended.
func rates(l *ledger.Ledger, c *catalog.Catalog) []float64 {
	rates := make([]float64, len(c.Tests))
	for i := range rates {
		rates[i] = math.NaN()
	}
	past, err := l.Past(history.PastRuns, nil)
	if err != nil {
		return rates // the next to read the ledger reports it
	}
	for i, id := range past.History.IDs {
		if at, ok := c.Index(id); ok {
			rates[at] = past.Figures[i].Rate
		}
	}
	return rates
}

// LatestResults returns the latest run of each crossing in the ledger.
func (a *App) LatestResults() (*matrix.Results, error) {
	m := a.Project.Matrix
	results := matrix.NewResults(m.Matrix, m.Crossings, m.Then)
	for _, one := range results.Results {
		if one.State == matrix.LeftOut {
			continue
		}
		record, ran, err := a.Ledger().In(one.Of).Last()
		if errors.Is(err, run.ErrNoRecord) {
			continue
		}
		if err != nil {
			return nil, err
		}
		one.End(record.Number, ran)
	}
	return results, nil
}

// Explained is what explains the failures of a matrix, with what the failures have in common.
type Explained struct {
	Rows               []ExplainedRow
	Flaky, Unexplained []string // IDs, as in matrix.Explained
}

// ExplainedRow is an explanation.
type ExplainedRow struct {
	matrix.Explanation
	Causes int
	Words  string // of the most frequent cause
	Since  int    // the run since which it is known; 0 if it is new
}

// Explained finds what the failures of explanations have in common.
func (a *App) Explained(x matrix.Explained) Explained {
	all, l := Explained{Flaky: x.Flaky, Unexplained: x.Unexplained}, a.Ledger()
	for _, e := range x.Explanations {
		row := ExplainedRow{Explanation: e}
		if causes := cause.Group(e.Failures, l.Own); len(causes) > 0 {
			row.Causes, row.Words = len(causes), causes[0].Words
			if since, err := l.Since(causes[0].Signs); err == nil {
				row.Since = since.Number
			}
		}
		all.Rows = append(all.Rows, row)
	}
	return all
}

// servicesOf returns the names of the services that tests of a project need, and one that this machine cannot run as an error.
func servicesOf(p *project.Project, tests []catalog.Test) (names []string, missing error) {
	config := workspace.Services(p)
	var suite string
	for i := range tests {
		if tests[i].Suite == suite {
			continue
		}
		suite = tests[i].Suite
		names = append(names, config.Needs[suite]...)
		missing = cmp.Or(missing, config.Missing(suite))
	}
	slices.Sort(names)
	return slices.Compact(names), missing
}
