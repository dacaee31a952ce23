// Package survey is the leg that shows the project's tests: the weave of groups and tags, the tests of a cell, the card of one.
package survey

import (
	"strconv"

	"fernrelay/internal/tui/leg"
)

// Guide explains the keys. docs/keys.md has the same lines.
func (v *View) Guide() []leg.KeyLine {
	return []leg.KeyLine{
		{Key: "arrows", Does: "move over groups, tags and tests; hjkl do the same"},
		{Key: "+", Does: "narrows the pick to the cell under the cursor"},
		{Key: "-", Does: "takes the tests of the cell out of the pick"},
		{Key: "=", Does: "picks only the tests of the cell, the test or the step"},
		{Key: "⌫", Does: "undoes the last change of the pick"},
		{Key: "space", Does: "folds a group or unfolds it; in the list, the steps of a test"},
		{Key: "enter", Does: "looks into the cell: its tests, then the card of one"},
		{Key: "tab", Does: "goes to the tests of the cell and back"},
		{Key: "esc", Does: "goes back to the weave"},
		{Key: "y", Does: "explains why the test is in the pick or out"},
		{Key: "R", Does: "sets or clears a rule on the test, the cell or the pick"},
		{Key: "s", Does: "saves the pick under a name"},
		{Key: "r", Does: "runs the pick"},
		{Key: "H", Does: "hunts the test: which tests make it fail"},
		{Key: "e", Does: "opens the test in your editor"},
		{Key: "o", Does: "orders the groups by name, tests or time"},
		{Key: "O", Does: "orders the tags by name, tests or time"},
		{Key: "d", Does: "draws the weave as SVG or PDF"},
	}
}

// Hint leads a newcomer.
func (v *View) Hint() leg.Hint {
	return leg.Hint{Words: "first: arrows move over groups and tags, + narrows the pick to a cell, r runs it", Keys: []string{"+", "-", "=", "r"}}
}

// Room returns the columns that the figure is expected to need.
func (v *View) Room(tests int) int { return 2*len(strconv.Itoa(tests)) + 4 }
