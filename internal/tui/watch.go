package tui

import (
	"cmp"
	"fmt"
	"image/color"
	"math"
	"path"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/outcome"
	"fernrelay/internal/report"
)

// watch shows a run: a track a worker on one time axis, the results as they land,
// and what there is to know of the one under the cursor.
type watch struct {
	session  *session
	filter   filter
	list     []*outcome.Result // what the filter holds, the oldest first
	taken    int               // how many of the run's results the filter has seen
	at       int               // of the list, 0 is the newest
	seen     int               // how many there were when at was set
	top      int
	detail   bool // on a narrow screen, the detail lies over the list
	unfolded bool // all steps are shown
	listTop  int  // row where the list begins, for clicks
	source   source
	onChange bool // changed files run what they touch
	follows  bool // the runs of other processes are shown
}

// filter says which results are listed.
type filter struct{ show, group, text string }

// What a filter may show.
const (
	showFailed  = "failed"
	showOdd     = "unstable, owed, surprise"
	showSkipped = "skipped, lost"
	showAll     = "done"
)

var shows = []string{showFailed, showOdd, showSkipped, showAll}

func (f filter) holds(r *outcome.Result) bool {
	shown := true
	switch f.show {
	case showFailed:
		shown = r.Outcome.Bad()
	case showOdd:
		shown = r.Unstable || r.Outcome == outcome.Owed || r.Outcome == outcome.Surprise
	case showSkipped:
		shown = r.Outcome == outcome.Skipped || r.Outcome == outcome.Lost
	}
	if !shown || f.group == "" && f.text == "" {
		return shown
	}
	group, _ := groupAndName(r.ID)
	return strings.Contains(group, f.group) && (strings.Contains(r.ID, f.text) || strings.Contains(r.Message, f.text))
}

// words tells what is listed.
func (f filter) words() string {
	words := f.show
	if f.group != "" {
		words += " in " + f.group
	}
	if f.text != "" {
		words += fmt.Sprintf(" with %q", f.text)
	}
	return words
}

// source is the lines of a file around the place of a failure, read once.
type source struct {
	file  string
	line  int
	first int
	lines []string
}

var watchKeys = struct {
	panel, edit, again, all, hunt, cancel, move, filter, narrow, hold, onChange, unfold key.Binding
}{
	panel:    keyPanel,
	edit:     key.NewBinding(key.WithKeys("e"), key.WithHelp("e", "editor")),
	again:    key.NewBinding(key.WithKeys("r"), key.WithHelp("r", "run again")),
	all:      key.NewBinding(key.WithKeys("R"), key.WithHelp("R", "all failed")),
	hunt:     key.NewBinding(key.WithKeys("h"), key.WithHelp("h", "hunt")),
	cancel:   key.NewBinding(key.WithKeys("x"), key.WithHelp("x", "end it")),
	move:     key.NewBinding(key.WithHelp("↑↓", "results")),
	filter:   key.NewBinding(key.WithKeys("f"), key.WithHelp("f", "filter")),
	narrow:   key.NewBinding(key.WithKeys("F"), key.WithHelp("F", "by group, text")),
	hold:     key.NewBinding(key.WithKeys("space"), key.WithHelp("space", "hold")),
	onChange: key.NewBinding(key.WithKeys("c"), key.WithHelp("c", "on change")),
	unfold:   key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "steps")),
}

// reset begins anew with another run; what is filtered stays.
func (v *watch) reset() {
	v.list, v.taken, v.at, v.top, v.seen, v.unfolded = nil, 0, 0, 0, 0, false
	if v.filter.show == "" {
		v.filter.show = showFailed
	}
}

// setFilter lists other results of the run.
func (v *watch) setFilter(f filter) {
	v.filter = f
	v.reset()
}

// catchUp lists what has landed since.
func (v *watch) catchUp() {
	run := v.session.run
	for ; v.taken < len(run.results); v.taken++ {
		if r := run.results[v.taken]; v.filter.holds(r) {
			v.list = append(v.list, r)
		}
	}
	if v.at > 0 { // stay on the one that is looked at while others land above it
		v.at += len(v.list) - v.seen
	}
	v.seen = len(v.list)
	v.at = max(0, min(v.at, len(v.list)-1))
}

func (v *watch) name() string { return "Watch" }

