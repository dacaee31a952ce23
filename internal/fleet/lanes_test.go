package fleet

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/schedule"
)

// TestLanes divides random schedules: batches that hold nothing which others hold, too, are in the first lane, and two batches share
// another lane only if they hold the same, unless it is the last of as many lanes as there may be.
func TestLanes(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	for range 100 {
		things := 1 + random.IntN(12)
		batches := make([]schedule.Batch, 1+random.IntN(120))
		for i := range batches {
			var held []string
			for range random.IntN(4) {
				held = append(held, fmt.Sprint("thing", random.IntN(things)))
			}
			slices.Sort(held)
			batches[i].Tests = []catalog.Test{{ID: fmt.Sprint("u:g#", i), Ruled: &catalog.Rules{Holds: slices.Compact(held)}}}
		}
		s := schedule.Of(batches, nil)
		shared := []string{fmt.Sprint("thing", random.IntN(things))}
		users := map[string]int{}
		for i := range batches {
			for _, name := range s.Holds(i) {
				users[name]++
			}
		}
		contested := func(batch int) string {
			return strings.Join(slices.DeleteFunc(slices.Clone(s.Holds(batch)), func(name string) bool { return users[name] == 1 && !slices.Contains(shared, name) }), "\n")
		}
		l := newLanes(s, shared)
		if len(l.of) != len(batches) || len(l.names) > mostLanes {
			t.Fatalf("%d batches are in %d lanes", len(l.of), len(l.names))
		}
		for i, lane := range l.of {
			if (lane == 0) != (contested(i) == "") {
				t.Fatalf("batch %d holds %q and is in lane %d", i, contested(i), lane)
			}
			if lane < mostLanes-1 && l.names[lane] != contested(i) {
				t.Fatalf("batch %d holds %q and is in the lane of %q", i, contested(i), l.names[lane])
			}
		}
	}
}
