package tui

import (
	"fmt"
	"slices"
	"strings"

	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/fleet"
	"fernrelay/internal/wording"
)

// liveFleet is what the application knows of the machines of a run.
type liveFleet struct {
	id       string
	updates  inbox[[]fleet.MachineStatus]
	machines []fleet.MachineStatus // in the order in which they joined
	gone     map[string]*returned  // by machine
	backFrom map[int]string        // by batch, from 0: the machine that it came back from
}

// returned is what a machine that is gone did not finish.
type returned struct {
	batches, tests int
	takers         []string // machines that took some of it
}

// followMachines takes what is known of the machines since the last frame.
func (l *liveRun) followMachines() {
	for _, machines := range l.fleet.updates.take() {
		l.fleet.machines = machines
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
func (l *liveRun) leave(machine string) {
	for w := range l.tracks {
		if t := &l.tracks[w]; t.batch >= 0 && l.run.PlaceOf(w+1).Machine == machine {
			l.comeBack(t, machine)
		}
	}
}

// comeBack takes the batch that a track worked on from it, unless it is done.
func (l *liveRun) comeBack(t *track, machine string) {
	batch := t.batch
	if t.running != "" {
		t.broken = append(t.broken, piece{from: t.since, to: max(l.now, t.since)})
	}
	t.batch, t.running = -1, ""
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
	f := l.fleet
	f.backFrom[batch] = machine
	if f.gone[machine] == nil {
		f.gone[machine] = &returned{}
	}
	f.gone[machine].batches++
	f.gone[machine].tests += open
}

// taken notes that a track begins a batch that may have been another machine's.
func (l *liveRun) taken(t *track, batch int, machine string) {
	for w := range l.tracks {
		if other := &l.tracks[w]; other != t && other.batch == batch {
			l.comeBack(other, l.run.PlaceOf(w+1).Machine)
		}
	}
	from, back := l.fleet.backFrom[batch]
	if !back {
		return
	}
	delete(l.fleet.backFrom, batch)
	if gone := l.fleet.gone[from]; !slices.Contains(gone.takers, machine) {
		gone.takers = append(gone.takers, machine)
	}
}

// speeds returns by worker how fast its machine does what it has done, 1 for as fast as expected, and whether it works.
func (l *liveRun) speeds() (speeds []float64, works []bool) {
	due, took := map[string]float64{}, map[string]float64{}
	for w := range l.tracks {
		machine := l.run.PlaceOf(w + 1).Machine
		took[machine] += l.tracks[w].took
		due[machine] += l.tracks[w].due
	}
	running := map[string]bool{}
	for _, m := range l.fleet.machines {
		running[m.Name] = m.State == fleet.MachineRunning
	}
	for w := range l.tracks {
		machine := l.run.PlaceOf(w + 1).Machine
		speeds, works = append(speeds, schedule.Speed(due[machine], took[machine])), append(works, running[machine])
	}
	return speeds, works
}

// words says what of a machine returned to the queue.
func (r *returned) words() string {
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

func (r *returned) takerWords() string {
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
func (f *liveFleet) isLost(machine string) bool {
	return slices.ContainsFunc(f.machines, func(m fleet.MachineStatus) bool { return m.Name == machine && m.State == fleet.MachineLost })
}

// machineOf returns the machine that a result ran on, "" if the run is one of this machine.
func (l *liveRun) machineOf(r *run.Result) string { return plain.Line(l.run.PlaceOf(r.Worker).Machine) }

// workerWords names the worker that a result ran on.
func (l *liveRun) workerWords(r *run.Result) string {
	place := l.run.PlaceOf(r.Worker)
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
