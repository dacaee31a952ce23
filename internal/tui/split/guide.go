// Package split is the leg that plans: a bar per shard, the curve of other numbers of shards, and what keeps the end from coming earlier.
package split

import (
	"fernrelay/internal/tui/leg"
)

// Guide explains the keys. docs/keys.md has the same lines.
func (v *View) Guide() []leg.KeyLine {
	return []leg.KeyLine{
		{Key: "[ ]", Does: "one shard less or more; a run has as many workers"},
		{Key: "enter", Does: "runs the plan, each shard on its own worker, or the queue"},
		{Key: "m", Does: "plans workers here, which share processors, or machines"},
		{Key: "t", Does: "says what stays together: groups, files or tests"},
		{Key: "u", Does: "shows fixed shards or a shared queue"},
		{Key: "l L", Does: "limit how many shards run at once, or do not"},
		{Key: "w", Does: "says how late the shard under the cursor starts"},
		{Key: "↑↓←→", Does: "move over the shards and their units"},
		{Key: "p", Does: "pins the unit to its shard; the rest is balanced around it"},
		{Key: "J K", Does: "carry the unit to a neighbouring shard and pin it there"},
		{Key: "d", Does: "draws the plan or its curve as SVG or PDF"},
	}
}

// Hint leads a newcomer.
func (v *View) Hint() leg.Hint {
	return leg.Hint{Words: "first: [ and ] change the number of shards, enter runs the plan", Keys: []string{"[", "]", "enter"}}
}

// Room returns the columns that the figure is expected to need.
func (v *View) Room(_ int) int { return 9 }