func (v *watch) figure() (string, bool) {
	run := v.session.run
	if run == nil {
		return "–", false
	}
	progress := fmt.Sprintf("%d/%d", run.run.Done(), run.total)
	if len(run.bad) > 0 {
		return fmt.Sprintf("▲%d %s", len(run.bad), progress), true
	}
	return progress, false
}

func (v *watch) keys() []key.Binding {
	k := watchKeys
	return []key.Binding{k.hunt, k.move, k.edit, k.again, k.all, k.cancel, k.hold, k.filter, k.narrow, k.unfold, k.onChange, k.panel}
}

func (v *watch) press(msg tea.KeyPressMsg) action {
	run := v.session.run
	switch {
	case key.Matches(msg, watchKeys.onChange):
		v.onChange = !v.onChange
		if v.onChange {
			return action{say: "on change: saving a file runs the picked tests that it touches; c ends that"}
		}
		return action{say: "changed files run nothing any more"}
	case key.Matches(msg, watchKeys.panel):
		v.detail = !v.detail
	case run == nil && key.Matches(msg, watchKeys.again):
		return v.session.runPick()
	}
	if run == nil {
		return action{}
	}
	v.catchUp()
	switch {
	case key.Matches(msg, watchKeys.cancel):
		return v.stop(run)
	case key.Matches(msg, watchKeys.hold):
		return v.hold(run)
	case key.Matches(msg, watchKeys.filter):
		next := (slices.Index(shows, v.filter.show) + 1) % len(shows)
		v.setFilter(filter{show: shows[next], group: v.filter.group, text: v.filter.text})
		return action{}
	case key.Matches(msg, watchKeys.narrow):
		return action{sheet: v.filterSheet()}
	case key.Matches(msg, watchKeys.all) && len(run.bad) > 0:
		return action{run: v.session.relay.WithNeeds(v.tests(run.bad))}
	}
	return v.pressResult(msg, v.current())
}

// pressResult takes a key that goes by the result under the cursor, nil for none.
func (v *watch) pressResult(msg tea.KeyPressMsg, r *outcome.Result) action {
	if r == nil {
		if key.Matches(msg, watchKeys.again) {
			return v.session.runPick()
		}
		return action{}
	}
	one := v.tests([]*outcome.Result{r})
	switch {
	case key.Matches(msg, watchKeys.hunt):
		return action{hunt: one}
	case key.Matches(msg, watchKeys.again):
		return action{run: v.session.relay.WithNeeds(one)}
	case key.Matches(msg, watchKeys.edit):
		return action{edit: place{r.File, r.Line}}
	case key.Matches(msg, watchKeys.unfold):
		v.unfolded = !v.unfolded
		return action{}
	}
	v.at = moved(v.at, msg.String(), len(v.list))
	return action{}
}

func (v *watch) stop(run *liveRun) action {
	switch {
	case run.ended:
		return action{}
	case run.cancel == nil:
		return action{say: "this run belongs to another process: end it there"}
	}
	run.stop()
	if run.stopping {
		return action{say: "what runs comes to its end, nothing new begins; x again stops at once"}
	}
	return action{}
}

func (v *watch) hold(run *liveRun) action {
	switch {
	case run.ended:
		return action{}
	case run.cancel == nil:
		return action{say: "this run belongs to another process"}
	}
	run.hold()
	if run.held {
		return action{say: "held: workers go on with what they have taken and take nothing new; space lets them go on"}
	}
	return action{say: "workers take what comes next"}
}

// filterSheet asks for a part of the groups and of the texts that are listed.
func (v *watch) filterSheet() *sheet {
	return &sheet{
		title: "List only results of some groups, or with a text",
		rows: []sheetRow{newText("group", v.filter.group, "a part of its name; empty for any"),
			newText("text", v.filter.text, "a part of the test's name or of its message; empty for any")},
		done: func(sh *sheet) tea.Cmd {
			f := filter{show: v.filter.show, group: strings.TrimSpace(sh.choice("group")), text: strings.TrimSpace(sh.choice("text"))}
			return func() tea.Msg { return filterMsg(f) }
		},
	}
}

// newest gives the result that stands so many places behind the newest of the list.
func (v *watch) newest(at int) *outcome.Result { return v.list[len(v.list)-1-at] }

