package progress

import (
	"fmt"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/fleet"
)

// TestEndsInFollowsTheMachines forecasts a fleet run of which one test is done: a slow machine delays its end, a second one brings
// it forward, and without machines there is no end.
func TestEndsInFollowsTheMachines(t *testing.T) {
	batches := make([]schedule.Batch, 9)
	for i := range batches {
		batches[i].Tests = []catalog.Test{{ID: fmt.Sprintf("u:g%d#a", i), Expected: 1}}
	}
	began := time.Unix(1000, 0)
	endsIn := func(took float64, states ...string) (float64, bool) {
		live := NewFleet("noon", schedule.Of(batches, nil), func(string) []run.Outcome { return nil })
		end := began.Add(time.Duration(took * float64(time.Second)))
		live.Events.Put(run.Event{Event: run.Started, ID: "u:g0#a", Machine: "moss0", Worker: 1, Batch: 1, At: began})
		live.Events.Put(run.Event{Event: run.Finished, ID: "u:g0#a", Machine: "moss0", Worker: 1, Batch: 1, At: end, Outcome: run.Passed, Seconds: run.Took(took)})
		var machines []fleet.MachineStatus
		for i, state := range states {
			machines = append(machines, fleet.MachineStatus{Name: fmt.Sprint("moss", i), Workers: 1, State: state})
		}
		live.Fleet.Updates.Put(machines)
		live.Follow(end)
		return live.EndsIn()
	}
	onTime, ok := endsIn(1, fleet.MachineRunning)
	if !ok || onTime != 8 {
		t.Errorf("one machine that is on time ends in %v, %v", onTime, ok)
	}
	if slow, ok := endsIn(3, fleet.MachineRunning); !ok || slow <= onTime {
		t.Errorf("a slow machine ends in %v, %v; one on time in %v", slow, ok, onTime)
	}
	for _, c := range []struct {
		states []string
		want   float64
	}{
		{[]string{fleet.MachineRunning, fleet.MachineRunning}, 4},
		{[]string{fleet.MachineLost, fleet.MachineRunning}, 8},
	} {
		if got, ok := endsIn(1, c.states...); !ok || got != c.want {
			t.Errorf("with machines that are %v it ends in %v, %v; want %v", c.states, got, ok, c.want)
		}
	}
	if got, ok := endsIn(1, fleet.MachineLeft); ok {
		t.Errorf("without machines it ends in %v", got)
	}
}
