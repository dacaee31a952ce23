// Package ledger is the leg of the past: tests against runs, causes, the card of a test, a run's report.
package ledger

import (
	"fernrelay/internal/tui/leg"
)

// Guide explains the keys. docs/keys.md has the same lines.
func (v *View) Guide() []leg.KeyLine {
	return []leg.KeyLine{
		{Key: "↑↓", Does: "choose a test, or a row of the report"},
		{Key: "←→", Does: "choose a run; in a report, fold and unfold"},
		{Key: "enter", Does: "opens the run's report: its causes first, then all tests"},
		{Key: "=", Does: "compares the run with the one before"},
		{Key: "esc", Does: "goes back to the tests"},
		{Key: "o", Does: "orders the tests by trouble, time, change of time or name"},
		{Key: "H", Does: "goes to the hunt of the test, or hunts it"},
		{Key: "e", Does: "opens the test in your editor"},
		{Key: "tab", Does: "goes to causes and cards and back on a narrow screen"},
		{Key: "d", Does: "draws the past as SVG or PDF"},
	}
}

// Hint leads a newcomer.
func (v *View) Hint() leg.Hint {
	if len(v.All) == 0 {
		return leg.Hint{}
	}
	return leg.Hint{Words: "first: left and right choose a run, enter opens its report", Keys: []string{"left", "right", "enter"}}
}

// Room returns the columns that the figure is expected to need.
func (v *View) Room(_ int) int { return 8 }