// tests gives the tests of results.
func (v *watch) tests(results []*outcome.Result) []catalog.Test {
	var tests []catalog.Test
	for _, r := range results {
		if t, ok := v.session.picked.Catalog.Lookup(r.ID); ok {
			tests = append(tests, *t)
		}
	}
	return tests
}

// current gives the result under the cursor, nil where nothing is listed.
func (v *watch) current() *outcome.Result {
	if v.session.run == nil || len(v.list) == 0 {
		return nil
	}
	return v.newest(v.at)
}

func (v *watch) click(_, y int) {
	if y >= v.listTop && len(v.list) > 0 {
		v.at = min(v.top+(y-v.listTop)/resultRows, len(v.list)-1)
	}
}

func (v *watch) draw(c canvas) {
	run := v.session.run
	if run == nil {
		v.drawIdle(c)
		return
	}
	v.catchUp()
	v.drawCounts(c, run)
	rows, air := 2, 1
	switch {
	case c.height < 4+3*len(run.tracks)+14:
		rows, air = 1, 0
	case len(run.tracks) > 6:
		rows, air = 1, 1
	}
	shown := min(len(run.tracks), max(2, (c.height-12)/(rows+air)))
	v.drawTracks(c.sub(0, 2, c.width, shown*(rows+air)+2), run, shown, rows, air)
	y := 2 + shown*(rows+air) + 3
	half := c.width * 9 / 20
	if c.width < wideScreen {
		half = c.width
	}
	if half == c.width && v.detail {
		v.drawDetail(c.sub(2, y, c.width-4, c.height-y))
		return
	}
	v.drawResults(c.sub(0, y, half, c.height-y), run)
	v.listTop = y + 2
	if half < c.width {
		v.drawDetail(c.sub(half+2, y, c.width-half-3, c.height-y))
	}
}

func (v *watch) drawIdle(c canvas) {
	t := c.theme
	words := "Nothing runs yet."
	if v.follows {
		words = "No run goes on in this project. One that begins in another terminal shows here."
	}
	c.text(2, 1, style{t.ink, true}, words)
	c.text(2, 3, style{colour: t.fog}, fmt.Sprintf("r runs the pick: %d tests on %s, about %s",
		len(v.session.picked.tests), report.Plural(v.session.workers(), "worker"), history.Clock(v.session.plan().Finish)))
}

func (v *watch) drawCounts(c canvas, run *liveRun) {
	t := c.theme
	x := c.text(2, 1, style{t.ink, true}, fmt.Sprintf("%d of %d", run.run.Done(), run.total))
	for _, o := range outcome.All {
		if n := run.run.Counts[o]; n > 0 {
			words := fmt.Sprintf("%s %d %s", o.Shape(), n, o)
			if c.width < wideScreen {
				words = fmt.Sprintf("%s %d", o.Shape(), n)
			}
			x = c.text(x+3, 1, style{colour: t.outcome(o)}, words)
		}
	}
	if run.unstable > 0 {
		x = c.text(x+3, 1, style{colour: t.amber}, fmt.Sprintf("%d unstable", run.unstable))
	}
	v.drawEnd(c, run, x+5)
}

// drawEnd says when the run should end, or how it ended.
func (v *watch) drawEnd(c canvas, run *liveRun, x int) {
	t := c.theme
	fog, ink := style{colour: t.fog}, style{t.ink, true}
	say := func(look style, words string) {
		if x+width(words) < c.width {
			x = c.text(x, 1, look, words)
		}
	}
	switch {
	case run.ended && run.run.Counts[outcome.Lost] > 0:
		say(style{colour: t.amber}, "interrupted at "+history.Clock(run.now))
	case run.ended:
		say(fog, "took ")
		say(ink, history.ClockTenths(run.now))
		if run.planned > 0 {
			say(fog, "   planned "+history.ClockTenths(run.planned))
		}
		if run.work > run.now {
			say(fog, fmt.Sprintf("   alone %s: %.1f ×", history.Clock(run.work), run.work/run.now))
		}
		if len(run.tracks) > 1 {
			say(fog, "   spread "+history.Short(run.spread()))
		}
		if run.steps > 0 {
			say(fog, fmt.Sprintf("   %d steps", run.steps))
		}
	case !run.first:
		say(style{colour: t.water}, fmt.Sprintf("%s, %s", cmp.Or(outcome.PlainLine(run.made), "making ready"), history.Clock(run.waited)))
	default:
		say(fog, "ends in ")
		say(ink, history.Clock(run.ahead.end-run.now))
		switch doubt := run.ahead.doubt; {
		case doubt >= 1:
			say(ink, fmt.Sprintf(" ± %.0f", doubt))
		case doubt >= 0.05:
			say(ink, fmt.Sprintf(" ± %.1f", doubt))
		}
		v.drawLate(c, run, say)
	}
}

