package tui

import (
	"fmt"
	"image/color"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/wording"
)

// matrixPlaces has the places of the parts of the view.
type matrixPlaces struct {
	explained  int   // rows of the explanations, with the line below them
	lines      int   // of one explanation
	tracks     int   // the first row of the tracks
	rowHeight  int   // of a track, with the air below it
	shown      int   // tracks that there is room for
	below      int   // the first row below the tracks
	names      []int // columns of each name that varies
	left       int   // the column at which the time axis begins
	right      int   // the column behind it
	airy       bool
	testsShown int
}

// nameWidth bounds the columns of a name that varies.
const nameWidth = 14

func (v *matrixView) places(columns, height int) matrixPlaces {
	p := matrixPlaces{lines: 1, rowHeight: 1, airy: height >= 26}
	if p.airy {
		p.lines = 3
	}
	n := len(v.explained.Rows)
	p.explained = 1 + min(n, v.mostExplained(p.airy))*p.lines
	others := 0
	for _, more := range []bool{n > v.mostExplained(p.airy), len(v.explained.Flaky) > 0, len(v.explained.Unexplained) > 0, n == 0} {
		if more {
			others++
		}
	}
	if p.explained += others; p.airy && others > 0 {
		p.explained++
	}
	p.tracks = p.explained + 2
	foot := 4 // the step after all, the crossing under the cursor
	if p.airy {
		p.tracks, foot = p.tracks+2, 7
	}
	room := max(1, height-p.tracks-foot)
	if p.airy && 2*len(v.rows)-1 <= room {
		p.rowHeight = 2
	}
	p.shown = min(len(v.rows), max(1, (room+p.rowHeight-1)/p.rowHeight))
	p.below = p.tracks + p.shown*p.rowHeight - (p.rowHeight - 1)
	p.testsShown = max(1, height-p.explained-3)
	p.left = 4
	for _, name := range v.matrix().Spec.Names {
		wide := width(name.Name)
		for _, row := range v.rows {
			wide = max(wide, width(row.Of[name.Name]))
		}
		wide = min(wide, nameWidth) + 3
		if p.left+wide > columns/2 {
			break
		}
		p.names = append(p.names, wide)
		p.left += wide
	}
	p.left++
	p.right = columns - 34
	if columns < wideScreen {
		p.right = columns - 24
	}
	return p
}

// mostExplained bounds the explanations that are shown.
func (v *matrixView) mostExplained(airy bool) int {
	if airy {
		return 3
	}
	return 2
}

func (v *matrixView) draw(c canvas) {
	t := c.theme
	if len(v.rows) == 0 {
		for i, line := range wrap(noMatrix, c.width-4) {
			c.text(2, 2+i, style{colour: t.fog}, line)
		}
		return
	}
	p := v.places(c.width, c.height)
	v.drawExplained(c, p)
	c.rule(1, p.explained, c.width-2, t.faint(), "┄")
	if v.listing != nil {
		v.drawTests(c.sub(0, p.explained+1, c.width, c.height-p.explained-1), p)
		return
	}
	v.drawHead(c, p)
	for i := v.top; i < min(len(v.order), v.top+p.shown); i++ {
		v.drawRow(c, p, p.tracks+(i-v.top)*p.rowHeight, i)
	}
	v.drawNow(c, p)
	v.drawFoot(c, p)
}

