package survey

import (
	"fmt"
	"image/color"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/internal/project"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
)

const (
	CellWidth  = 9
	namesWidth = 32 // of groups, if the columns need the rest
	listWidth  = 48
	tallScreen = 30 // from here on the funnel has
)

// weaveWidth returns the columns that the weave has.
func (v View) weaveWidth(width int) int {
	if width >= screen.WideScreen {
		return width - listWidth - 4
	}
	return width
}

// below returns the rows that are kept below the weave.
func (v View) below(height int) int {
	switch {
	case height >= tallScreen:
		return funnelRows(&v.session.Picked) + 8
	case height >= 18:
		return 7
	}
	return 0
}

// fitWeave decides which rows and columns of the weave are shown.
func (v *View) fitWeave(width, height int) {
	l := &v.Arranged
	margins := width - 18
	columns := len(l.Columns) * CellWidth
	if columns == 0 {
		columns = len(noTags(v.session))
	}
	v.Names = min(l.names, max(namesWidth, margins-2-columns))
	v.columns = max(1, min((margins-2-v.Names)/CellWidth, len(l.Columns)))
	v.left = screen.Follow(v.left, min(v.DrawColumn, len(l.Columns)-1), v.columns, len(l.Columns))
	v.rows = max(0, min(len(l.Rows), height-3))
	v.top = screen.Follow(v.top, min(v.Row, len(l.Rows)-1), v.rows, len(l.Rows))
}

func (v View) Draw(c screen.Canvas) {
	wide := c.Width >= screen.WideScreen
	if v.Focus == onCard {
		v.drawCard(c.Sub(2, 1, c.Width-4, c.Height-1), true)
		return
	}
	if !wide && v.Focus == OnList {
		v.drawList(c.Sub(1, 1, c.Width-2, c.Height-9))
		v.drawFoot(c.Sub(2, c.Height-7, c.Width-4, 7))
		return
	}
	weaveWidth, below := v.weaveWidth(c.Width), v.below(c.Height)
	if wide {
		v.drawList(c.Sub(v.ListLeft, 1, listWidth, c.Height-1))
	}
	used := v.drawWeave(c.Sub(0, 1, weaveWidth, c.Height-1-below))
	if below == 0 {
		return
	}
	y := 1 + used + 1
	if c.Height >= tallScreen {
		y += v.drawFunnel(c.Sub(2, y, weaveWidth-2, funnelRows(&v.session.Picked)+1)) + 1
		v.drawCard(c.Sub(2, y, weaveWidth-4, c.Height-y), false)
		return
	}
	v.drawFoot(c.Sub(2, y, weaveWidth-4, c.Height-y))
}

// drawFoot draws the card or, if asked for and without other room, why the test is in the pick or out.
func (v View) drawFoot(c screen.Canvas) {
	if v.why {
		v.drawFunnel(c)
		return
	}
	v.drawCard(c, false)
}

// noTags is shown in place of the columns if there are none: how tags are made in this project.
func noTags(s *leg.Session) string {
	if slices.ContainsFunc(s.App.Project.Suites, func(suite project.Suite) bool { return suite.Kind == project.Go }) {
		return "no tags yet: write //fern:tags above a test, or [tags] into fern.toml"
	}
	return "no tags yet: write [tags] into fern.toml, or list tests with tags"
}

// drawWeave draws the crosstab and returns how many rows it took.
func (v View) drawWeave(c screen.Canvas) int {
	t, l := c.Theme, &v.Arranged
	rows, shown := v.rows, v.columns
	v.drawHead(c, shown)
	if len(l.Columns) == 0 {
		c.Text(2+v.Names, 0, screen.Style{Colour: t.Faint()}, screen.Cut(noTags(v.session), c.Width-18-v.Names-3))
	}
	for i := range rows {
		v.drawWeaveRow(c, 1+i, v.top+i, shown)
	}
	y := rows + 1
	c.Rule(2, y, c.Width-4, t.Faint(), "┄")
	if more := len(l.Rows) - v.top - rows; more > 0 {
		c.Text(2, y, screen.Style{Colour: t.Fog}, fmt.Sprintf("%d more below ", more))
	}
	c.Text(2, y+1, screen.Style{Colour: t.Ink, Bold: true}, "all")
	v.drawCells(c, y+1, len(l.Rows), shown)
	return y + 2
}

