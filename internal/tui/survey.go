package tui

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/outcome"
	"fernrelay/core/pick"
	"fernrelay/core/timing"
)

// survey shows what there is: the weave of groups and tags, the tests of the
// cell under the cursor, how the pick narrows, and the card of one test.
type survey struct {
	session   *session
	row       int // of the weave; the number of groups is the margin of all
	column    int // a tag, or the margin of tests, which is the number of tags
	top       int // the first row shown
	left      int // the first column shown
	test      int // of the list beside the weave
	testTop   int
	inList    bool // the list has the keys
	weaveRows int  // drawn last, for clicks
	listLeft  int
	listed    cellList
}

var surveyKeys = struct{ panel, narrow, takeOut, only, undo, run, edit, hunt key.Binding }{
	panel:   keyPanel,
	narrow:  key.NewBinding(key.WithKeys("+"), key.WithHelp("+", "narrow")),
	takeOut: key.NewBinding(key.WithKeys("-"), key.WithHelp("-", "take out")),
	only:    key.NewBinding(key.WithKeys("="), key.WithHelp("=", "only")),
	undo:    key.NewBinding(key.WithKeys("backspace"), key.WithHelp("⌫", "undo")),
	run:     key.NewBinding(key.WithKeys("r"), key.WithHelp("r", "run")),
	edit:    key.NewBinding(key.WithKeys("e"), key.WithHelp("e", "editor")),
	hunt:    key.NewBinding(key.WithKeys("H"), key.WithHelp("H", "hunt")),
}

func (v *survey) name() string { return "Survey" }

func (v *survey) figure() (string, bool) {
	return fmt.Sprintf("%d of %d", len(v.session.picked.tests), len(v.session.relay.Catalog.Tests)), false
}

func (v *survey) keys() []key.Binding {
	k := surveyKeys
	return []key.Binding{k.narrow, k.takeOut, k.only, k.undo, k.run, k.panel, k.hunt, k.edit}
}

func (v *survey) press(msg tea.KeyPressMsg) action {
	switch {
	case key.Matches(msg, surveyKeys.panel):
		v.inList = !v.inList
	case key.Matches(msg, surveyKeys.narrow):
		return v.rewrite(func(old, cell string) string { return join(old, cell) })
	case key.Matches(msg, surveyKeys.takeOut):
		return v.rewrite(func(old, cell string) string { return join(old, "not "+bracket(cell)) })
	case key.Matches(msg, surveyKeys.only):
		return v.rewrite(func(_, cell string) string { return cell })
	case key.Matches(msg, surveyKeys.undo):
		return action{undo: true}
	case key.Matches(msg, surveyKeys.run):
		return v.session.runPick()
	case key.Matches(msg, surveyKeys.edit):
		if t := v.current(); t != nil {
			return action{edit: place{t.File, t.Line}}
		}
	case key.Matches(msg, surveyKeys.hunt):
		if t := v.current(); t != nil {
			return action{hunt: []catalog.Test{*t}}
		}
	default:
		v.move(msg.String())
	}
	return action{}
}

func (v *survey) move(pressed string) {
	if v.inList {
		v.test = moved(v.test, pressed, len(v.list().members))
		return
	}
	groups, tags := len(v.session.relay.Catalog.Groups), len(v.session.columns())
	row, column := v.row, v.column
	v.row = moved(v.row, pressed, groups+1)
	switch pressed {
	case "left", "h":
		v.column = max(0, v.column-1)
	case "right", "l":
		v.column = min(tags, v.column+1)
	}
	if row != v.row || column != v.column {
		v.test, v.testTop = 0, 0
	}
}

// moved gives the place of a cursor in a list of n after a key.
func moved(at int, pressed string, n int) int {
	switch pressed {
	case "up", "k":
		at--
	case "down", "j":
		at++
	case "pgup":
		at -= 10
	case "pgdown":
		at += 10
	case "home", "g":
		at = 0
	case "end", "G":
		at = n - 1
	}
	return max(0, min(at, n-1))
}

// rewrite makes a new pick from the present one and that of the cell under the cursor.
func (v *survey) rewrite(make func(old, cell string) string) action {
	cell := v.cellPick()
	if cell == "" {
		return action{}
	}
	return action{setPick: true, pick: make(v.session.picked.text, cell)}
}

