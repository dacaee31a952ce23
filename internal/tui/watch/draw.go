package watch

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/progress"
	"fernrelay/internal/report"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
)

func (v View) drawCounts(c screen.Canvas, r *progress.Run) {
	t := c.Theme
	x := c.Text(2, 1, screen.Style{Colour: t.Ink, Bold: true}, fmt.Sprintf("%d of %d", r.Run.Done(), r.Total))
	for _, o := range run.Outcomes {
		if n := r.Run.Counts[o]; n > 0 {
			words := fmt.Sprintf("%s %d %s", o.Shape(), n, o)
			if c.Width < screen.WideScreen {
				words = fmt.Sprintf("%s %d", o.Shape(), n)
			}
			x = c.Text(x+3, 1, screen.Style{Colour: t.Outcome(o)}, words)
		}
	}
	if n := r.Run.Counts[run.Beyond]; n > 0 {
		words := fmt.Sprintf("%s %d beyond the tests", run.Errored.Shape(), n)
		if c.Width < screen.WideScreen {
			words = fmt.Sprintf("%s %d beyond", run.Errored.Shape(), n)
		}
		x = c.Text(x+3, 1, screen.Style{Colour: t.Outcome(run.Errored)}, words)
	}
	if r.Flaky > 0 {
		x = c.Text(x+3, 1, screen.Style{Colour: t.Amber}, fmt.Sprintf("%d flaky", r.Flaky))
	}
	v.drawEnd(c, r, x+5)
}

// drawEnd says when the run should end, or how it ended.
func (v View) drawEnd(c screen.Canvas, r *progress.Run, x int) {
	t := c.Theme
	fog, ink := screen.Style{Colour: t.Fog}, screen.Style{Colour: t.Ink, Bold: true}
	say := func(look screen.Style, words string) {
		if x+screen.Width(words) < c.Width {
			x = c.Text(x, 1, look, words)
		}
	}
	switch {
	case r.Ended && r.Incomplete:
		say(screen.Style{Colour: t.Amber}, "interrupted at "+history.Clock(r.Now))
	case r.Ended:
		say(fog, "took ")
		say(ink, history.ClockTenths(r.Now))
		if r.Planned > 0 {
			say(fog, "   planned "+history.ClockTenths(r.Planned))
		}
		if alone, estimated := r.AloneWords(); alone > r.Now && len(r.Tracks) > 1 && (r.Planned > 0 || estimated == "") {
			say(fog, fmt.Sprintf("   alone %s%s: %.1f ×", history.Clock(alone), estimated, alone/r.Now))
		}
		if len(r.Tracks) > 1 {
			say(fog, "   spread "+history.Short(r.Spread()))
		}
		if r.Steps > 0 {
			say(fog, fmt.Sprintf("   %d steps", r.Steps))
		}
		if r.Behind != "" {
			say(fog, "   "+r.Behind)
		}
	case !r.First:
		say(screen.Style{Colour: t.Water}, fmt.Sprintf("%s, %s", cmp.Or(plain.Line(r.Prepared), "preparing"), history.Clock(r.Waited)))
	case r.Ahead.End-r.Now < soon:
		say(fog, "about to end")
		v.drawLate(c, r, say)
	default:
		say(fog, "ends in ")
		say(ink, history.Clock(r.Ahead.End-r.Now))
		switch doubt := r.Ahead.Doubt; {
		case doubt >= 1:
			say(ink, fmt.Sprintf(" ± %.0f", doubt))
		case doubt >= 0.05:
			say(ink, fmt.Sprintf(" ± %.1f", doubt))
		}
		v.drawLate(c, r, say)
	}
}

// soon is how many seconds before its forecast end a run is about to end: one that is late is so for a while.
const soon = 0.1

// late is how many seconds behind or ahead are worth mentioning.
const late = 0.5

// drawLate says how the run keeps to its plan.
func (v View) drawLate(c screen.Canvas, run *progress.Run, say func(look screen.Style, words string)) {
	t := c.Theme
	if run.Planned > 0 {
		switch behind := run.Ahead.End - run.Planned; {
		case behind > late:
			say(screen.Style{Colour: t.Amber}, fmt.Sprintf("   %s behind the plan", history.Short(behind)))
		case behind < -late:
			say(screen.Style{Colour: t.Leaf}, fmt.Sprintf("   %s ahead of the plan", history.Short(-behind)))
		default:
			say(screen.Style{Colour: t.Fog}, "   on plan")
		}
	}
	onTime := 0
	for _, early := range run.Ahead.Early {
		if early >= -late {
			onTime++
		}
	}
	if words := fmt.Sprintf("%d of %d workers on time", onTime, len(run.Tracks)); run.Planned > 0 {
		say(screen.Style{Colour: t.Fog}, "   "+words)
	}
	switch {
	case run.Stopping:
		say(screen.Style{Colour: t.Amber}, "   finishing")
	case run.Held:
		say(screen.Style{Colour: t.Amber}, "   held")
	}
	if v.OnChange {
		say(screen.Style{Colour: t.Water}, "   on change")
	}
}

