package tui

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/report"
)

func (v watch) drawCounts(c canvas, r *liveRun) {
	t := c.theme
	x := c.text(2, 1, style{t.ink, true}, fmt.Sprintf("%d of %d", r.run.Done(), r.total))
	for _, o := range run.Outcomes {
		if n := r.run.Counts[o]; n > 0 {
			words := fmt.Sprintf("%s %d %s", o.Shape(), n, o)
			if c.width < wideScreen {
				words = fmt.Sprintf("%s %d", o.Shape(), n)
			}
			x = c.text(x+3, 1, style{colour: t.outcome(o)}, words)
		}
	}
	if n := r.run.Counts[run.Beyond]; n > 0 {
		words := fmt.Sprintf("%s %d beyond the tests", run.Errored.Shape(), n)
		if c.width < wideScreen {
			words = fmt.Sprintf("%s %d beyond", run.Errored.Shape(), n)
		}
		x = c.text(x+3, 1, style{colour: t.outcome(run.Errored)}, words)
	}
	if r.flaky > 0 {
		x = c.text(x+3, 1, style{colour: t.amber}, fmt.Sprintf("%d flaky", r.flaky))
	}
	v.drawEnd(c, r, x+5)
}

// drawEnd says when the run should end, or how it ended.
func (v watch) drawEnd(c canvas, r *liveRun, x int) {
	t := c.theme
	fog, ink := style{colour: t.fog}, style{t.ink, true}
	say := func(look style, words string) {
		if x+width(words) < c.width {
			x = c.text(x, 1, look, words)
		}
	}
	switch {
	case r.ended && r.incomplete:
		say(style{colour: t.amber}, "interrupted at "+history.Clock(r.now))
	case r.ended:
		say(fog, "took ")
		say(ink, history.ClockTenths(r.now))
		if r.planned > 0 {
			say(fog, "   planned "+history.ClockTenths(r.planned))
		}
		if alone, estimated := r.aloneWords(); alone > r.now && len(r.tracks) > 1 && (r.planned > 0 || estimated == "") {
			say(fog, fmt.Sprintf("   alone %s%s: %.1f ×", history.Clock(alone), estimated, alone/r.now))
		}
		if len(r.tracks) > 1 {
			say(fog, "   spread "+history.Short(r.spread()))
		}
		if r.steps > 0 {
			say(fog, fmt.Sprintf("   %d steps", r.steps))
		}
		if r.behind != "" {
			say(fog, "   "+r.behind)
		}
	case !r.first:
		say(style{colour: t.water}, fmt.Sprintf("%s, %s", cmp.Or(plain.Line(r.prepared), "preparing"), history.Clock(r.waited)))
	case r.ahead.end-r.now < soon:
		say(fog, "about to end")
		v.drawLate(c, r, say)
	default:
		say(fog, "ends in ")
		say(ink, history.Clock(r.ahead.end-r.now))
		switch doubt := r.ahead.doubt; {
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
func (v watch) drawLate(c canvas, run *liveRun, say func(look style, words string)) {
	t := c.theme
	if run.planned > 0 {
		switch behind := run.ahead.end - run.planned; {
		case behind > late:
			say(style{colour: t.amber}, fmt.Sprintf("   %s behind the plan", history.Short(behind)))
		case behind < -late:
			say(style{colour: t.leaf}, fmt.Sprintf("   %s ahead of the plan", history.Short(-behind)))
		default:
			say(style{colour: t.fog}, "   on plan")
		}
	}
	onTime := 0
	for _, early := range run.ahead.early {
		if early >= -late {
			onTime++
		}
	}
	if words := fmt.Sprintf("%d of %d workers on time", onTime, len(run.tracks)); run.planned > 0 {
		say(style{colour: t.fog}, "   "+words)
	}
	switch {
	case run.stopping:
		say(style{colour: t.amber}, "   finishing")
	case run.held:
		say(style{colour: t.amber}, "   held")
	}
	if v.onChange {
		say(style{colour: t.water}, "   on change")
	}
}

// drawTracks draws the workers on one time axis: the past to scale in the colours of the outcomes, the present up
// to now, the planned batches pale after it.
func (v watch) drawTracks(c canvas, run *liveRun, p watchPlaces) {
	t := c.theme
	axis := axisOf(run, 11, c.width)
	axis.draw(c, run.end())
	for w := range p.tracks {
		y, rows := 1+w*(p.rows+p.air), p.rows
		c.text(2, y, style{colour: t.fog}, fmt.Sprintf("worker %d", w+1))
		if rows > 1 {
			drawEarly(c, y+1, run, w)
		}
		v.drawTrack(c, axis, run, w, y, rows)
	}
	if !run.ended {
		now := axis.at(run.now)
		for y := range p.tracks * (p.rows + p.air) {
			c.text(now, 1+y, style{t.leaf, true}, "│")
		}
		c.text(now-1, 1+p.tracks*(p.rows+p.air), style{colour: t.leaf}, "now")
	}
}

// axisOf returns the time axis of a run, right of some columns.
func axisOf(l *liveRun, left, width int) axis {
	span := width - left - 2
	return axis{left: left, span: span, scale: float64(span) / l.end()}
}

// drawTrack draws what a worker did, does and is to do.
func (v watch) drawTrack(c canvas, a axis, run *liveRun, w, y, rows int) {
	t, track := c.theme, &run.tracks[w]
	if !run.ended && w < len(run.ahead.tracks) {
		drawAhead(c, a, y, rows, run.ahead.tracks[w], track.batch >= 0)
	}
	v.drawDone(c, a, track, y, rows)
	if track.running == "" || run.ended {
		return
	}
	colour := t.water
	if track.slow(run) {
		colour = t.amber
	}
	a.fill(c, y, rows, track.since, run.now, colour, 0.6)
	v.nameRunning(c, a, y, track, run.now)
}

// drawEarly says how far a worker is ahead of what was expected of it, or behind.
func drawEarly(c canvas, y int, run *liveRun, w int) {
	if !run.first || run.planned == 0 || run.ended {
		return
	}
	early, look := math.Round(10*run.ahead.early[w])/10, style{colour: c.theme.faint()}
	if early < -late {
		look.colour = c.theme.amber
	}
	c.text(2, y, look, fmt.Sprintf("%+.1f s", early+0)) // never -0
}

// drawAhead draws the batches that are expected, the first of which is running.
func drawAhead(c canvas, a axis, y, rows int, ahead []planned, atWork bool) {
	last := -1
	for i, p := range ahead {
		if a.at(p.to) == last { // it would be in a cell that is drawn
			continue
		}
		last = a.at(p.to)
		colour, amount := c.theme.fog, 0.16+0.06*float64(i%2)
		if i == 0 && atWork {
			colour, amount = c.theme.water, 0.2
		}
		a.fill(c, y, rows, p.from, p.to, colour, amount)
	}
}

func (v watch) nameRunning(c canvas, a axis, y int, track *track, now float64) {
	from, to := a.at(track.since), a.at(now)
	if to-from > 4 {
		c.text(from+1, y, style{colour: c.theme.ink}, cut(report.Name(track.running), to-from-1))
	}
}

// drawDone draws what a worker has done, cell by cell: however many tests there are, each cell looks up the one
// that ran at its time, and whether there is a bad one in it.
func (v watch) drawDone(c canvas, a axis, track *track, y, rows int) {
	t := c.theme
	if len(track.done) == 0 {
		return
	}
	lastTime := track.done[len(track.done)-1].to
	for x := a.left; x <= a.at(lastTime) && x < a.left+a.span; x++ {
		from, to := a.time(x), a.time(x+1)
		p, ok := pieceAt(track.done, from, to)
		if !ok {
			continue
		}
		colour, amount := t.leaf, 0.42
		if p.odd {
			amount = 0.58
		}
		bad, isBad := pieceAt(track.bad, from, to)
		if i, _ := slices.BinarySearch(track.turns, from); i < len(track.turns) && track.turns[i] < to && !isBad {
			continue // air between batches
		}
		switch {
		case isBad:
			colour, amount = t.rust, 1
		case p.outcome != run.Passed:
			colour = t.outcome(p.outcome)
		}
		c.fill(x, y, 1, rows, colour, amount)
		if isBad && a.at(bad.from) == x {
			c.text(x, y, style{t.ink, true}, bad.outcome.Shape())
		}
	}
}

// pieceAt returns the first piece within a time.
func pieceAt(pieces []piece, from, to float64) (piece, bool) {
	i, _ := slices.BinarySearchFunc(pieces, from, func(p piece, at float64) int {
		if p.to <= at {
			return -1
		}
		return 1
	})
	if i == len(pieces) || pieces[i].from >= to {
		return piece{}, false
	}
	return pieces[i], true
}

const (
	resultRows = 3  // that a result takes in the list
	resultLeft = 11 // column of its group and its message
	groupRoom  = 26 // cells of its group at most
)

// nameOf returns the name of a result's test.
func nameOf(r *run.Result) string {
	_, name := groupAndName(r.ID)
	return name
}

func (v watch) drawResults(c canvas, r *liveRun) {
	t := c.theme
	if len(v.list) == 0 {
		for i, line := range wrap(plain.Line(v.filter.none(r)), c.width-4) {
			c.text(2, i, style{colour: t.fog}, line)
		}
		return
	}
	c.text(2, 0, style{colour: t.fog}, cut(fmt.Sprintf("%s, newest first", plain.Line(v.filter.words())), c.width-12))
	c.right(c.width-2, 0, style{colour: t.fog}, fmt.Sprint(len(v.list)))
	last := min(len(v.list), v.top+resultsShown(c.height))
	var onScreen []*run.Result
	for i := v.top; i < last; i++ {
		onScreen = append(onScreen, v.newest(i))
	}
	common := sharedIn(onScreen, nameOf, c.width-resultLeft-groupRoom-3)
	for i := v.top; i < last; i++ {
		v.drawResult(c, 2+(i-v.top)*resultRows, r, v.newest(i), common, i == 0 && !r.ended)
		if i == v.at {
			c.selectRow(1, 2+(i-v.top)*resultRows, c.width-2, 2)
		}
	}
}

func (v watch) drawResult(c canvas, y int, ran *liveRun, r *run.Result, common shared, newest bool) {
	t := c.theme
	group, name := groupAndName(r.ID)
	colour := t.outcome(r.Outcome)
	if r.Flaky {
		colour = t.amber
	}
	c.text(2, y, style{colour, true}, r.Outcome.Shape())
	c.text(5, y, style{colour: t.fog}, history.Clock(max(0, r.Ended.Sub(ran.began).Seconds())))
	room := c.width - 2
	if machine := ran.machineOf(r); machine != "" {
		machine = cut(machine, 16)
		room = c.width - 4 - width(machine)
		c.right(c.width-2, y, style{colour: t.water}, machine)
	} else if newest {
		room = c.width - 10
		c.right(c.width-2, y, style{colour: t.water}, "newest")
	}
	x := c.text(resultLeft, y, style{colour: t.fog}, cutGroup(group, groupRoom))
	c.text(x+1, y, style{t.ink, true}, common.cut(name, room-x-1))
	past := ""
	if c.width > 50 && r.Outcome.Bad() {
		past = v.pastWords(r.ID)
		c.right(c.width-2, y+1, style{colour: t.fog}, past)
	}
	message := plain.Line(r.Message)
	if message == "" {
		message = fmt.Sprintf("%s in %s", r.Outcome, history.Short(r.Seconds))
	}
	c.text(resultLeft, y+1, style{colour: colour}, cut(message, c.width-resultLeft-3-width(past)))
}

// pastWords says how often a test failed before.
func (v watch) pastWords(id string) string {
	past := v.run.past(id)
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
