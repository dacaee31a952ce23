package tui

import (
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/catalog"
	"fernrelay/core/outcome"
	"fernrelay/core/timing"
	"fernrelay/internal/report"
)

// watch shows a run: a track a worker on one time axis, the failures as they
// land, and what there is to know of the one under the cursor.
type watch struct {
	session *session
	at      int // of the failures, 0 is the newest
	seen    int // how many failures there were when at was set
	top     int
	detail  bool // on a narrow screen, the detail lies over the list
	listTop int  // row where the list begins, for clicks
	source  source
}

// source is the lines of a file around the place of a failure, read once.
type source struct {
	file  string
	line  int
	first int
	lines []string
}

var watchKeys = struct{ panel, edit, again, all, hunt, cancel, move key.Binding }{
	panel:  keyPanel,
	edit:   key.NewBinding(key.WithKeys("e"), key.WithHelp("e", "editor")),
	again:  key.NewBinding(key.WithKeys("r"), key.WithHelp("r", "run it again")),
	all:    key.NewBinding(key.WithKeys("R"), key.WithHelp("R", "run all failed")),
	hunt:   key.NewBinding(key.WithKeys("h"), key.WithHelp("h", "hunt")),
	cancel: key.NewBinding(key.WithKeys("x"), key.WithHelp("x", "cancel")),
	move:   key.NewBinding(key.WithHelp("↑↓", "failures")),
}

func (v *watch) reset() { v.at, v.top, v.seen = 0, 0, 0 }

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
	return []key.Binding{k.hunt, k.panel, k.move, k.edit, k.again, k.all, k.cancel}
}

func (v *watch) press(msg tea.KeyPressMsg) action {
	bad := v.current()
	switch {
	case key.Matches(msg, watchKeys.cancel):
		return action{cancel: true}
	case key.Matches(msg, watchKeys.panel):
		v.detail = !v.detail
	case bad == nil && key.Matches(msg, watchKeys.again):
		return v.session.runPick()
	}
	if bad == nil {
		return action{}
	}
	run, one := v.session.run, v.tests([]*outcome.Result{bad})
	switch {
	case key.Matches(msg, watchKeys.all):
		return action{run: v.session.relay.WithNeeds(v.tests(run.bad))}
	case key.Matches(msg, watchKeys.hunt):
		return action{hunt: one}
	case key.Matches(msg, watchKeys.again):
		return action{run: v.session.relay.WithNeeds(one)}
	case key.Matches(msg, watchKeys.edit):
		return action{edit: place{bad.File, bad.Line}}
	}
	v.at = moved(v.at, msg.String(), len(run.bad))
	return action{}
}

// newest gives the failure that stands so many places behind the newest.
func newest(run *liveRun, at int) *outcome.Result { return run.bad[len(run.bad)-1-at] }

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

func (v *watch) current() *outcome.Result {
	run := v.session.run
	if run == nil || len(run.bad) == 0 {
		return nil
	}
	if v.at > 0 { // stay on the one that is looked at while others land above it
		v.at += len(run.bad) - v.seen
	}
	v.seen = len(run.bad)
	v.at = min(v.at, len(run.bad)-1)
	return newest(run, v.at)
}

func (v *watch) click(_, y int) {
	if run := v.session.run; run != nil && y >= v.listTop && len(run.bad) > 0 {
		v.at = min(v.top+(y-v.listTop)/failureRows, len(run.bad)-1)
	}
}

func (v *watch) draw(c canvas) {
	run := v.session.run
	if run == nil {
		v.drawIdle(c)
		return
	}
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
	v.drawFailures(c.sub(0, y, half, c.height-y), run)
	v.listTop = y + 2
	if half < c.width {
		v.drawDetail(c.sub(half+2, y, c.width-half-3, c.height-y))
	}
}

func (v *watch) drawIdle(c canvas) {
	t := c.theme
	c.text(2, 1, style{t.ink, true}, "Nothing runs yet.")
	c.text(2, 3, style{colour: t.fog}, fmt.Sprintf("r runs the pick: %d tests on %s, about %s",
		len(v.session.picked.tests), report.Plural(v.session.workers(), "worker"), timing.Clock(v.session.plan().Finish)))
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
	fog, ink := style{colour: t.fog}, style{t.ink, true}
	switch _, end := run.ahead(); {
	case run.ended && run.run.Counts[outcome.Lost] > 0:
		c.text(x+5, 1, style{colour: t.amber}, "interrupted at "+timing.Clock(run.now))
	case run.ended:
		x = c.text(c.text(x+5, 1, fog, "ended at "), 1, ink, timing.ClockTenths(run.now))
		if run.planned > 0 && x+30 < c.width {
			x = c.text(x+3, 1, fog, "planned "+timing.ClockTenths(run.planned))
		}
		if run.work > run.now {
			c.text(x+3, 1, fog, fmt.Sprintf("alone %s: %.1f ×", timing.Clock(run.work), run.work/run.now))
		}
	case len(run.run.Results) == 0:
		c.text(x+5, 1, style{colour: t.water}, "making ready")
	default:
		c.text(c.text(x+5, 1, fog, "ends in "), 1, ink, timing.Clock(end-run.now))
	}
}

// drawTracks draws the workers on one time axis: what is done to scale in the
// colours of the outcomes, what runs up to now, what is planned pale behind it.
func (v *watch) drawTracks(c canvas, run *liveRun, shown, rows, air int) {
	t := c.theme
	const left = 11
	ahead, end := run.ahead()
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
		if !run.ended {
			for i, p := range ahead[w] {
				colour, amount := t.fog, 0.16+0.06*float64(i%2)
				if i == 0 && track.batch >= 0 {
					colour, amount = t.water, 0.2
				}
				axis.fill(c, y, rows, p.from, p.to, colour, amount)
			}
		}
		v.drawDone(c, axis, track, y, rows)
		if track.running != "" && !run.ended {
			axis.fill(c, y, rows, track.since, run.now, t.water, 0.6)
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
		c.text(a.at(at), 0, style{colour: c.theme.faint()}, timing.Clock(at))
	}
}