// late is how many seconds behind or ahead are told.
const late = 0.5

// drawLate says how the run keeps to its plan.
func (v *watch) drawLate(c canvas, run *liveRun, say func(look style, words string)) {
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
		say(style{colour: t.amber}, "   coming to its end")
	case run.held:
		say(style{colour: t.amber}, "   held")
	}
	if v.onChange {
		say(style{colour: t.water}, "   on change")
	}
}

// drawTracks draws the workers on one time axis: what is done to scale in the
// colours of the outcomes, what runs up to now, what is planned pale behind it.
func (v *watch) drawTracks(c canvas, run *liveRun, shown, rows, air int) {
	t := c.theme
	const left = 11
	end := run.ahead.end
	if run.ended {
		end = run.now
	}
	end = max(end, 1)
	span := c.width - left - 2
	axis := axis{left: left, span: span, scale: float64(span) / end}
	axis.draw(c, end)
	for w := range shown {
		y := 1 + w*(rows+air)
		track := &run.tracks[w]
		c.text(2, y, style{colour: t.fog}, fmt.Sprintf("worker %d", w+1))
		if rows > 1 {
			drawEarly(c, y+1, run, w)
		}
		if !run.ended {
			drawAhead(c, axis, y, rows, run.ahead.tracks[w], track.batch >= 0)
		}
		v.drawDone(c, axis, track, y, rows)
		if track.running != "" && !run.ended {
			colour := t.water
			if track.slow(run) {
				colour = t.amber
			}
			axis.fill(c, y, rows, track.since, run.now, colour, 0.6)
			v.nameRunning(c, axis, y, track, run.now)
		}
	}
	if !run.ended {
		now := axis.at(run.now)
		for y := range shown * (rows + air) {
			c.text(now, 1+y, style{t.leaf, true}, "│")
		}
		c.text(now-1, 1+shown*(rows+air), style{colour: t.leaf}, "now")
	}
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

// drawAhead draws what should come, of which the first is at work.
func drawAhead(c canvas, a axis, y, rows int, ahead []planned, atWork bool) {
	last := -1
	for i, p := range ahead {
		if a.at(p.to) == last { // it would lie in a cell that is drawn
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

func (v *watch) nameRunning(c canvas, a axis, y int, track *track, now float64) {
	from, to := a.at(track.since), a.at(now)
	if to-from > 4 {
		c.text(from+1, y, style{colour: c.theme.ink}, cut(report.Name(track.running), to-from-1))
	}
}

// drawDone draws what a worker has done, a cell a time: however many tests there
// are, each cell looks up the one that ran at its time, and whether a bad one
// lies in it.
func (v *watch) drawDone(c canvas, a axis, track *track, y, rows int) {
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
		case p.outcome != outcome.Passed:
			colour = t.outcome(p.outcome)
		}
		c.fill(x, y, 1, rows, colour, amount)
		if isBad && a.at(bad.from) == x {
			c.text(x, y, style{t.ink, true}, bad.outcome.Shape())
		}
	}
}

// pieceAt finds the first piece that lies in a time.
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

// axis places seconds on columns.
type axis struct {
	left, span int
	scale      float64 // columns a second
}

func (a axis) at(seconds float64) int  { return a.left + int(math.Floor(seconds*a.scale)) }
func (a axis) time(column int) float64 { return float64(column-a.left) / a.scale }

// fill fills the columns that begin in a time, without the last, so that
// neighbours stand apart.
func (a axis) fill(c canvas, y, rows int, from, to float64, colour color.Color, amount float64) {
	x, end := a.at(from), min(a.at(to), a.left+a.span)
	if end-x > 2 {
		end--
	}
	c.fill(x, y, max(end-x, 1), rows, colour, amount)
}

// draw writes round times above the tracks.
func (a axis) draw(c canvas, end float64) {
	step := 1.0
	for _, s := range []float64{1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 3600, 3 * 3600} {
		if step = s; s*a.scale >= 12 {
			break
		}
	}
	for at := 0.0; at <= end && a.at(at)+4 < c.width; at += step {
		c.text(a.at(at), 0, style{colour: c.theme.faint()}, history.Clock(at))
	}
}

// resultRows is how many rows a result takes in the list.
const resultRows = 3

func (v *watch) drawResults(c canvas, run *liveRun) {
	t := c.theme
	if len(v.list) == 0 {
		words := "nothing is " + v.filter.words()
		if !run.ended {
			words += " yet"
		}
		c.text(2, 0, style{colour: t.fog}, cut(outcome.PlainLine(words), c.width-2))
		return
	}
	c.text(2, 0, style{colour: t.fog}, cut(fmt.Sprintf("%s, newest first", outcome.PlainLine(v.filter.words())), c.width-12))
	c.right(c.width-2, 0, style{colour: t.fog}, fmt.Sprint(len(v.list)))
	shown := max(1, (c.height-2)/resultRows)
	v.top = follow(v.top, v.at, shown, len(v.list))
	for i := v.top; i < min(len(v.list), v.top+shown); i++ {
		v.drawResult(c, 2+(i-v.top)*resultRows, run, v.newest(i), i == 0 && !run.ended)
		if i == v.at {
			c.selectRow(1, 2+(i-v.top)*resultRows, c.width-2, 2)
		}
	}
}

func (v *watch) drawResult(c canvas, y int, run *liveRun, r *outcome.Result, newest bool) {
	t := c.theme
	group, name := groupAndName(r.ID)
	colour := t.outcome(r.Outcome)
	if r.Unstable {
		colour = t.amber
	}
	c.text(2, y, style{colour, true}, r.Outcome.Shape())
	c.text(5, y, style{colour: t.fog}, history.Clock(max(0, r.Ended.Sub(run.began).Seconds())))
	room := c.width - 2
	if newest {
		room = c.width - 10
		c.right(c.width-2, y, style{colour: t.water}, "newest")
	}
	x := c.text(11, y, style{colour: t.fog}, cut(group, 26))
	c.text(x+1, y, style{t.ink, true}, cut(name, room-x-1))
	past := ""
	if c.width > 50 && r.Outcome.Bad() {
		past = v.pastWords(r.ID)
		c.right(c.width-2, y+1, style{colour: t.fog}, past)
	}
	message := outcome.PlainLine(r.Message)
	if message == "" {
		message = fmt.Sprintf("%s in %s", r.Outcome, history.Short(r.Seconds))
	}
	c.text(11, y+1, style{colour: colour}, cut(message, c.width-14-width(past)))
}

// pastWords says how often a test failed before.
func (v *watch) pastWords(id string) string {
	past := v.session.run.past(id)
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

func (v *watch) drawDetail(c canvas) {
	t, r := c.theme, v.current()
	if r == nil {
		return
	}
	group, name := groupAndName(r.ID)
	at := ""
	if r.File != "" {
		at = fmt.Sprintf("%s:%d", outcome.PlainLine(r.File), r.Line)
	}
	c.right(c.width, 0, style{colour: t.water}, cut(at, c.width/2))
	x := c.text(0, 0, style{colour: t.fog}, cut(group, c.width/3))
	c.text(x+1, 0, style{t.ink, true}, cut(name, c.width-x-3-width(at)))
	y := 2
	switch {
	case r.Expected != "" || r.Actual != "":
		y = drawDifference(c, y, outcome.Align(outcome.Plain(r.Expected), outcome.Plain(r.Actual)))
	case r.Message != "":
		lines := wrap(outcome.Plain(r.Message), c.width)
		for _, line := range lines[:min(3, len(lines))] {
			c.text(0, y, style{colour: t.outcome(r.Outcome)}, line)
			y++
		}
		y++
	}
	y = v.drawSteps(c, y, r)
	if v.unfolded && len(r.Steps) > 0 {
		return
	}
	y = v.drawSource(c, y, r)
	y = drawOutput(c, y, r)
	v.drawBefore(c, y, r)
}

// differenceRows bounds how many lines of a comparison are shown on each side.
const differenceRows = 4

// drawDifference shows the sides of a comparison one above the other, from the first
// line that differs on, with what differs marked.
func drawDifference(c canvas, y int, sides []outcome.Sides) int {
	t := c.theme
	first := max(0, slices.IndexFunc(sides, func(s outcome.Sides) bool { return !s.Same() }))
	shown := sides[first:min(len(sides), first+differenceRows)]
	label := func(y, i int, words string) {
		switch {
		case i == 0:
			c.text(0, y, style{colour: t.fog}, words)
		case i == 1 && first > 0:
			c.right(8, y, style{colour: t.faint()}, fmt.Sprintf("line %d", first+2))
		}
	}
	for i, s := range shown {
		label(y, i, "expected")
		drawSpans(c, y, s.Expected, t.leaf)
		y++
	}
	for i, s := range shown {
		label(y, i, "actual")
		drawSpans(c, y, s.Actual, t.rust)
		y++
	}
	if more := len(sides) - first - len(shown); more > 0 {
		c.text(10, y, style{colour: t.faint()}, fmt.Sprintf("… %s more", report.Plural(more, "line")))
		y++
	}
	return y + 1
}

// drawSpans shows a line with what differs marked, and in view.
func drawSpans(c canvas, y int, spans []outcome.Span, colour color.Color) {
	t := c.theme
	const left = 10
	skip := 0 // cells at the front, so that the first that differs is in view
	for _, s := range spans {
		if s.Differs {
			break
		}
		skip += width(s.Text)
	}
	skip = max(0, skip-(c.width-left)*2/3)
	x := left
	if skip > 0 {
		x = c.text(x, y, style{colour: t.faint()}, "…")
	}
	for _, s := range spans {
		text := s.Text
		if n := min(skip, width(text)); n > 0 {
			skip -= n
			text = ansi.TruncateLeft(text, n, "")
		}
		text = cut(text, c.width-x)
		look := style{colour: t.ink}
		if s.Differs {
			look.bold = true
			if !t.shades {
				c.fill(x, y, width(text), 1, colour, 0.6)
			}
		}
		x = c.text(x, y, look, text)
	}
}

// stepsFolded is how many failing steps are shown while the steps are folded.
const stepsFolded = 3

// drawSteps shows the steps of a test: folded those that failed, with their lines,
// unfolded all, with the first that failed in view.
func (v *watch) drawSteps(c canvas, y int, r *outcome.Result) int {
	t := c.theme
	if len(r.Steps) == 0 {
		return y
	}
	var bad []int
	for i, s := range r.Steps {
		if s.Outcome.Bad() {
			bad = append(bad, i)
		}
	}
	words := report.Plural(len(r.Steps), "step")
	if len(bad) > 0 {
		words += fmt.Sprintf(", %d failed", len(bad))
	}
	hint := "enter unfolds"
	if v.unfolded {
		hint = "enter folds"
	}
	c.text(c.text(0, y, style{colour: t.fog}, words)+2, y, style{colour: t.faint()}, hint)
	y++
	if v.unfolded {
		rows := max(1, c.height-y)
		top := 0
		if len(bad) > 0 {
			top = max(0, min(bad[0]-rows/2, len(r.Steps)-rows))
		}
		for i := top; i < min(len(r.Steps), top+rows); i++ {
			drawStep(c, y, &r.Steps[i])
			y++
		}
		return y + 1
	}
	for _, i := range bad[:min(len(bad), stepsFolded)] {
		drawStep(c, y, &r.Steps[i])
		y++
	}
	return y + 1
}

func drawStep(c canvas, y int, s *outcome.Step) {
	t := c.theme
	at := history.Short(s.Seconds)
	if s.File != "" {
		at = fmt.Sprintf("%s:%d", path.Base(outcome.PlainLine(s.File)), s.Line)
	}
	c.text(2, y, style{t.outcome(s.Outcome), true}, s.Outcome.Shape())
	c.right(c.width, y, style{colour: t.fog}, at)
	x := c.text(4, y, style{colour: t.ink}, cut(outcome.PlainLine(s.Name), max(10, c.width/2)))
	c.text(x+2, y, style{colour: t.outcome(s.Outcome)}, cut(outcome.PlainLine(s.Message), c.width-x-4-width(at)))
}

// drawSource shows the lines around the place of the failure.
func (v *watch) drawSource(c canvas, y int, r *outcome.Result) int {
	t := c.theme
	v.read(r)
	if len(v.source.lines) == 0 || c.height-y < 8 {
		return y
	}
	for i, line := range v.source.lines {
		number := v.source.first + i
		look := style{colour: t.fog}
		if number == r.Line {
			look.colour = t.ink
			c.text(5, y, style{colour: t.rust}, "▸")
		}
		c.right(4, y, style{colour: t.faint()}, fmt.Sprint(number))
		c.text(8, y, look, cut(line, c.width-8))
		y++
	}
	return y + 1
}

// read reads the lines around the place of a failure, once for each place.
func (v *watch) read(r *outcome.Result) {
	if v.source.file == r.File && v.source.line == r.Line {
		return
	}
	v.source = source{file: r.File, line: r.Line}
	if r.File == "" || r.Line == 0 {
		return
	}
	data, err := v.session.relay.Project.ReadSource(r.File)
	if err != nil {
		return // the place alone must do
	}
	lines := strings.Split(outcome.Plain(string(data)), "\n")
	first, last := max(1, r.Line-2), min(len(lines), r.Line+1)
	if first <= last {
		v.source.first, v.source.lines = first, lines[first-1:last]
	}
}

// outputRows is how much of the output is shown at most.
const outputRows = 6

// drawOutput shows what the test printed around the line that names the place of the
// failure, or the end of it.
func drawOutput(c canvas, y int, r *outcome.Result) int {
	room := min(outputRows, c.height-y-5)
	output := strings.TrimSpace(outcome.Plain(string(r.Output[max(0, len(r.Output)-16<<10):])))
	if output == "" || room < 2 {
		return y
	}
	lines := strings.Split(output, "\n")
	failing := failingLine(lines, r)
	top := max(0, len(lines)-room)
	if failing >= 0 {
		top = max(0, min(top, failing-room/2))
	}
	for i, line := range lines[top:min(len(lines), top+room)] {
		look := style{colour: c.theme.fog}
		if top+i == failing {
			look.colour = c.theme.ink
		}
		c.text(0, y, look, cut("│ "+line, c.width))
		y++
	}
	return y + 1
}

// failingLine finds the line of an output that names the place of the failure, or
// begins as its message does; -1 where none does.
func failingLine(lines []string, r *outcome.Result) int {
	if r.File != "" {
		at := fmt.Sprintf("%s:%d", path.Base(r.File), r.Line)
		if i := slices.IndexFunc(lines, func(line string) bool { return strings.Contains(line, at) }); i >= 0 {
			return i
		}
	}
	message, _, _ := strings.Cut(outcome.Plain(r.Message), "\n")
	if message == "" {
		return -1
	}
	return slices.IndexFunc(lines, func(line string) bool { return strings.Contains(line, message) })
}

// drawBefore says what ran before the failure on its worker, and offers the hunt.
func (v *watch) drawBefore(c canvas, y int, r *outcome.Result) {
	t := c.theme
	if r.Worker == 0 || y >= c.height {
		return
	}
	before := v.session.run.before(r)
	n := len(before)
	var last []string
	for _, id := range before[max(0, n-3):] {
		last = append(last, report.Name(id))
	}
	past := v.session.run.past(r.ID)
	c.text(0, y, style{colour: t.fog}, "past")
	if len(past) == 0 {
		c.text(10, y, style{colour: t.fog}, "this was the first run that is kept")
	}
	drawPast(c, 10, y, past, min(len(past), 20))
	c.text(0, y+1, style{colour: t.fog}, cut(fmt.Sprintf("before it %s on worker %d, the last:", report.Plural(n, "test"), r.Worker), c.width))
	c.text(10, y+2, style{colour: t.ink}, cut(strings.Join(last, ", "), c.width-10))
	if n > 0 && r.Outcome.Bad() {
		c.text(0, y+4, style{colour: t.orchid}, cut(fmt.Sprintf("h hunts it: about %d halvings of what ran before it", int(math.Ceil(math.Log2(float64(n+1))))), c.width))
	}
}

// wrap breaks a text into lines of at most so many cells.
func wrap(text string, cells int) []string {
	return strings.Split(ansi.Wrap(strings.TrimSpace(text), cells, ""), "\n")
}