func (v *survey) cellPick() string {
	var terms []string
	if v.row < len(v.session.relay.Catalog.Groups) {
		terms = append(terms, (&pick.Term{Field: "in", Op: ":", Value: v.session.relay.Catalog.Groups[v.row].Name}).String())
	}
	if v.column < len(v.session.columns()) {
		terms = append(terms, (&pick.Term{Field: "tag", Op: ":", Value: v.session.columns()[v.column]}).String())
	}
	return strings.Join(terms, " ")
}

func join(old, more string) string {
	if old == "" {
		return more
	}
	if expr, err := pick.Parse(old); err == nil {
		if _, isOr := expr.(*pick.Or); isOr {
			old = "(" + old + ")"
		}
	}
	return old + " " + more
}

func bracket(cell string) string {
	if strings.Contains(cell, " ") {
		return "(" + cell + ")"
	}
	return cell
}

// cellList is the tests of one cell, listed once for as long as the cursor stays.
type cellList struct {
	catalog          *catalog.Catalog
	row, column      int
	members          []int // indexes of tests
	seconds, longest float64
}

// list gives the tests of the cell under the cursor.
func (v *survey) list() *cellList {
	c := v.session.relay.Catalog
	if l := &v.listed; l.catalog == c && l.row == v.row && l.column == v.column {
		return l
	}
	v.listed = cellList{catalog: c, row: v.row, column: v.column}
	first, last := 0, len(c.Tests)
	if v.row < len(c.Groups) {
		g := c.Groups[v.row]
		first, last = g.First, g.First+g.Len
	}
	for i := first; i < last; i++ {
		if v.column == len(v.session.columns()) || c.Tests[i].Tagged(v.session.columns()[v.column]) {
			v.listed.members = append(v.listed.members, i)
			v.listed.seconds += c.Tests[i].Expected
			v.listed.longest = max(v.listed.longest, c.Tests[i].Expected)
		}
	}
	return &v.listed
}

func (v *survey) current() *catalog.Test {
	members := v.list().members
	if len(members) == 0 {
		return nil
	}
	return &v.session.relay.Catalog.Tests[members[min(v.test, len(members)-1)]]
}

func (v *survey) click(x, y int) {
	if x >= v.listLeft && v.listLeft > 0 {
		if n := len(v.list().members); n > 0 {
			v.inList, v.test = true, max(0, min(v.testTop+y-3, n-1))
		}
		return
	}
	if row := v.top + y - 2; y >= 2 && row <= len(v.session.relay.Catalog.Groups) && y-2 < v.weaveRows {
		v.inList, v.row, v.test = false, row, 0
		if column := v.left + (x-2-v.nameWidth())/cellWidth; x >= 2+v.nameWidth() {
			v.column = min(column, len(v.session.columns()))
		}
	}
}

const (
	cellWidth  = 9
	listWidth  = 48
	wideScreen = 120 // from here on the list has a place of its own
)

func (v *survey) draw(c canvas) {
	wide := c.width >= wideScreen
	if !wide && v.inList {
		v.listLeft = 1
		v.drawList(c.sub(1, 1, c.width-2, c.height-9))
		v.drawCard(c.sub(2, c.height-7, c.width-4, 7))
		return
	}
	weaveWidth := c.width
	v.listLeft = 0
	if wide {
		weaveWidth = c.width - listWidth - 4
		v.listLeft = weaveWidth + 3
		v.drawList(c.sub(v.listLeft, 1, listWidth, c.height-1))
	}
	below := 0
	if c.height >= 30 {
		below = len(v.session.picked.funnel) + 3 + 9
	} else if c.height >= 22 {
		below = 7
	}
	weave := c.sub(0, 1, weaveWidth, c.height-1-below)
	used := v.drawWeave(weave)
	if below == 0 {
		return
	}
	y := 1 + used + 1
	if c.height >= 30 {
		y += v.drawFunnel(c.sub(2, y, weaveWidth-2, len(v.session.picked.funnel)+2)) + 1
	}
	v.drawCard(c.sub(2, y, weaveWidth-2, c.height-y))
}

