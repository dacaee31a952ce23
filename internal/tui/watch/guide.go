// Package watch is the leg that shows a run that goes on: a track per worker on one time axis, and results as they land.
package watch

import (
	"strconv"

	"fernrelay/internal/tui/leg"
)

// Guide explains the keys. docs/keys.md has the same lines.
func (v *View) Guide() []leg.KeyLine {
	return []leg.KeyLine{
		{Key: "↑↓", Does: "choose a result"},
		{Key: "h", Does: "hunts the failed test: which of the tests before it made it fail"},
		{Key: "r", Does: "runs the test again"},
		{Key: "R", Does: "runs all tests that failed again"},
		{Key: "e", Does: "opens the line of the failure in your editor"},
		{Key: "enter", Does: "unfolds the steps of the test"},
		{Key: "f", Does: "lists other results: failed, errored, recovered, skipped, all"},
		{Key: "F", Does: "lists the results of some groups or with a text"},
		{Key: "space", Does: "holds the run: workers finish their batches and take no more"},
		{Key: "x", Does: "finishes running tests and starts no more; again, stops now"},
		{Key: "c", Does: "reruns the picked tests that a saved file touches"},
		{Key: "tab", Does: "goes to the details and back on a narrow screen"},
		{Key: "d", Does: "draws the run as SVG or PDF"},
	}
}

// Hint leads a newcomer.
func (v *View) Hint() leg.Hint {
	if len(v.List) == 0 {
		return leg.Hint{}
	}
	return leg.Hint{Words: "first: arrows choose a result, h hunts what made it fail, e opens its line in your editor", Keys: []string{"h", "e", "r", "R"}}
}

// Room returns the columns that the figure is expected to need.
func (v *View) Room(tests int) int { return 2*len(strconv.Itoa(tests)) + 4 }
