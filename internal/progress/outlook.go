package progress

import (
	"math"

	"fernrelay/core/schedule"
)

// Planned is a batch that has not begun, at the time at which it is expected.
type Planned struct {
	label    string
	From, To float64
}

// Outlook is what should come.
type Outlook struct {
	Tracks [][]Planned // by worker; the first is the batch that it works on
	Early  []float64   // by worker: the seconds that it is ahead of the expected times
	End    float64
	Doubt  float64 // about 95 of 100 runs end within this many seconds around end
}

// outlook is the schedule's forecast from the present state of the run.
//
// Each worker begins with what is left of its batch; then the schedule deals the batches that nobody has begun, as the engine's queue will.
// The doubt is that of the worker that ends last: the variances of its tests add up, as their times do not depend on each other.
func (l *Run) outlook() Outlook {
	n := len(l.Tracks)
	out := Outlook{Tracks: make([][]Planned, n), Early: make([]float64, n)}
	free, variance := make([]float64, n), make([]float64, n)
	p := schedule.Progress{Now: l.Now, At: make([]int, n), Left: make([]float64, n),
		Begun:   func(batch int) bool { return l.batches[batch].begun },
		Ended:   l.hasEnded,
		Seconds: func(batch int) float64 { return l.batches[batch].left }, Processors: l.Processors}
	paces := l.paces()
	if l.Fleet != nil {
		speeds, works := l.speeds()
		p.Speed, p.Late = func(worker int) float64 { return speeds[worker] }, lateness(works)
		for w, speed := range speeds {
			paces[w] = 1 / speed
		}
	}
	for w := range l.Tracks {
		t := &l.Tracks[w]
		p.At[w] = t.Batch
		if t.Batch >= 0 {
			b := &l.batches[t.Batch]
			p.Left[w] = max(0, b.left)
			if t.Running != "" { // of which a part has passed
				p.Left[w] = max(0, p.Left[w]-min((l.Now-t.Since)/paces[w], l.test(t.Running).Expected))
			}
			if l.Fleet != nil {
				p.Left[w] *= paces[w]
			}
			variance[w] = max(0, b.variance)
			out.Tracks[w] = append(out.Tracks[w], Planned{b.label, l.Now, l.Now + p.Left[w]})
		}
		free[w] = l.Now + p.Left[w]
		out.Early[w] = t.early(l)
	}
	for _, s := range l.schedule.Forecast(p) {
		if isFar(s.From) {
			continue
		}
		b := &l.batches[s.Batch]
		out.Tracks[s.Worker] = append(out.Tracks[s.Worker], Planned{b.label, s.From, s.To})
		free[s.Worker] = s.To
		variance[s.Worker] += max(0, b.variance)
	}
	for w := range free {
		if free[w] >= out.End {
			out.End, out.Doubt = free[w], 2*math.Sqrt(variance[w])
		}
	}
	return out
}

// paces returns by worker how many times as long the test that runs takes as alone, because the workers share the
// processors.
// A test of which nothing is known has the share 0, as if it only waited: it then delays no other test in the forecast.
func (l *Run) paces() []float64 {
	shares := make([]float64, len(l.Tracks))
	for w := range l.Tracks {
		if id := l.Tracks[w].Running; id != "" {
			shares[w] = l.test(id).Share
		}
	}
	return schedule.Paces(shares, l.Processors)
}