func (v *survey) nameWidth() int {
	widest := 10
	for _, g := range v.session.relay.Catalog.Groups[:min(len(v.session.relay.Catalog.Groups), 400)] {
		widest = max(widest, width(g.Name))
	}
	return min(widest, 28) + 2
}

// drawWeave draws the crosstab and gives how many rows it took.
func (v *survey) drawWeave(c canvas) int {
	t, s := c.theme, v.session
	groups := s.relay.Catalog.Groups
	names := v.nameWidth()
	margins := c.width - 18
	shown := max(1, min((margins-2-names)/cellWidth, len(s.columns())))
	v.left = follow(v.left, min(v.column, len(s.columns())-1), shown, len(s.columns()))
	rows := min(len(groups), c.height-3)
	v.top = follow(v.top, min(v.row, len(groups)-1), rows, len(groups))
	v.weaveRows = rows + 2

	c.text(2, 0, style{colour: t.fog}, "group")
	for i := range shown {
		tag := v.left + i
		if tag >= len(s.columns()) {
			break
		}
		look := style{colour: t.fog}
		if s.picked.weave.Cols[tag].Picked.Tests > 0 && s.picked.text != "" {
			look.colour = t.leaf
		}
		if tag == v.column {
			look.bold = true
		}
		c.right(2+names+(i+1)*cellWidth-2, 0, look, cut(outcome.PlainLine(s.columns()[tag]), cellWidth-1))
	}
	c.right(c.width-10, 0, style{t.fog, v.column == len(s.columns())}, "tests")
	c.right(c.width-2, 0, style{colour: t.fog}, "time")
	if v.left+shown < len(s.columns()) {
		c.text(2+names+shown*cellWidth, 0, style{colour: t.fog}, "›")
	}
	for i := range rows {
		v.drawWeaveRow(c, 1+i, v.top+i, names, shown)
	}
	y := rows + 1
	c.rule(2, y, c.width-4, t.faint(), "┄")
	v.drawAll(c, y+1, names, shown)
	return y + 2
}

// follow gives the first of n entries to show so that the one under the cursor
// is on the screen.
func follow(top, at, shown, n int) int {
	top = min(top, at)
	top = max(top, at-shown+1)
	return max(0, min(top, n-shown))
}

func (v *survey) drawWeaveRow(c canvas, y, row, names, shown int) {
	t, s := c.theme, v.session
	group, cells, margin := s.relay.Catalog.Groups[row], s.picked.weave.Cells[row], s.picked.weave.Rows[row]
	name := style{colour: t.ink}
	if margin.Picked.Tests == 0 {
		name.colour = t.fog
	}
	dir, base := path.Split(outcome.PlainLine(group.Name))
	x := 2
	if width(dir+base) <= names-2 {
		x = c.text(x, y, style{colour: t.fog}, dir)
	}
	c.text(x, y, name, cut(base, names-2))
	for i := range shown {
		tag := v.left + i
		if tag >= len(s.columns()) {
			break
		}
		at := 2 + names + i*cellWidth
		v.drawCell(c, at, y, cells[tag], float64(cells[tag].All.Tests)/float64(max(s.picked.weave.Most, 1)))
		if row == v.row && tag == v.column {
			v.drawCursor(c, at, y, cellWidth-1)
		}
	}
	number := style{colour: t.ink}
	if margin.Picked.Tests == 0 {
		number.colour = t.fog
	}
	c.right(c.width-10, y, number, ofAll(margin))
	c.right(c.width-2, y, number, timing.Clock(margin.All.Seconds))
	if row == v.row && v.column == len(s.columns()) {
		v.drawCursor(c, c.width-18, y, 9)
	}
}

// ofAll writes how many tests there are, and how many of them the pick holds
// where it does not hold all.
func ofAll(cell catalog.Cell) string {
	if cell.Picked.Tests == cell.All.Tests || cell.Picked.Tests == 0 {
		return fmt.Sprint(cell.All.Tests)
	}
	return fmt.Sprintf("%d/%d", cell.Picked.Tests, cell.All.Tests)
}

