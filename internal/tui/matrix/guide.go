// Package matrix is the leg of crossings: what explains their failures, and a track per crossing on one time axis.
package matrix

import (
	"fernrelay/internal/tui/leg"
)

// Guide explains the keys. docs/keys.md has the same lines.
func (v *View) Guide() []leg.KeyLine {
	return []leg.KeyLine{
		{Key: "↑↓", Does: "choose a crossing, or an explanation"},
		{Key: "r", Does: "runs every crossing with the tests of the pick"},
		{Key: "enter", Does: "runs the crossing; on an explanation, lists its tests"},
		{Key: "w", Does: "opens the run of the crossing in Watch"},
		{Key: "tab", Does: "goes to the explanations and back"},
		{Key: "esc", Does: "goes back to the crossings"},
		{Key: "D", Does: "runs the crossing that decides between two explanations"},
		{Key: "H", Does: "hunts the first test that failed in the crossing"},
		{Key: "c", Does: "copies the command that repeats the crossing"},
		{Key: "x", Does: "finishes running tests and starts no more"},
		{Key: "d", Does: "draws the matrix as SVG or PDF"},
	}
}

// Hint leads a newcomer.
func (v *View) Hint() leg.Hint {
	if len(v.Rows) == 0 {
		return leg.Hint{}
	}
	return leg.Hint{Words: "first: r runs every crossing, enter only the one under the cursor", Keys: []string{"r", "enter"}}
}

// Room returns the columns that the figure is expected to need.
func (v *View) Room(_ int) int { return 6 }
