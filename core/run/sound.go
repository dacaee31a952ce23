package run

import (
	"slices"
	"time"
)

// The greatest plausible values of an event: the duration of a test, in seconds, and the number of workers and
// shards.
const (
	longestTest = 1e8
	mostWorkers = 10_000
)

// Sound returns the event without impossible values, which reports of others may have: times that no test takes,
// and impossible dates, workers, lines and shards. An unknown outcome becomes lost.
func (e Event) Sound() Event {
	if e.Seconds != nil && !(*e.Seconds >= 0 && *e.Seconds <= longestTest) { // which NaN is not, either
		e.Seconds = nil
	}
	if year := e.At.Year(); year < 1 || year > 9999 { // which JSON cannot hold
		e.At = time.Time{}
	}
	if e.Worker < 0 || e.Worker > mostWorkers || e.Batch < 0 {
		e.Worker, e.Batch = 0, 0
	}
	if p := e.Planned; p != nil && (p.Shard < 1 || p.Shard > p.Of || p.Of > mostWorkers) {
		e.Planned = nil
	}
	if m := e.Meta; m != nil && (m.Workers < 0 || m.Workers > mostWorkers) {
		e.Meta = nil
	}
	if (e.Event == Finished || e.Event == StepDone) && !slices.Contains(Outcomes, e.Outcome) {
		e.Outcome = Lost
	}
	e.Line = max(0, e.Line)
	return e
}