// drawTracks draws the workers on one time axis: the past to scale in the colours of the outcomes, the present up
// to now, the planned batches pale after it.
func (v View) drawTracks(c screen.Canvas, run *progress.Run, p places) {
	t := c.Theme
	axis := axisOf(run, 11, c.Width)
	axis.Draw(c, run.End())
	for w := range p.tracks {
		y, rows := 1+w*(p.rows+p.air), p.rows
		c.Text(2, y, screen.Style{Colour: t.Fog}, fmt.Sprintf("worker %d", w+1))
		if rows > 1 {
			drawEarly(c, y+1, run, w)
		}
		v.drawTrack(c, axis, run, w, y, rows)
	}
	if !run.Ended {
		now := axis.At(run.Now)
		for y := range p.tracks * (p.rows + p.air) {
			c.Text(now, 1+y, screen.Style{Colour: t.Leaf, Bold: true}, "│")
		}
		c.Text(now-1, 1+p.tracks*(p.rows+p.air), screen.Style{Colour: t.Leaf}, "now")
	}
}

// axisOf returns the time axis of a run, right of some columns.
func axisOf(l *progress.Run, left, width int) screen.Axis {
	span := width - left - 2
	return screen.Axis{Left: left, Span: span, Scale: float64(span) / l.End()}
}

// drawTrack draws what a worker did, does and is to do.
func (v View) drawTrack(c screen.Canvas, a screen.Axis, run *progress.Run, w, y, rows int) {
	t, track := c.Theme, &run.Tracks[w]
	if !run.Ended && w < len(run.Ahead.Tracks) {
		drawAhead(c, a, y, rows, run.Ahead.Tracks[w], track.Batch >= 0)
	}
	v.drawDone(c, a, track, y, rows)
	if track.Running == "" || run.Ended {
		return
	}
	colour := t.Water
	if track.Slow(run) {
		colour = t.Amber
	}
	a.Fill(c, y, rows, track.Since, run.Now, colour, 0.6)
	v.nameRunning(c, a, y, track, run.Now)
}

// drawEarly says how far a worker is ahead of what was expected of it, or behind.
func drawEarly(c screen.Canvas, y int, run *progress.Run, w int) {
	if !run.First || run.Planned == 0 || run.Ended {
		return
	}
	early, look := math.Round(10*run.Ahead.Early[w])/10, screen.Style{Colour: c.Theme.Faint()}
	if early < -late {
		look.Colour = c.Theme.Amber
	}
	c.Text(2, y, look, fmt.Sprintf("%+.1f s", early+0)) // never -0
}

// drawAhead draws the batches that are expected, the first of which is running.
func drawAhead(c screen.Canvas, a screen.Axis, y, rows int, ahead []progress.Planned, atWork bool) {
	last := -1
	for i, p := range ahead {
		if a.At(p.To) == last { // it would be in a cell that is drawn
			continue
		}
		last = a.At(p.To)
		colour, amount := c.Theme.Fog, 0.16+0.06*float64(i%2)
		if i == 0 && atWork {
			colour, amount = c.Theme.Water, 0.2
		}
		a.Fill(c, y, rows, p.From, p.To, colour, amount)
	}
}

func (v View) nameRunning(c screen.Canvas, a screen.Axis, y int, track *progress.Track, now float64) {
	from, to := a.At(track.Since), a.At(now)
	if to-from > 4 {
		c.Text(from+1, y, screen.Style{Colour: c.Theme.Ink}, screen.Cut(report.Name(track.Running), to-from-1))
	}
}

// drawDone draws what a worker has done, cell by cell: however many tests there are, each cell looks up the one
// that ran at its time, and whether there is a bad one in it.
func (v View) drawDone(c screen.Canvas, a screen.Axis, track *progress.Track, y, rows int) {
	t := c.Theme
	if len(track.Done) == 0 {
		return
	}
	lastTime := track.Done[len(track.Done)-1].To
	for x := a.Left; x <= a.At(lastTime) && x < a.Left+a.Span; x++ {
		from, to := a.Time(x), a.Time(x+1)
		p, ok := pieceAt(track.Done, from, to)
		if !ok {
			continue
		}
		colour, amount := t.Leaf, 0.42
		if p.Odd {
			amount = 0.58
		}
		_, isBad := pieceAt(track.Bad, from, to)
		if i, _ := slices.BinarySearch(track.Turns, from); i < len(track.Turns) && track.Turns[i] < to && !isBad {
			continue // air between batches
		}
		switch {
		case isBad:
			colour, amount = t.Rust, 1
		case p.Outcome != run.Passed:
			colour = t.Outcome(p.Outcome)
		}
		c.Fill(x, y, 1, rows, colour, amount)
		if bad, begins := beginsAt(track.Bad, from, to); begins {
			c.Text(x, y, screen.Style{Colour: t.Ink, Bold: true}, bad.Outcome.Shape())
		}
	}
}

