package tui

import (
	"fmt"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/internal/fleet"
	"fernrelay/internal/wording"
)

// The frame takes three rows above the view and three below it.
const (
	topRows    = 3
	bottomRows = 3
	relayRow   = 1
)

// View draws the screen.
func (a *App) View() tea.View {
	screen, cursor := a.screen()
	v := tea.NewView(screen)
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "fern relay · " + plain.Line(a.session.app.Project.Name)
	v.Cursor = cursor
	return v
}

// screen draws the whole screen and returns where the cursor is; nil for nowhere.
func (a *App) screen() (text string, cursor *tea.Cursor) {
	if a.width == 0 {
		return "", nil
	}
	c := newCanvas(&a.cells, a.session.theme, a.width, a.height)
	if a.width < leastWidth || a.height < leastHeight {
		c.text(0, 0, style{colour: c.theme.ink},
			cut(fmt.Sprintf("fern relay needs %d×%d cells, here are %d×%d", leastWidth, leastHeight, a.width, a.height), a.width))
		return c.render(), nil
	}
	a.drawTop(c)
	body := c.sub(0, topRows, a.width, a.height-topRows-bottomRows)
	if a.help {
		a.drawHelp(body)
	} else {
		a.legs[a.leg].draw(body)
		a.drawHint(body)
	}
	if a.sheet != nil {
		if x, y := a.sheet.draw(body); x >= 0 {
			cursor = tea.NewCursor(x, topRows+y)
		}
	}
	a.drawBottom(c)
	if a.line.editing {
		a.drawCandidates(body)
		if cursor = a.line.input.Cursor(); cursor != nil {
			cursor.X, cursor.Y = pickColumn+cursor.X, a.height-2
		}
	}
	return c.render(), cursor
}

// candidatesShown bounds the completions of a pick that are shown at once.
const candidatesShown = 8

// drawCandidates draws, above the pick line, the completions of the word that is being typed, with how many tests
// each selects.
func (a *App) drawCandidates(c canvas) {
	t, l := c.theme, &a.line
	n := min(len(l.candidates), candidatesShown)
	if n == 0 {
		return
	}
	first := follow(0, max(0, l.chosen), n, len(l.candidates))
	list := l.candidates[first : first+n]
	names, hints := 0, 0
	for _, cand := range list {
		names, hints = max(names, width(plain.Line(cand.Text))), max(hints, width(cand.Hint))
	}
	names = min(names, 40)
	wide := names + hints + 14
	x := pickColumn - 1
	if at := l.input.Cursor(); at != nil {
		x += at.X - (l.input.Position() - l.from)
	}
	x = max(1, min(x, c.width-wide-1))
	c.clear(x-1, c.height-n-1, wide+1, n+1)
	more := ""
	if rest := len(l.candidates) - n; rest > 0 {
		more = fmt.Sprintf("%d more ", rest)
	}
	c.rule(x, c.height-n-1, wide-1, t.faint(), "─")
	c.text(x+1, c.height-n-1, style{colour: t.fog}, more)
	for i, cand := range list {
		y, look := c.height-n+i, style{colour: t.ink}
		colour, amount := t.fog, 0.15
		if first+i == l.chosen {
			colour, amount, look.bold = t.leaf, 0.35, true
		}
		if !t.shades {
			c.fill(x, y, wide-1, 1, colour, amount)
		}
		c.text(x+1, y, look, cut(plain.Line(cand.Text), names))
		if cand.Tests >= 0 {
			c.right(x+names+10, y, style{colour: t.leaf}, fmt.Sprint(cand.Tests))
		}
		c.text(x+names+12, y, style{colour: t.fog}, cand.Hint)
		if first+i == l.chosen && t.shades {
			c.selectRow(x, y, wide-1, 1)
		}
	}
}