// drawHead draws the tags above their columns, with what the pick does with each.
func (v View) drawHead(c screen.Canvas, shown int) {
	t, l, s := c.Theme, &v.Arranged, v.session
	group := "group"
	if v.byRow != catalog.ByName {
		group += " by " + string(v.byRow)
	}
	c.Text(2, 0, screen.Style{Colour: t.Fog}, group)
	for i := range shown {
		tag := l.Tag(v.left + i)
		if tag == "" {
			break
		}
		look := screen.Style{Colour: t.Fog, Bold: v.left+i == v.DrawColumn}
		if s.Picked.Text != "" && s.Picked.Weave.Cols[l.Columns[v.left+i]].Picked.Tests > 0 {
			look.Colour = t.Leaf
		}
		right := 2 + v.Names + (i+1)*CellWidth - 2
		c.Right(right, 0, look, screen.Cut(plain.Line(tag), CellWidth-2))
		switch s.Picked.Signs[tag] {
		case "+":
			c.Text(right+1, 0, screen.Style{Colour: t.Leaf, Bold: true}, "+")
		case "-":
			c.Text(right+1, 0, screen.Style{Colour: t.Rust, Bold: true}, "-")
		}
	}
	if v.left > 0 {
		c.Text(v.Names, 0, screen.Style{Colour: t.Fog}, "‹")
	}
	if v.left+shown < len(l.Columns) {
		c.Text(2+v.Names+shown*CellWidth, 0, screen.Style{Colour: t.Fog}, "›")
	}
	c.Right(c.Width-10, 0, screen.Style{Colour: t.Fog, Bold: v.DrawColumn == len(l.Columns)}, "tests")
	c.Right(c.Width-2, 0, screen.Style{Colour: t.Fog}, "time")
}

func (v View) drawWeaveRow(c screen.Canvas, y, row, shown int) {
	t, l := c.Theme, &v.Arranged
	node := l.Node(row)
	name, x := screen.Style{Colour: t.Ink}, 2+2*node.Depth
	if l.cell(row, len(l.Columns)).Picked.Tests == 0 {
		name.Colour = t.Fog
	}
	if node.Folds() {
		arrow := "▾"
		if v.folded[foldKey(node)] {
			arrow = "▸"
		}
		c.Text(x, y, screen.Style{Colour: t.Fog}, arrow)
	}
	if l.folding {
		x += 2
	}
	c.Text(x, y, name, screen.CutGroup(plain.Line(node.Label), v.Names-(x-2)-1))
	v.drawCells(c, y, row, shown)
}

// drawCells draws the cells of a row and its margins; the row behind the last is
// that of all.
func (v View) drawCells(c screen.Canvas, y, row, shown int) {
	t, l := c.Theme, &v.Arranged
	all := row == len(l.Rows)
	for i := range min(shown, len(l.Columns)-v.left) {
		at, cell := 2+v.Names+i*CellWidth, l.cell(row, v.left+i)
		if all {
			look := screen.Style{Colour: t.Fog}
			if cell.Picked.Tests > 0 && v.session.Picked.Text != "" {
				look.Colour = t.Leaf
			}
			c.Right(at+CellWidth-2, y, look, cell.String())
		} else {
			v.drawCell(c, at, y, cell, min(1, float64(cell.All.Tests)/float64(max(l.weave.Most, 1))))
		}
		if row == v.Row && v.left+i == v.DrawColumn {
			v.drawCursor(c, at, y, CellWidth-1)
		}
	}
	v.drawMargin(c, y, row)
}

// drawMargin draws the sums at the end of a row.
func (v View) drawMargin(c screen.Canvas, y, row int) {
	t, l := c.Theme, &v.Arranged
	all := row == len(l.Rows)
	margin := l.cell(row, len(l.Columns))
	number := screen.Style{Colour: t.Ink, Bold: all}
	if margin.Picked.Tests == 0 && !all {
		number.Colour = t.Fog
	}
	c.Right(c.Width-10, y, number, margin.String())
	c.Right(c.Width-2, y, number, history.Clock(margin.All.Seconds))
	if row == v.Row && v.DrawColumn == len(l.Columns) {
		v.drawCursor(c, c.Width-18, y, 9)
	}
}

func (v View) drawCell(c screen.Canvas, x, y int, cell catalog.Cell, amount float64) {
	t := c.Theme
	if cell.All.Tests == 0 {
		c.Right(x+CellWidth-3, y, screen.Style{Colour: t.Faint()}, "·")
		return
	}
	colour, look := t.Fog, screen.Style{Colour: t.Fog}
	shown := 0.12 + 0.55*amount
	switch {
	case cell.Picked.Tests > 0 && v.session.Picked.Text == "":
		look = screen.Style{Colour: t.Ink}
	case cell.Picked.Tests > 0:
		colour, look = t.Leaf, screen.Style{Colour: t.Ink, Bold: true}
	default:
		shown *= 0.4
	}
	c.Fill(x, y, CellWidth-2, 1, colour, shown)
	c.Right(x+CellWidth-3, y, look, " "+screen.Cut(cell.String(), CellWidth-3))
}

