package run

import "slices"

// What an event can say at most: how long a test took, in seconds, and how many workers and shards
// there were.
const (
	longestTest = 1e8
	mostWorkers = 10_000
)

// Sound is the event as far as it can be: of what others tell, times that no test takes, workers,
// lines and shards that there cannot be are left out, and an outcome that there is not is taken for
// lost.
func (e Event) Sound() Event {
	if e.Seconds != nil && !(*e.Seconds >= 0 && *e.Seconds <= longestTest) { // which NaN is not, either
		e.Seconds = nil
	}
	if e.Worker < 0 || e.Worker > mostWorkers || e.Batch < 0 {
		e.Worker, e.Batch = 0, 0
	}
	if p := e.Planned; p != nil && (p.Shard < 1 || p.Shard > p.Of || p.Of > mostWorkers) {
		e.Planned = nil
	}
	if (e.Event == Finished || e.Event == StepDone) && !slices.Contains(Outcomes, e.Outcome) {
		e.Outcome = Lost
	}
	e.Line = max(0, e.Line)
	return e
}