func (a *App) drawTop(c canvas) {
	t, s := c.theme, a.session
	x := c.text(1, 0, style{t.leaf, true}, "fern relay")
	x = c.text(x+3, 0, style{colour: t.ink}, cut(plain.Line(s.app.Project.Name), 40))
	x = c.text(x+2, 0, style{colour: t.fog}, cut(plain.Line(a.revision), 40))
	clock := a.clock()
	c.right(a.width-1, 0, style{colour: t.fog}, clock)
	c.text(x+3, 0, style{colour: t.amber}, cut(ownWords(s.app.Own), a.width-x-6-width(clock)))

	c.rule(0, relayRow+1, a.width, t.faint(), "─")
	for i, span := range a.spans() {
		if i > 0 {
			air := max(1, a.gap()/4)
			c.rule(span.from-a.gap()+air, relayRow, a.gap()-2*air, t.faint(), "─")
		}
		figure, alarm := a.legs[i].figure()
		words, number := style{colour: t.fog}, style{colour: t.fog}
		if i == a.leg {
			words, number = style{t.ink, true}, style{colour: t.leaf}
			c.rule(span.from-1, relayRow+1, span.to-span.from+2, t.leaf, "━")
		}
		if alarm {
			number.colour = t.rust
		}
		x := span.from
		if span.named {
			x = c.text(x, relayRow, words, a.legs[i].name()) + 1
		}
		c.text(x, relayRow, number, figure)
	}
}

// span is the place of a leg on the relay line.
type span struct {
	from, to int
	named    bool // its name is shown before its figure
}

// gaps are how wide the rule between two legs may be, with its air, the widest first.
var gaps = []int{8, 6, 4, 3}

// gap is the widest rule between two legs with which they keep their names, if there is one.
func (a *App) gap() int {
	all := 0
	for i, leg := range a.legs {
		all += a.figureRoom(i) + width(leg.name()) + 1
	}
	for _, gap := range gaps {
		if all+gap*(len(a.legs)-1)+2 < a.width {
			return gap
		}
	}
	return gaps[len(gaps)-1]
}

// figureRoom is the columns that a leg's figure has.
func (a *App) figureRoom(leg int) int {
	figure, _ := a.legs[leg].figure()
	return max(width(figure), a.legRoom(leg))
}

// spans returns the place of each leg on the relay line. A leg keeps its place: its figure has room for as many
// digits as it can have. If the line is too narrow, only the current leg keeps its name.
func (a *App) spans() []span {
	spans := a.spansNamed(func(int) bool { return true })
	if spans[len(spans)-1].to >= a.width {
		return a.spansNamed(func(leg int) bool { return leg == a.leg })
	}
	return spans
}

func (a *App) spansNamed(named func(leg int) bool) []span {
	x, gap := 1, a.gap()
	spans := make([]span, len(a.legs))
	for i, leg := range a.legs {
		room := a.figureRoom(i)
		if named(i) {
			room += width(leg.name()) + 1
		}
		spans[i] = span{x, x + room, named(i)}
		x += room + gap
	}
	return spans
}

// legRoom is the most that a leg's figure is expected to need.
func (a *App) legRoom(leg int) int {
	digits := len(fmt.Sprint(a.session.picked.total()))
	return [...]int{2*digits + 4, 9, 2*digits + 4, 10, 8, 6}[leg]
}

func (a *App) legAt(x int) int {
	for i, span := range a.spans() {
		if x >= span.from && x < span.to {
			return i
		}
	}
	return -1
}

// clock says at the top right what runs.
func (a *App) clock() string {
	run := a.watch.run
	switch {
	case run != nil && run.fleet != nil && !run.ended:
		return fleetWords(run.fleet)
	case a.matrix.running():
		return a.matrix.clockWords()
	case run != nil && !run.ended:
		return fmt.Sprintf("%s · %d of %d workers busy", history.Clock(run.now), run.busy(), len(run.tracks))
	case a.preparing:
		return "preparing"
	case a.working():
		return "hunting"
	case run != nil && run.number == 0:
		return fmt.Sprintf("%s · workers idle", history.Clock(run.now))
	case run != nil:
		return fmt.Sprintf("run %d · %s · workers idle", run.number, history.Clock(run.now))
	}
	if all := a.ledger.all; a.leg == legLedger && len(all) > 0 {
		last := all[len(all)-1]
		return fmt.Sprintf("run %d began %s", last.Number, ago(a.now.Sub(last.Began)))
	}
	return fmt.Sprintf("%d workers idle", a.split.workers())
}

// pickColumn is the column at which the pick begins on its line.
const pickColumn = 7