func (v View) drawCursor(c screen.Canvas, x, y, width int) {
	look := screen.Style{Colour: c.Theme.Leaf, Bold: true}
	if v.Focus != OnWeave {
		look.Colour = c.Theme.Fog
	}
	c.Text(x-1, y, look, "▐")
	c.Text(x+width-1, y, look, "▌")
}

// drawList draws the tests of the cell under the cursor: expected time, last
// outcomes, name.
func (v View) drawList(c screen.Canvas) {
	t, l, list := c.Theme, &v.Arranged, &v.listed
	heading := "all"
	if n := l.Node(v.Row); n != nil {
		heading = plain.Line(n.Path)
		if n.Path == "" || n.Path == "." {
			heading = n.Suite
		}
	}
	if tag := l.Tag(v.DrawColumn); tag != "" {
		heading += " · " + plain.Line(tag)
	}
	total := fmt.Sprintf("%s · %s", wording.Plural(list.sum.Tests, "test"), history.Clock(list.sum.Seconds))
	c.Right(c.Width-1, 0, screen.Style{Colour: t.Fog}, total)
	c.Text(0, 0, screen.Style{Colour: t.Ink, Bold: true}, screen.CutGroup(heading, c.Width-screen.Width(total)-2))
	if list.sum.Tests == 0 {
		c.Text(0, 2, screen.Style{Colour: t.Fog}, "no test is here")
		return
	}
	c.Text(0, 1, screen.Style{Colour: t.Faint()}, "0")
	c.Right(barWidth, 1, screen.Style{Colour: t.Faint()}, history.Short(list.sum.Longest))
	c.Right(barWidth+1+pastShown, 1, screen.Style{Colour: t.Faint()}, "past")
	y := 2
	members := list.members.From(v.testTop, c.Height-2)
	common := screen.SharedIn(members, func(test int) string { return plain.Line(v.session.Picked.Catalog.Tests[test].Name) }, c.Width-testLeft-2)
	for i, index := range members {
		if y >= c.Height {
			return
		}
		v.drawTest(c, y, index, list.sum.Longest, common, v.testTop+i == v.Test && v.Step() == "")
		y++
		if v.session.Picked.Catalog.Tests[index].ID == v.Steps.Test {
			y = v.drawSteps(c, y)
		}
	}
}

const (
	barWidth  = 10
	pastShown = 8
	testLeft  = barWidth + pastShown + 3 // of the names
)

func (v View) drawTest(c screen.Canvas, y, index int, longest float64, common screen.Shared, current bool) {
	t, s := c.Theme, v.session
	test := &s.Picked.Catalog.Tests[index]
	look := screen.Style{Colour: t.Ink, Bold: current && v.Focus == OnList}
	held := s.Picked.Held.Has(index)
	if !held {
		look.Colour = t.Fog
	}
	bar, amount := v.barLook(t, test, held, longest)
	c.Bar(0, y, max(barWidth*test.Expected/max(longest, 1e-9), 0.25), bar, amount)
	screen.DrawPast(c, barWidth+1, y, s.Picked.Past[index], pastShown)
	name, rules, room := plain.Line(test.Name), ruleWords(test), c.Width-testLeft-2
	x := c.Text(testLeft, y, look, common.Cut(name, max(room-screen.Width(rules), room/2)))
	c.Text(x+2, y, screen.Style{Colour: t.Amber}, screen.Cut(rules, c.Width-x-2))
	if current {
		c.SelectRow(0, y, c.Width, 1)
	}
}

// barLook returns the colour and the weight of the bar that shows a test's expected time. Long tests are amber.
func (v View) barLook(t *screen.Theme, test *catalog.Test, held bool, longest float64) (bar color.Color, amount float64) {
	bar, amount = t.Fog, 0.65
	switch {
	case !held:
		amount = 0.3
	case v.session.Picked.Text != "":
		bar = t.Leaf
	}
	switch {
	case !test.Known:
		amount = 0.15 // a guess
	case test.Expected >= longest*0.7 && held && longest > 0.5:
		bar, amount = t.Amber, 0.9
	}
	return bar, amount
}
