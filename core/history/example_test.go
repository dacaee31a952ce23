package history_test

import (
	"fmt"

	"fernrelay/core/history"
	"fernrelay/core/run"
)

func ExampleFigure() {
	past := []history.Cell{
		history.NewCell(run.Passed, 0.30),
		history.NewCell(run.Skipped, 0), // evidence of nothing
		history.NewCell(run.Failed, 0.05),
		history.NewCell(run.Passed, 0.32),
	}
	f := history.Figure(past)
	fmt.Printf("%d of %d passed, %d changes of outcome, %.2f s\n", f.Ran-f.Bad, f.Ran, f.Flips, f.Seconds)
	// Output: 2 of 3 passed, 2 changes of outcome, 0.32 s
}