// drawExplained draws which values explain the failures, the most important thing on this screen.
func (v *matrixView) drawExplained(c canvas, p matrixPlaces) {
	t, y := c.theme, 1
	e := &v.explained
	most := v.mostExplained(p.airy)
	first := follow(0, v.explainAt, most, len(e.Rows))
	for i := first; i < min(len(e.Rows), first+most); i++ {
		v.drawExplanation(c, y, &e.Rows[i], p)
		if v.inside && i == v.explainAt {
			c.selectRow(1, y, c.width-2, min(2, p.lines))
		}
		y += p.lines
	}
	if more := len(e.Rows) - most; more > 0 {
		c.text(2, y, style{colour: t.fog}, fmt.Sprintf("%s: tab, ↑ ↓", wording.Plural(more, "more explanation")))
		y++
	}
	if n := len(e.Flaky); n > 0 {
		x := c.text(2, y, style{t.amber, true}, v.countWords(n))
		x = c.text(x+1, y, style{colour: t.ink}, "differ within a crossing: ")
		c.text(x, y, style{colour: t.fog}, cut(someTests(e.Flaky), c.width-x-2))
		y++
	}
	if n := len(e.Unexplained); n > 0 {
		x := c.text(2, y, style{t.rust, true}, v.countWords(n))
		x = c.text(x+1, y, style{colour: t.ink}, "fail in crossings that no values describe: ")
		c.text(x, y, style{colour: t.fog}, cut(someTests(e.Unexplained), c.width-x-2))
		y++
	}
	if len(e.Rows) == 0 {
		c.text(2, y, style{t.ink, true}, cut(v.nothingWords(), c.width-4))
	}
}

// nothingWords says what there is if nothing needs an explanation.
func (v *matrixView) nothingWords() string {
	passed, must := v.results().Counts()
	switch {
	case v.live != nil && !v.live.ended && v.live.run == nil:
		return "preparing the crossings"
	case v.live != nil && !v.live.ended:
		return "nothing has failed yet"
	case passed == must:
		return fmt.Sprintf("all %d crossings that must pass have passed", must)
	case !v.hasRun():
		about := ""
		if end := v.lastEnd(); end > 0 {
			about = ", about " + history.Clock(end)
		}
		return fmt.Sprintf("%s of %s%s: r runs them", wording.Plural(len(v.rows), "crossing"), namesWords(&v.matrix().Spec), about)
	}
	return fmt.Sprintf("%d of %d crossings that must pass have passed; no test failed", passed, must)
}

func (v *matrixView) hasRun() bool {
	for _, row := range v.rows {
		if row.Run != nil {
			return true
		}
	}
	return false
}

// namesWords lists what varies, as in "store × season".
func namesWords(s *matrix.Spec) string {
	var names []string
	for _, n := range s.Names {
		names = append(names, plain.Line(n.Name))
	}
	return strings.Join(names, " × ")
}

// countWords returns a number of tests in a column of its own.
func (v *matrixView) countWords(n int) string {
	digits := 2
	for _, row := range v.explained.Rows {
		digits = max(digits, len(fmt.Sprint(len(row.Tests))))
	}
	word := "tests"
	if n == 1 {
		word = "test "
	}
	return fmt.Sprintf("%*d %s", digits, n, word)
}

func (v *matrixView) drawExplanation(c canvas, y int, e *app.ExplainedRow, p matrixPlaces) {
	t := c.theme
	x := c.text(2, y, style{t.rust, true}, v.countWords(len(e.Tests))) + 1
	indent := x
	x = v.drawCause(c, x, y, e)
	if same := strings.TrimPrefix(e.Difference(), "; "); same != "" && x+2+width(same) < c.width {
		x = c.text(x+2, y, style{colour: t.fog}, same)
	}
	room := c.width - x - 4
	if names := someTests(e.Tests); room > 20 {
		c.right(c.width-1, y, style{colour: t.fog}, cut(names, room))
	}
	if p.lines == 1 {
		return
	}
	if e.Words != "" {
		words := "one cause: "
		if e.Causes > 1 {
			words = fmt.Sprintf("%d causes, most often: ", e.Causes)
		}
		x = c.text(indent, y+1, style{colour: t.fog}, words)
		x = c.text(x, y+1, style{colour: t.rust}, cut(plain.Line(e.Words), c.width-x-30))
	}
	switch {
	case len(e.Rivals) > 0:
		c.right(c.width-1, y+1, style{colour: t.amber}, cut(e.Rivals[0].Text(v.matrix().Matrix), c.width-x-4))
	case e.Since > 0:
		c.right(c.width-1, y+1, style{colour: t.amber}, fmt.Sprintf("since run %d", e.Since))
	}
}

