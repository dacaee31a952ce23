package tui

import (
	"fmt"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/internal/fleet"
	"fernrelay/internal/progress"
	"fernrelay/internal/tui/screen"
	surveyleg "fernrelay/internal/tui/survey"
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
	v.WindowTitle = "fern relay · " + plain.Line(a.session.App.Project.Name)
	v.Cursor = cursor
	return v
}

// screen draws the whole screen and returns where the cursor is; nil for nowhere.
func (a *App) screen() (text string, cursor *tea.Cursor) {
	if a.width == 0 {
		return "", nil
	}
	c := screen.NewCanvas(&a.cells, a.session.Theme, a.width, a.height)
	if a.width < leastWidth || a.height < leastHeight {
		c.Text(0, 0, screen.Style{Colour: c.Theme.Ink},
			screen.Cut(fmt.Sprintf("fern relay needs %d×%d cells, here are %d×%d", leastWidth, leastHeight, a.width, a.height), a.width))
		return c.Render(), nil
	}
	a.drawTop(c)
	body := c.Sub(0, topRows, a.width, a.height-topRows-bottomRows)
	if a.help {
		a.drawHelp(body)
	} else {
		a.legs[a.leg].Draw(body)
		a.drawHint(body)
	}
	if a.sheet != nil {
		if x, y := a.sheet.Draw(body); x >= 0 {
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
	return c.Render(), cursor
}

// candidatesShown bounds the completions of a pick that are shown at once.
const candidatesShown = 8

// drawCandidates draws, above the pick line, the completions of the word that is being typed, with how many tests
// each selects.
func (a *App) drawCandidates(c screen.Canvas) {
	t, l := c.Theme, &a.line
	n := min(len(l.candidates), candidatesShown)
	if n == 0 {
		return
	}
	first := screen.Follow(0, max(0, l.chosen), n, len(l.candidates))
	list := l.candidates[first : first+n]
	names, hints := 0, 0
	for _, cand := range list {
		names, hints = max(names, screen.Width(plain.Line(cand.Text))), max(hints, screen.Width(cand.Hint))
	}
	names = min(names, 40)
	wide := names + hints + 14
	x := pickColumn - 1
	if at := l.input.Cursor(); at != nil {
		x += at.X - (l.input.Position() - l.from)
	}
	x = max(1, min(x, c.Width-wide-1))
	c.Clear(x-1, c.Height-n-1, wide+1, n+1)
	more := ""
	if rest := len(l.candidates) - n; rest > 0 {
		more = fmt.Sprintf("%d more ", rest)
	}
	c.Rule(x, c.Height-n-1, wide-1, t.Faint(), "─")
	c.Text(x+1, c.Height-n-1, screen.Style{Colour: t.Fog}, more)
	for i, cand := range list {
		y, look := c.Height-n+i, screen.Style{Colour: t.Ink}
		colour, amount := t.Fog, 0.15
		if first+i == l.chosen {
			colour, amount, look.Bold = t.Leaf, 0.35, true
		}
		if !t.Shades {
			c.Fill(x, y, wide-1, 1, colour, amount)
		}
		c.Text(x+1, y, look, screen.Cut(plain.Line(cand.Text), names))
		if cand.Tests >= 0 {
			c.Right(x+names+10, y, screen.Style{Colour: t.Leaf}, fmt.Sprint(cand.Tests))
		}
		c.Text(x+names+12, y, screen.Style{Colour: t.Fog}, cand.Hint)
		if first+i == l.chosen && t.Shades {
			c.SelectRow(x, y, wide-1, 1)
		}
	}
}

func (a *App) drawTop(c screen.Canvas) {
	t, s := c.Theme, a.session
	x := c.Text(1, 0, screen.Style{Colour: t.Leaf, Bold: true}, "fern relay")
	x = c.Text(x+3, 0, screen.Style{Colour: t.Ink}, screen.Cut(plain.Line(s.App.Project.Name), 40))
	x = c.Text(x+2, 0, screen.Style{Colour: t.Fog}, screen.Cut(plain.Line(a.revision), 40))
	clock := a.clock()
	c.Right(a.width-1, 0, screen.Style{Colour: t.Fog}, clock)
	c.Text(x+3, 0, screen.Style{Colour: t.Amber}, screen.Cut(surveyleg.OwnWords(s.App.Own), a.width-x-6-screen.Width(clock)))

	c.Rule(0, relayRow+1, a.width, t.Faint(), "─")
	for i, span := range a.spans() {
		if i > 0 {
			air := max(1, a.gap()/4)
			c.Rule(span.from-a.gap()+air, relayRow, a.gap()-2*air, t.Faint(), "─")
		}
		figure, alarm := a.legs[i].Figure()
		words, number := screen.Style{Colour: t.Fog}, screen.Style{Colour: t.Fog}
		if i == a.leg {
			words, number = screen.Style{Colour: t.Ink, Bold: true}, screen.Style{Colour: t.Leaf}
			c.Rule(span.from-1, relayRow+1, span.to-span.from+2, t.Leaf, "━")
		}
		if alarm {
			number.Colour = t.Rust
		}
		x := span.from
		if span.named {
			x = c.Text(x, relayRow, words, a.legs[i].Name()) + 1
		}
		c.Text(x, relayRow, number, figure)
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
		all += a.figureRoom(i) + screen.Width(leg.Name()) + 1
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
	figure, _ := a.legs[leg].Figure()
	return max(screen.Width(figure), a.legs[leg].Room(a.session.Picked.Total()))
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
			room += screen.Width(leg.Name()) + 1
		}
		spans[i] = span{x, x + room, named(i)}
		x += room + gap
	}
	return spans
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
	run := a.watch.Run
	switch {
	case run != nil && run.Fleet != nil && !run.Ended:
		return fleetWords(run.Fleet)
	case a.matrix.Busy():
		return a.matrix.ClockWords()
	case run != nil && !run.Ended:
		return fmt.Sprintf("%s · %d of %d workers busy", history.Clock(run.Now), run.Busy(), len(run.Tracks))
	case a.preparing:
		return "preparing"
	case a.working():
		return "hunting"
	case run != nil && run.Number == 0:
		return fmt.Sprintf("%s · workers idle", history.Clock(run.Now))
	case run != nil:
		return fmt.Sprintf("run %d · %s · workers idle", run.Number, history.Clock(run.Now))
	}
	if all := a.ledger.All; a.leg == legLedger && len(all) > 0 {
		last := all[len(all)-1]
		return fmt.Sprintf("run %d began %s", last.Number, screen.Ago(a.now.Sub(last.Began)))
	}
	return fmt.Sprintf("%d workers idle", a.split.Workers())
}

// pickColumn is the column at which the pick begins on its line.
const pickColumn = 7

// pickTotal returns the totals of the pick.
func (a *App) pickTotal() string {
	picked := &a.session.Picked
	sum := picked.Weave.Total.Picked
	about, estimated := "", history.OfWhichEstimated(sum.Seconds, sum.Estimated)
	if a.width < screen.WideScreen && estimated != "" {
		about, estimated = "about ", ""
	}
	return fmt.Sprintf("%d of %d tests · %s%s of work%s", len(picked.Selected), picked.Total(), about, history.Clock(sum.Seconds), estimated)
}

// pickRoom returns the columns that the pick has.
func (a *App) pickRoom() int { return a.width - pickColumn - screen.Width(a.pickTotal()) - 3 }

func (a *App) drawBottom(c screen.Canvas) {
	t := c.Theme
	y := a.height - 2
	c.Rule(0, y-1, a.width, t.Faint(), "─")
	total, room := a.pickTotal(), a.pickRoom()
	c.Text(1, y, screen.Style{Colour: t.Fog}, "pick")
	switch text := a.line.text(a.session); {
	case a.line.editing:
		c.Text(pickColumn, y, screen.Style{Colour: t.Ink, Bold: true}, screen.PlainView(a.line.input))
	case text == "":
		c.Text(pickColumn, y, screen.Style{Colour: t.Fog}, "all")
	default:
		c.Text(pickColumn, y, screen.Style{Colour: t.Ink, Bold: true}, screen.Cut(text, room))
	}
	c.Right(a.width-1, y, screen.Style{Colour: t.Leaf}, total)
	switch {
	case a.line.wrong != nil:
		a.drawWrong(c, y)
	case a.message != "":
		c.Text(1, y+1, screen.Style{Colour: t.Amber}, screen.Cut(plain.Line(a.message), a.width-2))
	case a.broken != "":
		c.Text(1, y+1, screen.Style{Colour: t.Rust}, screen.Cut(plain.Line(a.broken), a.width-2))
	default:
		a.drawKeys(c, y+1)
	}
}

// drawWrong marks the column of a wrong pick and says on the last row what is wrong.
func (a *App) drawWrong(c screen.Canvas, y int) {
	wrong := a.line.wrong
	column := pickColumn + wrong.Column - 1
	if column < c.Width {
		c.Text(column, y-1, screen.Style{Colour: c.Theme.Rust, Bold: true}, "▼")
	}
	c.Text(1, y+1, screen.Style{Colour: c.Theme.Rust}, screen.Cut(fmt.Sprintf("column %d: %s", wrong.Column, wrong.Message), c.Width-2))
}

// drawKeys shows the keys that work now: those of the frame at the end of the row, and before them those of the
// leg, as many as there is room for.
func (a *App) drawKeys(c screen.Canvas, y int) {
	switch {
	case a.sheet != nil:
		drawBindings(c, 1, y, c.Width-1, screen.SheetKeys)
		return
	case a.line.editing:
		drawBindings(c, 1, y, c.Width-1, pickKeys)
		return
	}
	frame := []key.Binding{keyPick, keyHelp, keyQuit}
	room := c.Width - 1
	for _, b := range frame {
		room -= screen.Width(b.Help().Key) + screen.Width(b.Help().Desc) + 4
	}
	drawBindings(c, drawBindings(c, 1, y, room, a.legs[a.leg].Keys()), y, c.Width, frame)
}

// drawBindings draws keys from x on and returns the column after the last that fits.
func drawBindings(c screen.Canvas, x, y, room int, bindings []key.Binding) int {
	for _, b := range bindings {
		help := b.Help()
		if x+screen.Width(help.Key)+1+screen.Width(help.Desc) > room {
			break
		}
		x = c.Text(x, y, screen.Style{Colour: c.Theme.Leaf}, help.Key)
		x = c.Text(x+1, y, screen.Style{Colour: c.Theme.Fog}, help.Desc) + 3
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
func fleetWords(f *progress.Fleet) string {
	here := 0
	for _, m := range f.Machines {
		if m.State == fleet.MachineRunning {
			here++
		}
	}
	return fmt.Sprintf("fleet run %s · %d of %s", screen.Cut(plain.Line(f.ID), 30), here, wording.Plural(len(f.Machines), "machine"))
}