// pickTotal returns the totals of the pick.
func (a *App) pickTotal() string {
	picked := &a.session.picked
	sum := picked.weave.Total.Picked
	about, estimated := "", history.OfWhichEstimated(sum.Seconds, sum.Estimated)
	if a.width < wideScreen && estimated != "" {
		about, estimated = "about ", ""
	}
	return fmt.Sprintf("%d of %d tests · %s%s of work%s", len(picked.tests), picked.total(), about, history.Clock(sum.Seconds), estimated)
}

// pickRoom returns the columns that the pick has.
func (a *App) pickRoom() int { return a.width - pickColumn - width(a.pickTotal()) - 3 }

func (a *App) drawBottom(c canvas) {
	t := c.theme
	y := a.height - 2
	c.rule(0, y-1, a.width, t.faint(), "─")
	total, room := a.pickTotal(), a.pickRoom()
	counts := style{colour: t.leaf}
	c.text(1, y, style{colour: t.fog}, "pick")
	switch text := a.line.text(a.session); {
	case a.line.editing:
		c.text(pickColumn, y, style{t.ink, true}, plainView(a.line.input))
	case text == "":
		c.text(pickColumn, y, style{colour: t.fog}, "all")
	default:
		c.text(pickColumn, y, style{t.ink, true}, cut(text, room))
	}
	c.right(a.width-1, y, counts, total)
	if wrong := a.line.wrong; wrong != nil {
		a.drawWrong(c, y)
		return
	}
	if a.message != "" {
		c.text(1, y+1, style{colour: t.amber}, cut(plain.Line(a.message), a.width-2))
		return
	}
	if a.broken != "" {
		c.text(1, y+1, style{colour: t.rust}, cut(plain.Line(a.broken), a.width-2))
		return
	}
	a.drawKeys(c, y+1)
}

// drawWrong marks the column of a wrong pick and says on the last row what is wrong.
func (a *App) drawWrong(c canvas, y int) {
	wrong := a.line.wrong
	column := pickColumn + wrong.Column - 1
	if column < c.width {
		c.text(column, y-1, style{c.theme.rust, true}, "▼")
	}
	c.text(1, y+1, style{colour: c.theme.rust}, cut(fmt.Sprintf("column %d: %s", wrong.Column, wrong.Message), c.width-2))
}

// drawKeys shows the keys that work now: those of the frame at the end of the row, and before them those of the
// leg, as many as there is room for.
func (a *App) drawKeys(c canvas, y int) {
	switch {
	case a.sheet != nil:
		drawBindings(c, 1, y, c.width-1, sheetKeys)
		return
	case a.line.editing:
		drawBindings(c, 1, y, c.width-1, pickKeys)
		return
	}
	frame := []key.Binding{keyPick, keyHelp, keyQuit}
	room := c.width - 1
	for _, b := range frame {
		room -= width(b.Help().Key) + width(b.Help().Desc) + 4
	}
	drawBindings(c, drawBindings(c, 1, y, room, a.legs[a.leg].keys()), y, c.width, frame)
}

// drawBindings draws keys from x on and returns the column after the last that fits.
func drawBindings(c canvas, x, y, room int, bindings []key.Binding) int {
	for _, b := range bindings {
		help := b.Help()
		if x+width(help.Key)+1+width(help.Desc) > room {
			break
		}
		x = c.text(x, y, style{colour: c.theme.leaf}, help.Key)
		x = c.text(x+1, y, style{colour: c.theme.fog}, help.Desc) + 3
	}
	return x
}

var pickKeys = []key.Binding{
	key.NewBinding(key.WithHelp("enter", "take it")),
	key.NewBinding(key.WithHelp("tab", "complete")),
	key.NewBinding(key.WithHelp("↑ ↓", "choose")),
	key.NewBinding(key.WithHelp("esc", "leave it as it was")),
	key.NewBinding(key.WithHelp("word", "a tag")),
	key.NewBinding(key.WithHelp("in:", "place")),
	key.NewBinding(key.WithHelp("name:", "part of the name")),
	key.NewBinding(key.WithHelp("took>1s", "time")),
	key.NewBinding(key.WithHelp("and or not ( )", "")),
}

// fleetWords says at the top right how a fleet run is.
func fleetWords(f *liveFleet) string {
	here := 0
	for _, m := range f.machines {
		if m.State == fleet.MachineRunning {
			here++
		}
	}
	return fmt.Sprintf("fleet run %s · %d of %s", cut(plain.Line(f.id), 30), here, wording.Plural(len(f.machines), "machine"))
}
