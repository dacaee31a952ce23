package watch

import (
	"fmt"
	"image/color"
	"slices"
	"strings"
	"time"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/fleet"
	"fernrelay/internal/progress"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
)

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

// blocksOf returns the rows of machines, and how many machines there is no room for in a number of rows. A machine that is lost goes
// before others if not all have room.
func blocksOf(l *progress.Run, height int) (blocks []block, rows, left int) {
	for _, m := range l.Fleet.Machines {
		b := block{machine: m}
		for w := range l.Tracks {
			if l.Run.PlaceOf(w+1).Machine == m.Name {
				b.tracks = append(b.tracks, w)
			}
		}
		slices.SortFunc(b.tracks, func(a, b int) int { return l.Run.PlaceOf(a+1).Worker - l.Run.PlaceOf(b+1).Worker })
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
func (v View) drawMachines(c screen.Canvas, l *progress.Run, p places) {
	t, rows := c.Theme, p.fleetRows
	axis := axisOf(l, fleetLeft, c.Width)
	axis.Draw(c, l.End())
	top := 1
	if c.Height > rows+3 {
		top = 2
	}
	for _, b := range p.machines {
		v.drawMachine(c.Sub(0, top+b.y, c.Width, b.rows()), axis, l, b)
	}
	if !l.Ended {
		for y := range rows {
			c.Text(axis.At(l.Now), top+y, screen.Style{Colour: t.Leaf, Bold: true}, "│")
		}
		c.Text(axis.At(l.Now)-1, top+rows, screen.Style{Colour: t.Leaf}, "now")
	}
	if p.more > 0 {
		c.Text(2, top+rows, screen.Style{Colour: t.Fog}, "and "+wording.Plural(p.more, "more machine"))
	}
}

// drawMachine draws the tracks of one machine, and what is to say of it.
func (v View) drawMachine(c screen.Canvas, a screen.Axis, l *progress.Run, b block) {
	t := c.Theme
	words, look := machineWords(l, b.machine)
	name := screen.Style{Colour: t.Ink, Bold: true}
	if b.machine.State != fleet.MachineRunning && !l.Ended {
		name.Colour = t.Fog
	}
	x := c.Text(2, 0, name, screen.Cut(plain.Line(b.machine.Name), 16))
	if b.folded {
		c.Text(x+1, 0, screen.Style{Colour: look(t)}, screen.Cut(strings.TrimPrefix(words, "started "), fleetLeft-x-2))
	} else {
		c.Text(2, 1, screen.Style{Colour: look(t)}, screen.Cut(words, fleetLeft-5))
	}
	for i, w := range b.tracks {
		y := i
		if b.folded {
			y = 0
		} else {
			c.Right(fleetLeft-1, y, screen.Style{Colour: t.Faint()}, fmt.Sprint(l.Run.PlaceOf(w+1).Worker))
		}
		v.drawTrack(c, a, l, w, y, 1)
		for _, p := range l.Tracks[w].Broken {
			a.Fill(c, y, 1, p.From, p.To, t.Amber, 0.35)
			c.Text(a.At(p.From), y, screen.Style{Colour: t.Ink, Bold: true}, run.Lost.Shape())
		}
	}
	if gone := l.Fleet.Gone[b.machine.Name]; gone != nil && !l.Ended && !b.folded {
		x := a.At(l.Now) + 2
		c.Text(x, 0, screen.Style{Colour: t.Amber}, screen.Cut(gone.Words(), c.Width-x-1))
		c.Text(x, 1, screen.Style{Colour: t.Fog}, screen.Cut(gone.TakerWords(), c.Width-x-1))
	}
}

// lateSeconds is how long after the run's first test a machine joins that counts as late.
const lateSeconds = 2

// machineWords says what is to know about a machine, and in which colour.
func machineWords(l *progress.Run, m fleet.MachineStatus) (words string, colour func(t *screen.Theme) color.Color) {
	fog, amber := func(t *screen.Theme) color.Color { return t.Fog }, func(t *screen.Theme) color.Color { return t.Amber }
	since := func(at time.Time) float64 { return at.Sub(l.Began).Seconds() }
	switch late := since(m.Joined); {
	case m.State == fleet.MachineLost && l.Ended:
		return "lost at " + history.Clock(max(0, since(m.Left))), amber
	case m.State == fleet.MachineLost:
		return fmt.Sprintf("lost %.0f s ago", max(0, l.Now-since(m.Left))), amber
	case m.State == fleet.MachineLeft && !l.Ended:
		return "left at " + history.Clock(max(0, since(m.Left))), fog
	case l.First && late >= lateSeconds:
		return fmt.Sprintf("started %.0f s late", late), amber
	}
	return wording.Plural(m.Workers, "worker"), fog
}
