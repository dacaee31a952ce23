package fleet

import (
	"slices"
	"strings"

	"fernrelay/core/schedule"
)

// mostLanes bounds the queues of a run.
const mostLanes = 32

// lanes divide the batches of a schedule into queues: one for those that hold nothing, and one for each set of things that
// batches hold. A machine that cannot run the first batch of a lane now need not look at the others of that lane.
//
//	lane ""          batches 1, 4, 5   hold nothing
//	lane "licence"   batches 2, 3
//	lane "bus pump"  batch 6           holds both
type lanes struct {
	of    []int    // by batch, from 0
	names []string // by lane; the first is that of batches that hold nothing
}

func newLanes(s *schedule.Schedule, shared []string) *lanes {
	l := &lanes{of: make([]int, len(s.Batches)), names: []string{""}}
	number, users := map[string]int{"": 0}, map[string]int{}
	for i := range s.Batches {
		for _, name := range s.Holds(i) {
			users[name]++
		}
	}
	for i := range s.Batches {
		var held []string
		for _, name := range s.Holds(i) {
			if users[name] > 1 || slices.Contains(shared, name) { // what only one batch of this run holds is always free
				held = append(held, name)
			}
		}
		name := strings.Join(held, "\n")
		lane, known := number[name]
		if !known {
			lane = min(len(l.names), mostLanes-1)
			number[name] = lane
			if lane == len(l.names) {
				l.names = append(l.names, name)
			}
		}
		l.of[i] = lane
	}
	return l
}