func (v *survey) drawCell(c canvas, x, y int, cell catalog.Cell, amount float64) {
	t := c.theme
	if cell.All.Tests == 0 {
		c.right(x+cellWidth-3, y, style{colour: t.faint()}, "·")
		return
	}
	colour, look := t.fog, style{colour: t.fog}
	shown := 0.12 + 0.55*amount
	switch {
	case cell.Picked.Tests > 0 && v.session.picked.text == "":
		look = style{colour: t.ink}
	case cell.Picked.Tests > 0:
		colour, look = t.leaf, style{t.ink, true}
	default:
		shown *= 0.4
	}
	c.fill(x, y, cellWidth-2, 1, colour, shown)
	c.right(x+cellWidth-3, y, look, " "+ofAll(cell))
}

func (v *survey) drawCursor(c canvas, x, y, width int) {
	look := style{c.theme.leaf, true}
	if v.inList {
		look.colour = c.theme.fog
	}
	c.text(x-1, y, look, "▐")
	c.text(x+width-1, y, look, "▌")
}

func (v *survey) drawAll(c canvas, y, names, shown int) {
	t, s := c.theme, v.session
	c.text(2, y, style{t.ink, true}, "all")
	for i := range shown {
		tag := v.left + i
		if tag >= len(s.columns()) {
			break
		}
		look := style{colour: t.fog}
		cell := s.picked.weave.Cols[tag]
		if cell.Picked.Tests > 0 && s.picked.text != "" {
			look.colour = t.leaf
		}
		at := 2 + names + i*cellWidth
		c.right(at+cellWidth-2, y, look, ofAll(cell))
		if v.row == len(s.relay.Catalog.Groups) && tag == v.column {
			v.drawCursor(c, at, y, cellWidth-1)
		}
	}
	c.right(c.width-10, y, style{t.ink, true}, ofAll(s.picked.weave.Total))
	c.right(c.width-2, y, style{t.ink, true}, timing.Clock(s.picked.weave.Total.All.Seconds))
	if v.row == len(s.relay.Catalog.Groups) && v.column == len(s.columns()) {
		v.drawCursor(c, c.width-18, y, 9)
	}
}

// drawList draws the tests of the cell under the cursor: expected time, last
// outcomes, name.
func (v *survey) drawList(c canvas) {
	t, s := c.theme, v.session
	list := v.list()
	members, longest := list.members, list.longest
	heading := "all"
	if v.row < len(s.relay.Catalog.Groups) {
		heading = outcome.PlainLine(s.relay.Catalog.Groups[v.row].Name)
	}
	if v.column < len(s.columns()) {
		heading += " · " + s.columns()[v.column]
	}
	total := fmt.Sprintf("%d tests · %s", len(members), timing.Clock(list.seconds))
	c.right(c.width-1, 0, style{colour: t.fog}, total)
	c.text(0, 0, style{t.ink, true}, cut(heading, c.width-width(total)-2))
	if len(members) == 0 {
		c.text(0, 2, style{colour: t.fog}, "no test stands here")
		return
	}
	c.text(0, 1, style{colour: t.faint()}, "0")
	c.right(barWidth, 1, style{colour: t.faint()}, timing.Short(longest))
	v.test = min(v.test, len(members)-1)
	v.testTop = follow(v.testTop, v.test, c.height-2, len(members))
	for i := v.testTop; i < min(len(members), v.testTop+c.height-2); i++ {
		v.drawTest(c, 2+i-v.testTop, members[i], longest, i == v.test)
	}
}

const (
	barWidth  = 10
	pastShown = 8
)

func (v *survey) drawTest(c canvas, y, index int, longest float64, current bool) {
	t, s := c.theme, v.session
	test := &s.relay.Catalog.Tests[index]
	look := style{colour: t.ink, bold: current && v.inList}
	bar, amount := t.fog, 0.65
	switch {
	case !s.picked.held[index]:
		look.colour, amount = t.fog, 0.3
	case s.picked.text != "":
		bar = t.leaf
	}
	if test.Expected >= longest*0.7 && s.picked.held[index] && longest > 0.5 {
		bar, amount = t.amber, 0.9
	}
	c.bar(0, y, max(barWidth*test.Expected/max(longest, 1e-9), 0.25), bar, amount)
	drawPast(c, barWidth+1, y, s.relay.Past[test.ID], pastShown)
	x := barWidth + pastShown + 3
	mark := ""
	switch {
	case test.Marks.Skip != "":
		mark = "skip"
	case test.Marks.ExpectFail != "":
		mark = "expect-fail"
	}
	x = c.text(x, y, look, cut(outcome.PlainLine(test.Name), c.width-x-width(mark)-2))
	c.text(x+2, y, style{colour: t.amber}, mark)
	if current {
		c.selectRow(0, y, c.width, 1)
	}
}