// pieceAt returns the first piece within a time.
func pieceAt(pieces []progress.Piece, from, to float64) (progress.Piece, bool) {
	i, _ := slices.BinarySearchFunc(pieces, from, func(p progress.Piece, at float64) int {
		if p.To <= at {
			return -1
		}
		return 1
	})
	if i == len(pieces) || pieces[i].From >= to {
		return progress.Piece{}, false
	}
	return pieces[i], true
}

// beginsAt returns the first piece that begins within a time. Another one may go on until then.
func beginsAt(pieces []progress.Piece, from, to float64) (progress.Piece, bool) {
	i, _ := slices.BinarySearchFunc(pieces, from, func(p progress.Piece, at float64) int { return cmp.Compare(p.From, at) })
	if i == len(pieces) || pieces[i].From >= to {
		return progress.Piece{}, false
	}
	return pieces[i], true
}

const (
	resultRows = 3  // that a result takes in the list
	resultLeft = 13 // column of its group and its message
	groupRoom  = 26 // cells of its group at most
)

// nameOf returns the name of a result's test.
func nameOf(r *run.Result) string {
	_, name := leg.GroupAndName(r.ID)
	return name
}

func (v View) drawResults(c screen.Canvas, r *progress.Run) {
	t := c.Theme
	if len(v.List) == 0 {
		for i, line := range screen.Wrap(plain.Line(v.Filter.none(r)), c.Width-4) {
			c.Text(2, i, screen.Style{Colour: t.Fog}, line)
		}
		return
	}
	c.Text(2, 0, screen.Style{Colour: t.Fog}, screen.Cut(fmt.Sprintf("%s, newest first", plain.Line(v.Filter.Words())), c.Width-12))
	c.Right(c.Width-2, 0, screen.Style{Colour: t.Fog}, fmt.Sprint(len(v.List)))
	last := min(len(v.List), v.top+resultsShown(c.Height))
	var onScreen []*run.Result
	for i := v.top; i < last; i++ {
		onScreen = append(onScreen, v.newest(i))
	}
	common := screen.SharedIn(onScreen, nameOf, c.Width-resultLeft-groupRoom-3)
	for i := v.top; i < last; i++ {
		v.drawResult(c, 2+(i-v.top)*resultRows, r, v.newest(i), common, i == 0 && !r.Ended)
		if i == v.at {
			c.SelectRow(1, 2+(i-v.top)*resultRows, c.Width-2, 2)
		}
	}
}

func (v View) drawResult(c screen.Canvas, y int, ran *progress.Run, r *run.Result, common screen.Shared, newest bool) {
	t := c.Theme
	group, name := leg.GroupAndName(r.ID)
	colour := t.Outcome(r.Outcome)
	if r.Flaky {
		colour = t.Amber
	}
	c.Text(2, y, screen.Style{Colour: colour, Bold: true}, r.Outcome.Shape())
	c.Text(5, y, screen.Style{Colour: t.Fog}, history.Clock(max(0, r.Ended.Sub(ran.Began).Seconds())))
	room := c.Width - 2
	if machine := ran.MachineOf(r); machine != "" {
		machine = screen.Cut(machine, 16)
		room = c.Width - 4 - screen.Width(machine)
		c.Right(c.Width-2, y, screen.Style{Colour: t.Water}, machine)
	} else if newest {
		room = c.Width - 10
		c.Right(c.Width-2, y, screen.Style{Colour: t.Water}, "newest")
	}
	x := c.Text(resultLeft, y, screen.Style{Colour: t.Fog}, screen.CutGroup(group, groupRoom))
	c.Text(x+1, y, screen.Style{Colour: t.Ink, Bold: true}, common.Cut(name, room-x-1))
	past := ""
	if c.Width > 50 && r.Outcome.Bad() {
		past = v.pastWords(r.ID)
		c.Right(c.Width-2, y+1, screen.Style{Colour: t.Fog}, past)
	}
	message := plain.Line(r.Message)
	if message == "" {
		message = fmt.Sprintf("%s in %s", r.Outcome, history.Short(r.Seconds))
	}
	c.Text(resultLeft, y+1, screen.Style{Colour: colour}, screen.Cut(message, c.Width-resultLeft-3-screen.Width(past)))
}

// pastWords says how often a test failed before.
func (v View) pastWords(id string) string {
	past := v.Run.Past(id)
	n := 0
	for _, o := range past {
		if o.Bad() {
			n++
		}
	}
	if n == 0 {
		return "first time"
	}
	return fmt.Sprintf("%d of %d before", n, len(past))
}
