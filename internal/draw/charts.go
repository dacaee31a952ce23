package draw

import (
	"fmt"
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/hunt"
	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/core/split"
)

// Chart is a drawing that people ask for by name, on the command line and in the leg that has its data.
type Chart struct {
	Name  string
	Shows string // what, in words
	Of    Kind   // of its data
	draw  func(Data) Drawing
}

// Kind is what charts are of.
//
// The command draw reads the data of a kind from the project and its ledger; a leg has it on the screen. So a chart of a kind that
// exists needs nothing from either of them.
type Kind string

// The kinds of charts.
const (
	OfRun    Kind = "run"
	OfPick   Kind = "pick"
	OfPlan   Kind = "plan"
	OfCurve  Kind = "curve"
	OfPast   Kind = "past"
	OfMatrix Kind = "matrix"
	OfHunt   Kind = "hunt"
)

// Data is what a chart shows: the fields of its kind are set.
type Data struct {
	Title string // such as the project's name

	Run *run.Run // OfRun

	Pick  string // OfPick, the pick and its weave
	Weave *catalog.Weave

	Plan split.Plan // OfPlan

	Points []split.Point // OfCurve
	Shards int           // the number to mark, 0 for none

	Past  *history.Past // OfPast
	Tests []int         // of Past, in the order in which they are shown

	Matrix    *matrix.Results // OfMatrix
	Explained matrix.Explained

	Finding hunt.Finding // OfHunt
	Trials  []hunt.Record
}

// Charts is the registry of the charts.
var Charts = []Chart{
	{"timeline", "the workers of a run on one time axis", OfRun, func(d Data) Drawing { return Timeline(d.Title, d.Run) }},
	{"weave", "groups against tags, with the picked tests", OfPick, func(d Data) Drawing { return weave(d.Title, d.Pick, d.Weave) }},
	{"shards", "a plan, with a bar per shard", OfPlan, func(d Data) Drawing { return Shards(d.Title, d.Plan) }},
	{"curve", "the finish by number of shards", OfCurve, func(d Data) Drawing { return curve(d.Title, d.Points, d.Shards) }},
	{"history", "tests against runs", OfPast, func(d Data) Drawing { return drawHistory(d.span(), d.Past, d.Tests) }},
	{"slow", "the slowest tests", OfPast, func(d Data) Drawing { return slowest(d.span(), d.Past, d.Tests) }},
	{"trend", "work and wall time, run by run", OfPast, func(d Data) Drawing { return trend(d.span(), d.Past.Runs) }},
	{"matrix", "what explains the failures, and the crossings on one time axis", OfMatrix, func(d Data) Drawing { return Matrix(d.Title, d.Matrix, d.Explained) }},
	{"frond", "the trials of a hunt, cut by cut", OfHunt, func(d Data) Drawing { return Frond(d.Finding, d.Trials) }},
}

// ChartsOf lists the charts of some kinds.
func ChartsOf(kinds ...Kind) []Chart {
	return slices.DeleteFunc(slices.Clone(Charts), func(c Chart) bool { return !slices.Contains(kinds, c.Of) })
}

// Named returns the chart of some kinds with a name.
func Named(name string, kinds ...Kind) (Chart, error) {
	var names []string
	for _, c := range ChartsOf(kinds...) {
		if c.Name == name {
			return c, nil
		}
		names = append(names, c.Name)
	}
	slices.Sort(names)
	return Chart{}, fmt.Errorf("there is no chart %q: the charts are %s", name, strings.Join(names, ", "))
}

// Draw draws data of the chart's kind.
func (c Chart) Draw(d Data) (Drawing, error) {
	if c.Of == OfPast && len(d.Past.Runs) == 0 {
		return Drawing{}, fmt.Errorf("the chart %s shows the runs of the ledger: %w", c.Name, run.ErrNoRecord)
	}
	return c.draw(d), nil
}

// span names the runs that a chart of a past shows.
func (d Data) span() string {
	runs := d.Past.Runs
	return fmt.Sprintf("%s, runs %d to %d", d.Title, runs[0].Number, runs[len(runs)-1].Number)
}
