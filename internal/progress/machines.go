package progress

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/fleet"
	"fernrelay/internal/wording"
)

// Fleet is what the application knows of the machines of a run.
type Fleet struct {
	ID       string
	Updates  Inbox[[]fleet.MachineStatus]
	Machines []fleet.MachineStatus // in the order in which they joined
	Gone     map[string]*Returned  // by machine
	BackFrom map[int]string        // by batch, from 0: the machine that it came back from
}

// Returned is what a machine that is gone did not finish.
type Returned struct {
	batches, tests int
	takers         []string // machines that took some of it
}

// NewFleet prepares to follow a fleet run of a schedule.
func NewFleet(id string, s *schedule.Schedule, past func(id string) []run.Outcome) *Run {
	live := New(s, 0, past)
	live.Processors = 0 // of several machines: what they do shows how fast they are
	live.Fleet = &Fleet{ID: id, Gone: map[string]*Returned{}, BackFrom: map[int]string{}}
	return live
}

// FleetStatus returns the state of a fleet run with the forecast of its end.
func FleetStatus(ctx context.Context, station *fleet.Conn, id string) (*fleet.Status, error) {
	var live *Run
	s, err := station.Status(ctx, id, fleet.Follower{
		Begins: func(_ *fleet.Manifest, s *schedule.Schedule) {
			live = NewFleet(id, s, func(string) []run.Outcome { return nil })
		},
		Event:    func(e run.Event) { live.Events.Put(e) },
		Machines: func(machines []fleet.MachineStatus) { live.Fleet.Updates.Put(machines) },
	})
	if err != nil || live == nil {
		return s, err
	}
	live.Follow(time.Now())
	if end, ok := live.EndsIn(); ok {
		s.EndsIn = &end
	}
	return s, nil
}

// EndsIn returns the seconds until a fleet run ends if the machines that run now work on, as fast as they did so far. It is not ok
// if none runs.
func (l *Run) EndsIn() (seconds float64, ok bool) {
	runs := slices.ContainsFunc(l.Fleet.Machines, func(m fleet.MachineStatus) bool { return m.State == fleet.MachineRunning })
	return max(0, l.Ahead.End-l.Now), runs
}

// followMachines takes what is known of the machines since the last frame.
func (l *Run) followMachines() {
	for _, machines := range l.Fleet.Updates.Take() {
		l.Fleet.Machines = machines
		for _, m := range machines {
			for w := 1; w <= m.Workers; w++ {
				l.trackOf(run.Event{Machine: m.Name, Worker: w})
			}
			if m.State != fleet.MachineRunning {
				l.leave(m.Name)
			}
		}
	}
}

// leave puts the batches of a machine that is gone back into the queue.
//
// The machine may have ended a batch without anybody having read that yet. Then its tests come in a moment, and what
// comeBack counted as open is only shown too early.
func (l *Run) leave(machine string) {
	for w := range l.Tracks {
		if t := &l.Tracks[w]; t.Batch >= 0 && l.Run.PlaceOf(w+1).Machine == machine {
			l.comeBack(t, machine)
		}
	}
}

// comeBack takes the batch that a track worked on from it, unless it is done.
func (l *Run) comeBack(t *Track, machine string) {
	batch := t.Batch
	if t.Running != "" {
		t.Broken = append(t.Broken, Piece{From: t.Since, To: max(l.Now, t.Since)})
	}
	t.Batch, t.Running = -1, ""
	open := 0
	for i := range l.schedule.Batches[batch].Tests {
		if !l.hasEnded(l.schedule.Batches[batch].Tests[i].ID) {
			open++
		}
	}
	if open == 0 {
		return
	}
	b := &l.batches[batch]
	b.begun, b.left = false, b.left+b.setup
	f := l.Fleet
	f.BackFrom[batch] = machine
	if f.Gone[machine] == nil {
		f.Gone[machine] = &Returned{}
	}
	f.Gone[machine].batches++
	f.Gone[machine].tests += open
}

// taken notes that a track begins a batch that may have been another machine's.
func (l *Run) taken(t *Track, batch int, machine string) {
	for w := range l.Tracks {
		if other := &l.Tracks[w]; other != t && other.Batch == batch {
			l.comeBack(other, l.Run.PlaceOf(w+1).Machine)
		}
	}
	from, back := l.Fleet.BackFrom[batch]
	if !back {
		return
	}
	delete(l.Fleet.BackFrom, batch)
	if gone := l.Fleet.Gone[from]; !slices.Contains(gone.takers, machine) {
		gone.takers = append(gone.takers, machine)
	}
}

// speeds returns by worker how fast its machine does what it has done, 1 for as fast as expected, and whether it works.
func (l *Run) speeds() (speeds []float64, works []bool) {
	due, took := map[string]float64{}, map[string]float64{}
	for w := range l.Tracks {
		machine := l.Run.PlaceOf(w + 1).Machine
		took[machine] += l.Tracks[w].took
		due[machine] += l.Tracks[w].due
	}
	running := map[string]bool{}
	for _, m := range l.Fleet.Machines {
		running[m.Name] = m.State == fleet.MachineRunning
	}
	for w := range l.Tracks {
		machine := l.Run.PlaceOf(w + 1).Machine
		speeds, works = append(speeds, schedule.Speed(due[machine], took[machine])), append(works, running[machine])
	}
	return speeds, works
}

// Words says what of a machine returned to the queue.
func (r *Returned) Words() string {
	its := "its batch"
	if r.batches > 1 {
		its = fmt.Sprintf("its %d batches", r.batches)
	}
	is := "is"
	if r.batches > 1 {
		is = "are"
	}
	return fmt.Sprintf("%s (%s) %s back in the queue", its, wording.Plural(r.tests, "test"), is)
}

// TakerWords says which machines took what was returned, "" for none yet.
func (r *Returned) TakerWords() string {
	if len(r.takers) == 0 {
		return ""
	}
	names := make([]string, len(r.takers))
	for i, name := range r.takers {
		names[i] = plain.Line(name)
	}
	last := len(names) - 1
	if last == 0 {
		return names[0] + " took it"
	}
	return strings.Join(names[:last], ", ") + " and " + names[last] + " took them"
}

// isLost reports whether a machine was lost.
func (f *Fleet) isLost(machine string) bool {
	return slices.ContainsFunc(f.Machines, func(m fleet.MachineStatus) bool { return m.Name == machine && m.State == fleet.MachineLost })
}

// MachineOf returns the machine that a result ran on, "" if the run is one of this machine.
func (l *Run) MachineOf(r *run.Result) string { return plain.Line(l.Run.PlaceOf(r.Worker).Machine) }

// WorkerWords names the worker that a result ran on.
func (l *Run) WorkerWords(r *run.Result) string {
	place := l.Run.PlaceOf(r.Worker)
	if place.Machine == "" {
		return fmt.Sprintf("worker %d", place.Worker)
	}
	return fmt.Sprintf("%s, worker %d", plain.Line(place.Machine), place.Worker)
}

// farFuture is when a machine that is gone would take its next batch, in seconds.
const farFuture = 1e9

// lateness returns by worker when it can take its next batch: never if its machine is gone.
func lateness(works []bool) []float64 {
	late := make([]float64, len(works))
	for w, does := range works {
		if !does {
			late[w] = farFuture
		}
	}
	return late
}

// isFar reports whether a time of a forecast is one that never comes.
func isFar(at float64) bool { return at >= farFuture }