// drawCause draws the crossings of an explanation in words, with the values in bold, and returns the column behind.
func (v *matrixView) drawCause(c canvas, x, y int, e *app.ExplainedRow) int {
	t := c.theme
	verb := "fail "
	if len(e.Tests) == 1 {
		verb = "fails "
	}
	x = c.text(x, y, style{colour: t.ink}, verb)
	words := plain.Line(e.Cause.Text(&v.matrix().Spec))
	for part := range strings.SplitSeq(words, " ") {
		look := style{colour: t.ink}
		for _, value := range e.Where {
			look.bold = look.bold || part == value
		}
		x = c.text(x, y, look, part) + 1
	}
	return x - 1
}

// someTests names tests.
func someTests(ids []string) string {
	const most = 3
	var names []string
	for _, id := range ids[:min(len(ids), most)] {
		_, name := groupAndName(id)
		names = append(names, plain.Line(name))
	}
	text := strings.Join(names, ", ")
	if more := len(ids) - most; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// drawHead draws the names that vary and the time axis.
func (v *matrixView) drawHead(c canvas, p matrixPlaces) {
	t, y := c.theme, p.explained+1
	if p.airy {
		y++
	}
	x := 4
	for i, wide := range p.names {
		c.text(x, y, style{colour: t.fog}, cut(plain.Line(v.matrix().Spec.Names[i].Name), wide-2))
		x += wide
	}
	v.axis(p).draw(c.sub(0, y, p.right, 1), v.axisEnd())
	if more := len(v.order) - p.shown; more > 0 {
		c.right(c.width-1, y, style{colour: t.fog}, fmt.Sprintf("%d to %d of %d", v.top+1, v.top+p.shown, len(v.order)))
	}
}

func (v *matrixView) axis(p matrixPlaces) axis {
	span := p.right - p.left
	return axis{left: p.left, span: span, scale: float64(span) / v.axisEnd()}
}

// drawRow draws a crossing.
func (v *matrixView) drawRow(c canvas, p matrixPlaces, y, at int) {
	t, row := c.theme, v.rows[v.order[at]]
	shape, colour := row.shape(t)
	c.text(2, y, style{colour, true}, shape)
	x := 4
	repeated := at > v.top
	for i, wide := range p.names {
		name := v.matrix().Spec.Names[i].Name
		repeated = repeated && v.rows[v.order[at-1]].Of[name] == row.Of[name]
		look := style{colour: t.ink}
		if repeated || row.State == matrix.LeftOut && i == 0 {
			look.colour = t.faint()
		}
		if at == v.at && !repeated {
			look.bold = true
		}
		c.text(x, y, look, cut(plain.Line(row.Of[name]), wide-2))
		x += wide
	}
	if at == v.at && !v.inside {
		c.selectRow(1, y, p.left-3, 1)
	}
	if row.State == matrix.LeftOut || row.Outcome == run.Skipped {
		c.text(p.left, y, style{colour: t.fog}, cut(plain.Line(row.Why), c.width-p.left-2))
		return
	}
	v.drawBar(c, p, y, v.order[at])
	v.drawWords(c, p, y, row)
}

func (r *matrixRow) shape(t *theme) (string, color.Color) {
	switch {
	case r.State == matrix.LeftOut:
		return run.Skipped.Shape(), t.fog
	case r.State == matrix.Running && r.live != nil && len(r.live.bad) > 0:
		return runningSign, t.rust
	case r.State == matrix.Running:
		return runningSign, t.water
	case r.State == matrix.Waiting:
		return "·", t.fog
	case r.Outcome.Bad() && r.MayFail != "":
		return r.Outcome.Shape(), t.amber
	}
	return r.Outcome.Shape(), t.outcome(r.Outcome)
}

// drawBar draws what a crossing did on the time axis: the start of its services, then its tests, failures where they
// happened; and what is expected.
func (v *matrixView) drawBar(c canvas, p matrixPlaces, y, index int) {
	t, row, a := c.theme, v.rows[index], v.axis(p)
	if row.State == matrix.Waiting {
		if row.to > row.from {
			c.fill(a.at(row.from), y, max(1, min(a.at(row.to), p.right)-a.at(row.from)), 1, t.fog, 0.17)
		}
		return
	}
	began, took := v.begins[index], row.Took(v.now)
	from, to := a.at(began), min(p.right, max(a.at(began)+1, a.at(began+took)))
	if row.State == matrix.Running && row.to > began+took {
		c.fill(to, y, min(a.at(row.to), p.right)-to, 1, t.water, 0.2)
	}
	count, ready := 0, row.ready()
	for x := from; x < to; x++ {
		done, bad := row.bins.between(a.time(x)-began, a.time(x+1)-began)
		count += done
		switch {
		case bad > 0:
			c.fill(x, y, 1, 1, t.rust, 1)
			c.text(x, y, style{t.ink, true}, run.Failed.Shape())
		case a.time(x) < began+ready && ready > 0:
			c.fill(x, y, 1, 1, t.amber, 0.33)
		default:
			c.fill(x, y, 1, 1, t.leaf, 0.48+0.14*float64(count%2))
		}
	}
}

// ready returns the seconds until the crossing's services were ready.
func (r *matrixRow) ready() (seconds float64) {
	ran := r.ran()
	if ran == nil {
		return 0
	}
	for _, s := range ran.Services {
		seconds = max(seconds, s.Ready)
	}
	return seconds
}

// ran returns the crossing's run, as far as it has come; nil if there is none.
func (r *matrixRow) ran() *run.Run {
	if r.live != nil {
		return r.live.run
	}
	return r.Run
}

// drawWords draws the time and the counts of a crossing.
func (v *matrixView) drawWords(c canvas, p matrixPlaces, y int, row *matrixRow) {
	t, x := c.theme, p.right+9
	ink, fog := style{colour: t.ink}, style{colour: t.fog}
	switch row.State {
	case matrix.Waiting:
		if expected := v.expectedOf(row); expected > 0 {
			c.right(x-1, y, fog, "~"+history.Clock(expected))
		}
		if row.MayFail != "" {
			c.text(x, y, fog, cut("may fail: "+plain.Line(row.MayFail), c.width-x-1))
		} else {
			c.text(x, y, fog, wording.Plural(max(row.Tests, row.expected.Tests), "test"))
		}
		return
	case matrix.Running:
		c.right(x-1, y, ink, history.Clock(row.Took(v.now)))
		if row.live == nil {
			return
		}
		if bad := len(row.live.bad); bad > 0 {
			x = c.text(x, y, style{t.rust, true}, fmt.Sprintf("▲%d", bad)) + 1
		}
		c.text(x, y, fog, fmt.Sprintf("%d of %d", row.live.run.Done(), row.live.total))
		return
	}
	c.right(x-1, y, ink, history.ClockTenths(row.Took(v.now)))
	if row.Run == nil {
		c.text(x, y, style{colour: t.rust}, cut(plain.Line(row.Why), c.width-x-1))
		return
	}
	look := fog
	if bad := run.CountBad(row.Run.Counts); bad > 0 {
		look = style{colour: t.rust}
		if row.MayFail != "" {
			look.colour = t.amber
		}
		x = c.text(x, y, style{look.colour, true}, fmt.Sprintf("▲%d", bad)) + 1
	}
	x = c.text(x, y, look, fmt.Sprintf("%d passed", row.Run.Counts[run.Passed]))
	if row.MayFail != "" {
		c.text(x+1, y, fog, cut("may fail", c.width-x-2))
	}
}

// drawNow draws where the time is, and when the crossings should end.
func (v *matrixView) drawNow(c canvas, p matrixPlaces) {
	if v.live == nil || v.live.ended || v.firstBegan().IsZero() {
		return
	}
	t, a := c.theme, v.axis(p)
	now := v.now.Sub(v.firstBegan()).Seconds()
	x := min(a.at(now), p.right)
	for y := p.tracks; y < p.below; y++ {
		if c.isBlank(x, y) { // the reason of a crossing that is left out stays readable
			c.text(x, y, style{t.leaf, true}, "│")
		}
	}
	if !p.airy {
		return
	}
	c.text(max(p.left, x-1), p.below, style{colour: t.leaf}, "now")
	if left := v.axisEnd() - now; left > 0 && x+4 < p.right-16 {
		c.right(p.right+8, p.below, style{t.ink, true}, "ends in "+history.Clock(left))
	}
}
