package tui

import (
	"context"
	"fmt"
	"image/color"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/app"
	"fernrelay/internal/fleet"
	"fernrelay/internal/wording"
)

// fleetRun names a fleet run to follow.
type fleetRun struct {
	station  fleet.Options
	id       string
	followed bool // until its end
}

// FollowFleet shows the application on a run of many machines.
func FollowFleet(ctx context.Context, r *app.App, station fleet.Options, id string) error {
	return show(ctx, r, func(a *App) {
		station.Report = nil // the frame shows what fails
		a.watch.follows, a.watch.fleet, a.leg = true, &fleetRun{station: station, id: id}, legWatch
	})
}

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

// followFleet follows a fleet run. The command waits until it is known what the run is to do, and the second one for its end,
// when the run is brought into the ledger.
func followFleet(ctx context.Context, r *app.App, f *fleetRun) tea.Cmd {
	return func() tea.Msg {
		found := make(chan tea.Msg, 1)
		ended := make(chan runEndedMsg, 1)
		go func() {
			var live *liveRun
			number, err := r.WatchFleet(ctx, f.station, f.id, fleet.Follower{
				Begins: func(_ *fleet.Manifest, s *schedule.Schedule) {
					live = newLiveRun(s, 0, r.PastOf)
					live.processors = 0 // of several machines: what they do shows how fast they are
					live.fleet = &liveFleet{id: f.id, gone: map[string]*returned{}, backFrom: map[int]string{}}
					found <- followedMsg{live, func() tea.Msg { return <-ended }}
				},
				Event:    func(e run.Event) { live.events.put(e) },
				Machines: func(machines []fleet.MachineStatus) { live.fleet.updates.put(machines) },
			})
			ended <- runEndedMsg{run: live, number: number, err: err}
		}()
		select {
		case msg := <-found:
			return msg
		case msg := <-ended:
			return unfollowedMsg{msg.err}
		}
	}
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

// block is the rows of one machine.
type block struct {
	machine fleet.MachineStatus
	y       int
	tracks  []int // of its workers
	folded  bool  // all of them in one row
}

// rows returns how many rows a block takes.
func (b block) rows() int {
	if b.folded {
		return 1
	}
	return max(2, len(b.tracks))
}

// blocks returns the rows of machines, and how many machines there is no room for in a number of rows. A machine that is lost goes
// before others if not all have room.
func (l *liveRun) blocks(height int) (blocks []block, rows, left int) {
	for _, m := range l.fleet.machines {
		b := block{machine: m}
		for w := range l.tracks {
			if l.run.PlaceOf(w+1).Machine == m.Name {
				b.tracks = append(b.tracks, w)
			}
		}
		slices.SortFunc(b.tracks, func(a, b int) int { return l.run.PlaceOf(a+1).Worker - l.run.PlaceOf(b+1).Worker })
		blocks = append(blocks, b)
	}
	sum := 0
	for _, b := range blocks {
		sum += b.rows()
	}
	air := 1
	switch {
	case sum+len(blocks)-1 <= height:
	case sum <= height:
		air = 0
	default:
		air = 0
		for i := range blocks {
			blocks[i].folded = true
		}
	}
	if len(blocks) > height {
		slices.SortStableFunc(blocks, func(a, b block) int { return lostFirst(a.machine) - lostFirst(b.machine) })
		left = len(blocks) - height + 1
		blocks = blocks[:height-1]
	}
	for i := range blocks {
		blocks[i].y = rows
		rows += blocks[i].rows() + air
	}
	return blocks, max(0, rows-air), left
}

func lostFirst(m fleet.MachineStatus) int {
	if m.State == fleet.MachineLost {
		return 0
	}
	return 1
}

// fleetLeft is the columns before the time axis of a fleet run.
const fleetLeft = 24

// drawMachines draws the machines on one time axis, the workers of each below each other.
func (v watch) drawMachines(c canvas, l *liveRun, p watchPlaces) {
	t, rows := c.theme, p.fleetRows
	axis := l.axis(fleetLeft, c.width)
	axis.draw(c, l.end())
	top := 1
	if c.height > rows+3 {
		top = 2
	}
	for _, b := range p.machines {
		v.drawMachine(c.sub(0, top+b.y, c.width, b.rows()), axis, l, b)
	}
	if !l.ended {
		for y := range rows {
			c.text(axis.at(l.now), top+y, style{t.leaf, true}, "│")
		}
		c.text(axis.at(l.now)-1, top+rows, style{colour: t.leaf}, "now")
	}
	if p.more > 0 {
		c.text(2, top+rows, style{colour: t.fog}, "and "+wording.Plural(p.more, "more machine"))
	}
}

// drawMachine draws the tracks of one machine, and what is to say of it.
func (v watch) drawMachine(c canvas, a axis, l *liveRun, b block) {
	t := c.theme
	words, look := machineWords(l, b.machine)
	name := style{t.ink, true}
	if b.machine.State != fleet.MachineRunning && !l.ended {
		name.colour = t.fog
	}
	x := c.text(2, 0, name, cut(plain.Line(b.machine.Name), 16))
	if b.folded {
		c.text(x+1, 0, style{colour: look(t)}, cut(strings.TrimPrefix(words, "started "), fleetLeft-x-2))
	} else {
		c.text(2, 1, style{colour: look(t)}, cut(words, fleetLeft-5))
	}
	for i, w := range b.tracks {
		y := i
		if b.folded {
			y = 0
		} else {
			c.right(fleetLeft-1, y, style{colour: t.faint()}, fmt.Sprint(l.run.PlaceOf(w+1).Worker))
		}
		v.drawTrack(c, a, l, w, y, 1)
		for _, p := range l.tracks[w].broken {
			a.fill(c, y, 1, p.from, p.to, t.amber, 0.35)
			c.text(a.at(p.from), y, style{t.ink, true}, run.Lost.Shape())
		}
	}
	if gone := l.fleet.gone[b.machine.Name]; gone != nil && !l.ended && !b.folded {
		x := a.at(l.now) + 2
		c.text(x, 0, style{colour: t.amber}, cut(gone.words(), c.width-x-1))
		c.text(x, 1, style{colour: t.fog}, cut(gone.takerWords(), c.width-x-1))
	}
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

// lateSeconds is how long after the run's first test a machine joins that counts as late.
const lateSeconds = 2

// machineWords says what is to know about a machine, and in which colour.
func machineWords(l *liveRun, m fleet.MachineStatus) (words string, colour func(t *theme) color.Color) {
	fog, amber := func(t *theme) color.Color { return t.fog }, func(t *theme) color.Color { return t.amber }
	since := func(at time.Time) float64 { return at.Sub(l.began).Seconds() }
	switch late := since(m.Joined); {
	case m.State == fleet.MachineLost && l.ended:
		return "lost at " + history.Clock(max(0, since(m.Left))), amber
	case m.State == fleet.MachineLost:
		return fmt.Sprintf("lost %.0f s ago", max(0, l.now-since(m.Left))), amber
	case m.State == fleet.MachineLeft && !l.ended:
		return "left at " + history.Clock(max(0, since(m.Left))), fog
	case l.first && late >= lateSeconds:
		return fmt.Sprintf("started %.0f s late", late), amber
	}
	return wording.Plural(m.Workers, "worker"), fog
}

// isLost reports whether a machine was lost.
func (f *liveFleet) isLost(machine string) bool {
	return slices.ContainsFunc(f.machines, func(m fleet.MachineStatus) bool { return m.Name == machine && m.State == fleet.MachineLost })
}

// clockWords says at the top right how a fleet run is.
func (f *liveFleet) clockWords() string {
	here := 0
	for _, m := range f.machines {
		if m.State == fleet.MachineRunning {
			here++
		}
	}
	return fmt.Sprintf("fleet run %s · %d of %s", cut(plain.Line(f.id), 30), here, wording.Plural(len(f.machines), "machine"))
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
