// Package hunt is the leg of hunts: the victims, the frond of one with a row per cut, its verdict, and a patch.
package hunt

import (
	"fernrelay/internal/tui/leg"
)

// Guide explains the keys. docs/keys.md has the same lines.
func (v *View) Guide() []leg.KeyLine {
	return []leg.KeyLine{
		{Key: "↑↓", Does: "choose a victim"},
		{Key: "a", Does: "hunts all tests that failed in the latest run"},
		{Key: "enter", Does: "hunts the victim again, or goes on with an interrupted hunt"},
		{Key: "o", Does: "runs the picked tests in new orders, and hunts what differs"},
		{Key: "v", Does: "tries known culprits once more: are they mended?"},
		{Key: "p", Does: "shows a patch of a Go culprit that was tried, or looks for one"},
		{Key: "w", Does: "writes the patch that is shown to a file"},
		{Key: "A", Does: "applies the patch that is shown, after a question"},
		{Key: "c", Does: "copies a command that shows the failure"},
		{Key: "m", Does: "copies the finding as Markdown"},
		{Key: "e", Does: "opens the culprit in your editor"},
		{Key: "x", Does: "stops the hunt; what it tried is kept"},
		{Key: "tab", Does: "goes to the verdict and back on a narrow screen"},
		{Key: "d", Does: "draws the hunt as SVG or PDF"},
	}
}

// Hint leads a newcomer.
func (v *View) Hint() leg.Hint {
	if len(v.Hunts) == 0 {
		return leg.Hint{}
	}
	return leg.Hint{Words: "first: each row is a trial of half the suspects; p looks for a patch, c copies a command", Keys: []string{"c", "enter", "m", "p"}}
}

// Room returns the columns that the figure is expected to need.
func (v *View) Room(_ int) int { return 10 }