// failureRows is how many rows a failure takes in the list.
const failureRows = 3

func (v *watch) drawFailures(c canvas, run *liveRun) {
	t := c.theme
	if len(run.bad) == 0 {
		words := "no failure yet"
		if run.ended {
			words = "nothing failed"
		}
		c.text(2, 0, style{colour: t.fog}, words)
		return
	}
	c.text(2, 0, style{colour: t.fog}, "failed, newest first")
	shown := max(1, (c.height-2)/failureRows)
	v.current()
	v.top = follow(v.top, v.at, shown, len(run.bad))
	for i := v.top; i < min(len(run.bad), v.top+shown); i++ {
		r := newest(run, i)
		y := 2 + (i-v.top)*failureRows
		group, name := groupAndName(r.ID)
		c.text(2, y, style{t.rust, true}, r.Outcome.Shape())
		c.text(5, y, style{colour: t.fog}, timing.Clock(r.Ended.Sub(run.began).Seconds()))
		x := c.text(11, y, style{colour: t.fog}, cut(group, 26))
		c.text(x+1, y, style{t.ink, true}, cut(name, c.width-x-3))
		c.text(11, y+1, style{colour: t.rust}, cut(outcome.PlainLine(r.Message), c.width-31))
		if past := v.pastWords(r.ID); c.width > 50 {
			c.right(c.width-2, y+1, style{colour: t.fog}, past)
		}
		if i == v.at {
			c.selectRow(1, y, c.width-2, 2)
		}
	}
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
	if r.Expected != "" || r.Actual != "" {
		drawDifference(c, y, outcome.PlainLine(r.Expected), outcome.PlainLine(r.Actual))
		y += 3
	} else {
		lines := wrap(outcome.Plain(r.Message), c.width)
		for _, line := range lines[:min(3, len(lines))] {
			c.text(0, y, style{colour: t.rust}, line)
			y++
		}
		y++
	}
	y = v.drawSource(c, y, r)
	y = v.drawOutput(c, y, r)
	v.drawBefore(c, y, r)
}

// drawDifference shows the two sides of a comparison, with the part in which
// they differ marked.
func drawDifference(c canvas, y int, expected, actual string) {
	t := c.theme
	start, endExpected, endActual := differing(expected, actual)
	side := func(y int, label, text string, end int, colour color.Color) {
		c.text(0, y, style{colour: t.fog}, label)
		x := c.text(10, y, style{colour: t.ink}, cut(text[:start], c.width-10))
		part := cut(text[start:end], c.width-x)
		if !t.shades {
			c.fill(x, y, width(part), 1, colour, 0.6)
		}
		x = c.text(x, y, style{t.ink, true}, part)
		c.text(x, y, style{colour: t.ink}, cut(text[end:], c.width-x))
	}
	side(y, "expected", expected, endExpected, t.leaf)
	side(y+1, "actual", actual, endActual, t.rust)
}

// differing gives where two texts begin to differ and where, in each, they
// begin to be the same again.
func differing(a, b string) (start, endA, endB int) {
	x, y := []rune(a), []rune(b)
	head := 0
	for head < len(x) && head < len(y) && x[head] == y[head] {
		head++
	}
	tail := 0
	for tail < len(x)-head && tail < len(y)-head && x[len(x)-1-tail] == y[len(y)-1-tail] {
		tail++
	}
	return len(string(x[:head])), len(string(x[:len(x)-tail])), len(string(y[:len(y)-tail]))
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
	if r.File == "" || r.Line == 0 || !filepath.IsLocal(filepath.FromSlash(r.File)) {
		return
	}
	data, err := os.ReadFile(filepath.Join(v.session.relay.Project.Dir, filepath.FromSlash(r.File)))
	if err != nil {
		return // the place alone must do
	}
	lines := strings.Split(outcome.Plain(string(data)), "\n")
	first, last := max(1, r.Line-2), min(len(lines), r.Line+1)
	if first <= last {
		v.source.first, v.source.lines = first, lines[first-1:last]
	}
}

// drawOutput shows the end of what the test printed.
func (v *watch) drawOutput(c canvas, y int, r *outcome.Result) int {
	room := min(6, c.height-y-5)
	output := strings.TrimSpace(outcome.Plain(string(r.Output[max(0, len(r.Output)-4096):])))
	if output == "" || room < 2 {
		return y
	}
	lines := strings.Split(output, "\n")
	lines = lines[max(0, len(lines)-room):]
	for _, line := range lines {
		c.text(0, y, style{colour: c.theme.fog}, cut("│ "+line, c.width))
		y++
	}
	return y + 1
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
	drawPast(c, 10, y, past, min(len(past), 20))
	c.text(0, y+1, style{colour: t.fog}, cut(fmt.Sprintf("before it %s on worker %d, the last:", report.Plural(n, "test"), r.Worker), c.width))
	c.text(10, y+2, style{colour: t.ink}, cut(strings.Join(last, ", "), c.width-10))
	if n > 0 {
		c.text(0, y+4, style{colour: t.orchid}, cut(fmt.Sprintf("h hunts it: about %d halvings of what ran before it", int(math.Ceil(math.Log2(float64(n+1))))), c.width))
	}
}

// wrap breaks a text into lines of at most so many cells.
func wrap(text string, cells int) []string {
	return strings.Split(ansi.Wrap(strings.TrimSpace(text), cells, ""), "\n")
}
