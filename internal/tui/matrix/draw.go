package matrix

import (
	"cmp"
	"fmt"
	"image/color"
	"slices"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/progress"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
)

// places has the places of the parts of the view.
type places struct {
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

func (v *View) places(columns, height int) places {
	p := places{lines: 1, rowHeight: 1, airy: height >= 26}
	if p.airy {
		p.lines = 3
	}
	n := len(v.Explained.Rows)
	p.explained = 1 + min(n, v.mostExplained(p.airy))*p.lines
	others := 0
	for _, more := range []bool{n > v.mostExplained(p.airy), len(v.Explained.Flaky) > 0, len(v.Explained.Unexplained) > 0, n == 0} {
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
	if p.airy && 2*len(v.Rows)-1 <= room {
		p.rowHeight = 2
	}
	p.shown = min(len(v.Rows), max(1, (room+p.rowHeight-1)/p.rowHeight))
	p.below = p.tracks + p.shown*p.rowHeight - (p.rowHeight - 1)
	p.testsShown = max(1, height-p.explained-3)
	p.left = 4
	for _, name := range v.matrix().Spec.Names {
		wide := screen.Width(name.Name)
		for _, row := range v.Rows {
			wide = max(wide, screen.Width(row.Of[name.Name]))
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
	if columns < screen.WideScreen {
		p.right = columns - 24
	}
	return p
}

// mostExplained bounds the explanations that are shown.
func (v *View) mostExplained(airy bool) int {
	if airy {
		return 3
	}
	return 2
}

func (v *View) Draw(c screen.Canvas) {
	t := c.Theme
	if len(v.Rows) == 0 {
		for i, line := range screen.Wrap(noMatrix, c.Width-4) {
			c.Text(2, 2+i, screen.Style{Colour: t.Fog}, line)
		}
		return
	}
	p := v.places(c.Width, c.Height)
	v.drawExplained(c, p)
	c.Rule(1, p.explained, c.Width-2, t.Faint(), "┄")
	if v.listing != nil {
		v.drawTests(c.Sub(0, p.explained+1, c.Width, c.Height-p.explained-1), p)
		return
	}
	v.drawHead(c, p)
	for i := v.top; i < min(len(v.Order), v.top+p.shown); i++ {
		v.drawRow(c, p, p.tracks+(i-v.top)*p.rowHeight, i)
	}
	v.drawNow(c, p)
	v.drawFoot(c, p)
}

// drawExplained draws which values explain the failures, the most important thing on this screen.
func (v *View) drawExplained(c screen.Canvas, p places) {
	t, y := c.Theme, 1
	e := &v.Explained
	most := v.mostExplained(p.airy)
	first := screen.Follow(0, v.explainAt, most, len(e.Rows))
	for i := first; i < min(len(e.Rows), first+most); i++ {
		v.drawExplanation(c, y, &e.Rows[i], p)
		if v.Inside && i == v.explainAt {
			c.SelectRow(1, y, c.Width-2, min(2, p.lines))
		}
		y += p.lines
	}
	if more := len(e.Rows) - most; more > 0 {
		c.Text(2, y, screen.Style{Colour: t.Fog}, fmt.Sprintf("%s: tab, ↑ ↓", wording.Plural(more, "more explanation")))
		y++
	}
	if n := len(e.Flaky); n > 0 {
		x := c.Text(2, y, screen.Style{Colour: t.Amber, Bold: true}, v.countWords(n))
		x = c.Text(x+1, y, screen.Style{Colour: t.Ink}, "differ within a crossing: ")
		c.Text(x, y, screen.Style{Colour: t.Fog}, screen.Cut(someTests(e.Flaky), c.Width-x-2))
		y++
	}
	if n := len(e.Unexplained); n > 0 {
		x := c.Text(2, y, screen.Style{Colour: t.Rust, Bold: true}, v.countWords(n))
		x = c.Text(x+1, y, screen.Style{Colour: t.Ink}, "fail in crossings that no values describe: ")
		c.Text(x, y, screen.Style{Colour: t.Fog}, screen.Cut(someTests(e.Unexplained), c.Width-x-2))
		y++
	}
	if len(e.Rows) == 0 {
		c.Text(2, y, screen.Style{Colour: t.Ink, Bold: true}, screen.Cut(v.nothingWords(), c.Width-4))
	}
}

// nothingWords says what there is if nothing needs an explanation.
func (v *View) nothingWords() string {
	passed, must := v.results().Counts()
	switch {
	case v.Live != nil && !v.Live.Ended && v.Live.run == nil:
		return "preparing the crossings"
	case v.Live != nil && !v.Live.Ended:
		return "nothing has failed yet"
	case passed == must:
		return fmt.Sprintf("all %d crossings that must pass have passed", must)
	case !v.HasRun():
		about := ""
		if end := v.LastEnd(); end > 0 {
			about = ", about " + history.Clock(end)
		}
		return fmt.Sprintf("%s of %s%s: r runs them", wording.Plural(len(v.Rows), "crossing"), namesWords(&v.matrix().Spec), about)
	}
	return fmt.Sprintf("%d of %d crossings that must pass have passed; no test failed", passed, must)
}

// axisEnd returns the second at which the time axis ends.
func (v *View) axisEnd() float64 { return cmp.Or(v.LastEnd(), 1) }

// namesWords lists what varies, as in "store × season".
func namesWords(s *matrix.Spec) string {
	var names []string
	for _, n := range s.Names {
		names = append(names, plain.Line(n.Name))
	}
	return strings.Join(names, " × ")
}

// countWords returns a number of tests in a column of its own.
func (v *View) countWords(n int) string {
	digits := 2
	for _, row := range v.Explained.Rows {
		digits = max(digits, len(fmt.Sprint(len(row.Tests))))
	}
	word := "tests"
	if n == 1 {
		word = "test "
	}
	return fmt.Sprintf("%*d %s", digits, n, word)
}

func (v *View) drawExplanation(c screen.Canvas, y int, e *app.ExplainedRow, p places) {
	t := c.Theme
	x := c.Text(2, y, screen.Style{Colour: t.Rust, Bold: true}, v.countWords(len(e.Tests))) + 1
	indent := x
	x = v.drawCause(c, x, y, e)
	if same := strings.TrimPrefix(e.Difference(), "; "); same != "" && x+2+screen.Width(same) < c.Width {
		x = c.Text(x+2, y, screen.Style{Colour: t.Fog}, same)
	}
	room := c.Width - x - 4
	if names := someTests(e.Tests); room > 20 {
		c.Right(c.Width-1, y, screen.Style{Colour: t.Fog}, screen.Cut(names, room))
	}
	if p.lines > 1 {
		v.drawReason(c, indent, y+1, e)
	}
}

// drawReason draws the second line of an explanation: the cause of the failures, and what else could explain them or since
// when they fail.
func (v *View) drawReason(c screen.Canvas, x, y int, e *app.ExplainedRow) {
	t := c.Theme
	if e.Words != "" {
		words := "one cause: "
		if e.Causes > 1 {
			words = fmt.Sprintf("%d causes, most often: ", e.Causes)
		}
		x = c.Text(x, y, screen.Style{Colour: t.Fog}, words)
		x = c.Text(x, y, screen.Style{Colour: t.Rust}, screen.Cut(plain.Line(e.Words), c.Width-x-30))
	}
	switch {
	case len(e.Rivals) > 0:
		c.Right(c.Width-1, y, screen.Style{Colour: t.Amber}, screen.Cut(e.Rivals[0].Text(v.matrix().Matrix), c.Width-x-4))
	case e.Since > 0:
		c.Right(c.Width-1, y, screen.Style{Colour: t.Amber}, fmt.Sprintf("since run %d", e.Since))
	}
}

// drawCause draws the crossings of an explanation in words, with the values in bold, and returns the column behind.
func (v *View) drawCause(c screen.Canvas, x, y int, e *app.ExplainedRow) int {
	t := c.Theme
	verb := "fail "
	if len(e.Tests) == 1 {
		verb = "fails "
	}
	x = c.Text(x, y, screen.Style{Colour: t.Ink}, verb)
	words := plain.Line(e.Cause.Text(&v.matrix().Spec))
	for part := range strings.SplitSeq(words, " ") {
		look := screen.Style{Colour: t.Ink}
		for _, value := range e.Where {
			look.Bold = look.Bold || part == value
		}
		x = c.Text(x, y, look, part) + 1
	}
	return x - 1
}

// testsNamed bounds the tests that are named in a line.
const testsNamed = 3

// someTests names tests.
func someTests(ids []string) string {
	names := slices.Clone(ids)
	for i, id := range ids[:min(len(ids), testsNamed)] {
		_, names[i] = leg.GroupAndName(id)
	}
	return plain.Line(wording.Some(names, testsNamed))
}

// drawHead draws the names that vary and the time axis.
func (v *View) drawHead(c screen.Canvas, p places) {
	t, y := c.Theme, p.explained+1
	if p.airy {
		y++
	}
	x := 4
	for i, wide := range p.names {
		c.Text(x, y, screen.Style{Colour: t.Fog}, screen.Cut(plain.Line(v.matrix().Spec.Names[i].Name), wide-2))
		x += wide
	}
	v.axis(p).Draw(c.Sub(0, y, p.right, 1), v.axisEnd())
	if more := len(v.Order) - p.shown; more > 0 {
		c.Right(c.Width-1, y, screen.Style{Colour: t.Fog}, fmt.Sprintf("%d to %d of %d", v.top+1, v.top+p.shown, len(v.Order)))
	}
}

func (v *View) axis(p places) screen.Axis {
	span := p.right - p.left
	return screen.Axis{Left: p.left, Span: span, Scale: float64(span) / v.axisEnd()}
}

// drawRow draws a crossing.
func (v *View) drawRow(c screen.Canvas, p places, y, at int) {
	t, row := c.Theme, v.Rows[v.Order[at]]
	shape, colour := shapeOf(row, t)
	c.Text(2, y, screen.Style{Colour: colour, Bold: true}, shape)
	x := 4
	repeated := at > v.top
	for i, wide := range p.names {
		name := v.matrix().Spec.Names[i].Name
		repeated = repeated && v.Rows[v.Order[at-1]].Of[name] == row.Of[name]
		look := screen.Style{Colour: t.Ink}
		if repeated || row.State == matrix.LeftOut && i == 0 {
			look.Colour = t.Faint()
		}
		if at == v.at && !repeated {
			look.Bold = true
		}
		c.Text(x, y, look, screen.Cut(plain.Line(row.Of[name]), wide-2))
		x += wide
	}
	if at == v.at && !v.Inside {
		c.SelectRow(1, y, p.left-3, 1)
	}
	if row.State == matrix.LeftOut || row.Outcome == run.Skipped {
		c.Text(p.left, y, screen.Style{Colour: t.Fog}, screen.Cut(plain.Line(row.Why), c.Width-p.left-2))
		return
	}
	v.drawBar(c, p, y, v.Order[at])
	v.drawWords(c, p, y, row)
}

func shapeOf(r *progress.Crossing, t *screen.Theme) (string, color.Color) {
	switch {
	case r.State == matrix.LeftOut:
		return run.Skipped.Shape(), t.Fog
	case r.State == matrix.Running && r.Live != nil && len(r.Live.Bad) > 0:
		return screen.RunningSign, t.Rust
	case r.State == matrix.Running:
		return screen.RunningSign, t.Water
	case r.State == matrix.Waiting:
		return "·", t.Fog
	case r.Outcome.Bad() && r.MayFail != "":
		return r.Outcome.Shape(), t.Amber
	}
	return r.Outcome.Shape(), t.Outcome(r.Outcome)
}

// drawBar draws what a crossing did on the time axis: the start of its services, then its tests, failures where they
// happened; and what is expected.
func (v *View) drawBar(c screen.Canvas, p places, y, index int) {
	t, row, a := c.Theme, v.Rows[index], v.axis(p)
	if row.State == matrix.Waiting {
		if row.To > row.From {
			c.Fill(a.At(row.From), y, max(1, min(a.At(row.To), p.right)-a.At(row.From)), 1, t.Fog, 0.17)
		}
		return
	}
	began, took := v.Begins[index], row.Took(v.Now)
	from, to := a.At(began), min(p.right, max(a.At(began)+1, a.At(began+took)))
	if row.State == matrix.Running && row.To > began+took {
		c.Fill(to, y, min(a.At(row.To), p.right)-to, 1, t.Water, 0.2)
	}
	count, ready := 0, row.Ready()
	for x := from; x < to; x++ {
		done, bad := row.Bins.Between(a.Time(x)-began, a.Time(x+1)-began)
		count += done
		switch {
		case bad > 0:
			c.Fill(x, y, 1, 1, t.Rust, 1)
			c.Text(x, y, screen.Style{Colour: t.Ink, Bold: true}, run.Failed.Shape())
		case a.Time(x) < began+ready && ready > 0:
			c.Fill(x, y, 1, 1, t.Amber, 0.33)
		default:
			c.Fill(x, y, 1, 1, t.Leaf, 0.48+0.14*float64(count%2))
		}
	}
}

// drawWords draws the time and the counts of a crossing.
func (v *View) drawWords(c screen.Canvas, p places, y int, row *progress.Crossing) {
	t, x := c.Theme, p.right+9
	ink, fog := screen.Style{Colour: t.Ink}, screen.Style{Colour: t.Fog}
	switch row.State {
	case matrix.Waiting:
		if expected := v.ExpectedOf(row); expected > 0 {
			c.Right(x-1, y, fog, "~"+history.Clock(expected))
		}
		if row.MayFail != "" {
			c.Text(x, y, fog, screen.Cut("may fail: "+plain.Line(row.MayFail), c.Width-x-1))
		} else {
			c.Text(x, y, fog, wording.Plural(max(row.Tests, v.forecasts[row.Key()].Tests), "test"))
		}
		return
	case matrix.Running:
		c.Right(x-1, y, ink, history.Clock(row.Took(v.Now)))
		if row.Live == nil {
			return
		}
		if bad := len(row.Live.Bad); bad > 0 {
			x = c.Text(x, y, screen.Style{Colour: t.Rust, Bold: true}, fmt.Sprintf("▲%d", bad)) + 1
		}
		c.Text(x, y, fog, fmt.Sprintf("%d of %d", row.Live.Run.Done(), row.Live.Total))
		return
	}
	c.Right(x-1, y, ink, history.ClockTenths(row.Took(v.Now)))
	if row.Run == nil {
		c.Text(x, y, screen.Style{Colour: t.Rust}, screen.Cut(plain.Line(row.Why), c.Width-x-1))
		return
	}
	look := fog
	if bad := run.CountBad(row.Run.Counts); bad > 0 {
		look = screen.Style{Colour: t.Rust}
		if row.MayFail != "" {
			look.Colour = t.Amber
		}
		x = c.Text(x, y, screen.Style{Colour: look.Colour, Bold: true}, fmt.Sprintf("▲%d", bad)) + 1
	}
	x = c.Text(x, y, look, fmt.Sprintf("%d passed", row.Run.Counts[run.Passed]))
	if row.MayFail != "" {
		c.Text(x+1, y, fog, screen.Cut("may fail", c.Width-x-2))
	}
}

// drawNow draws where the time is, and when the crossings should end.
func (v *View) drawNow(c screen.Canvas, p places) {
	if v.Live == nil || v.Live.Ended || v.Since() == 0 {
		return
	}
	t, a := c.Theme, v.axis(p)
	now := v.Since()
	x := min(a.At(now), p.right)
	for y := p.tracks; y < p.below; y++ {
		if c.IsBlank(x, y) { // the reason of a crossing that is left out stays readable
			c.Text(x, y, screen.Style{Colour: t.Leaf, Bold: true}, "│")
		}
	}
	if !p.airy {
		return
	}
	c.Text(max(p.left, x-1), p.below, screen.Style{Colour: t.Leaf}, "now")
	if left := v.axisEnd() - now; left > 0 && x+4 < p.right-16 {
		c.Right(p.right+8, p.below, screen.Style{Colour: t.Ink, Bold: true}, "ends in "+history.Clock(left))
	}
}
