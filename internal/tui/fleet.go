package tui

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
func blocksOf(l *liveRun, height int) (blocks []block, rows, left int) {
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
	axis := axisOf(l, fleetLeft, c.width)
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