// drawPast draws the last outcomes as shapes, the newest to the right.
func drawPast(c canvas, x, y int, past []outcome.Outcome, room int) int {
	past = past[max(0, len(past)-room):]
	x += room - len(past)
	for _, o := range past {
		x = c.text(x, y, style{colour: c.theme.outcome(o)}, o.Shape())
	}
	return x
}

// drawFunnel draws how the pick narrows and gives how many rows it took.
func (v *survey) drawFunnel(c canvas) int {
	t, steps := c.theme, v.session.picked.funnel
	c.text(0, 0, style{colour: t.fog}, "how the pick narrows")
	all := max(steps[0].Sum.Tests, 1)
	room := min(62, c.width-50)
	for i, step := range steps {
		if i+1 >= c.height {
			break
		}
		c.text(0, i+1, style{colour: t.ink}, cut(step.Clause, 22))
		c.right(30, i+1, style{colour: t.ink}, fmt.Sprint(step.Sum.Tests))
		colour, amount := t.leaf, 0.5
		if i == 0 {
			colour = t.fog
		}
		c.bar(32, i+1, float64(room*step.Sum.Tests)/float64(all), colour, amount)
		if i > 0 {
			out := steps[i-1].Sum.Tests - step.Sum.Tests
			c.text(34+room*step.Sum.Tests/all, i+1, style{colour: t.fog}, fmt.Sprintf("%d out", out))
		}
	}
	return len(steps) + 1
}

// drawCard draws what there is to know of the test under the cursor.
func (v *survey) drawCard(c canvas) {
	t, test := c.theme, v.current()
	if test == nil {
		return
	}
	past := v.session.relay.Past[test.ID]
	x := c.text(0, 0, style{colour: t.fog}, cut(outcome.PlainLine(test.Group), c.width/3))
	x = c.text(x+1, 0, style{t.ink, true}, cut(outcome.PlainLine(test.Name), c.width-x-24))
	if n := len(past); n > 0 && past[n-1].Bad() {
		c.text(x+2, 0, style{colour: t.rust}, past[n-1].Shape()+" "+string(past[n-1])+" in the last run")
	}
	c.text(0, 1, style{colour: t.water}, cut(fmt.Sprintf("%s:%d", test.File, test.Line), c.width))
	y := 2
	if c.height > 8 {
		y = 3
	}
	row := func(label string, draw func(x int)) {
		c.text(0, y, style{colour: t.fog}, label)
		draw(10)
		y++
	}
	row("tags", func(x int) { c.text(x, y, style{colour: t.leaf}, cut(strings.Join(test.Tags, " "), c.width-x)) })
	if marks := markWords(test.Marks); marks != "" {
		row("marks", func(x int) { c.text(x, y, style{colour: t.amber}, cut(outcome.PlainLine(marks), c.width-x)) })
	}
	row("time", func(x int) {
		words := timing.Short(test.Expected)
		if !test.Known {
			words += ", a guess: it was never measured"
		}
		c.text(x, y, style{colour: t.ink}, words)
	})
	row("past", func(x int) {
		if len(past) == 0 {
			c.text(x, y, style{colour: t.fog}, "it never ran here")
			return
		}
		passed := len(past) - len(slices.DeleteFunc(slices.Clone(past), func(o outcome.Outcome) bool { return o == outcome.Passed }))
		x = drawPast(c, x, y, past, min(len(past), 20))
		c.text(x+2, y, style{colour: t.fog}, fmt.Sprintf("%d of %d passed", passed, len(past)))
	})
}

func markWords(m catalog.Marks) string {
	var words []string
	if m.Skip != "" {
		words = append(words, "skip: "+m.Skip)
	}
	if m.ExpectFail != "" {
		words = append(words, "expect-fail: "+m.ExpectFail)
	}
	return strings.Join(words, "; ")
}
