package tui

import (
	"fmt"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/internal/wording"
)

const (
	cellWidth  = 9
	namesWidth = 32 // of groups, if the columns need the rest
	listWidth  = 48
	tallScreen = 30 // from here on the funnel has
)

// weaveWidth returns the columns that the weave has.
func (v survey) weaveWidth(width int) int {
	if width >= wideScreen {
		return width - listWidth - 4
	}
	return width
}

// below returns the rows that are kept below the weave.
func (v survey) below(height int) int {
	switch {
	case height >= tallScreen:
		return funnelRows(&v.session.picked) + 8
	case height >= 18:
		return 7
	}
	return 0
}

// fitWeave decides which rows and columns of the weave are shown.
func (v *survey) fitWeave(width, height int) {
	l := &v.arranged
	margins := width - 18
	columns := len(l.columns) * cellWidth
	if columns == 0 {
		columns = len(noTags)
	}
	v.names = min(l.names, max(namesWidth, margins-2-columns))
	v.columns = max(1, min((margins-2-v.names)/cellWidth, len(l.columns)))
	v.left = follow(v.left, min(v.column, len(l.columns)-1), v.columns, len(l.columns))
	v.rows = max(0, min(len(l.rows), height-3))
	v.top = follow(v.top, min(v.row, len(l.rows)-1), v.rows, len(l.rows))
}

func (v survey) draw(c canvas) {
	wide := c.width >= wideScreen
	if v.focus == onCard {
		v.drawCard(c.sub(2, 1, c.width-4, c.height-1), true)
		return
	}
	if !wide && v.focus == onList {
		v.drawList(c.sub(1, 1, c.width-2, c.height-9))
		v.drawFoot(c.sub(2, c.height-7, c.width-4, 7))
		return
	}
	weaveWidth, below := v.weaveWidth(c.width), v.below(c.height)
	if wide {
		v.drawList(c.sub(v.listLeft, 1, listWidth, c.height-1))
	}
	used := v.drawWeave(c.sub(0, 1, weaveWidth, c.height-1-below))
	if below == 0 {
		return
	}
	y := 1 + used + 1
	if c.height >= tallScreen {
		y += v.drawFunnel(c.sub(2, y, weaveWidth-2, funnelRows(&v.session.picked)+1)) + 1
		v.drawCard(c.sub(2, y, weaveWidth-4, c.height-y), false)
		return
	}
	v.drawFoot(c.sub(2, y, weaveWidth-4, c.height-y))
}

// drawFoot draws the card or, if asked for and without other room, why the test is in the pick or out.
func (v survey) drawFoot(c canvas) {
	if v.why {
		v.drawFunnel(c)
		return
	}
	v.drawCard(c, false)
}

// noTags is shown in place of the columns if there are none.
const noTags = "no tags yet: write //fern:tags above a test, or [tags] into fern.toml"

// drawWeave draws the crosstab and returns how many rows it took.
func (v survey) drawWeave(c canvas) int {
	t, l := c.theme, &v.arranged
	rows, shown := v.rows, v.columns
	v.drawHead(c, shown)
	if len(l.columns) == 0 {
		c.text(2+v.names, 0, style{colour: t.faint()}, cut(noTags, c.width-18-v.names-3))
	}
	for i := range rows {
		v.drawWeaveRow(c, 1+i, v.top+i, shown)
	}
	y := rows + 1
	c.rule(2, y, c.width-4, t.faint(), "┄")
	if more := len(l.rows) - v.top - rows; more > 0 {
		c.text(2, y, style{colour: t.fog}, fmt.Sprintf("%d more below ", more))
	}
	c.text(2, y+1, style{t.ink, true}, "all")
	v.drawCells(c, y+1, len(l.rows), shown)
	return y + 2
}

// drawHead draws the tags above their columns, with what the pick does with each.
func (v survey) drawHead(c canvas, shown int) {
	t, l, s := c.theme, &v.arranged, v.session
	group := "group"
	if v.byRow != catalog.ByName {
		group += " by " + string(v.byRow)
	}
	c.text(2, 0, style{colour: t.fog}, group)
	for i := range shown {
		tag := l.tag(v.left + i)
		if tag == "" {
			break
		}
		look := style{t.fog, v.left+i == v.column}
		if s.picked.text != "" && s.picked.weave.Cols[l.columns[v.left+i]].Picked.Tests > 0 {
			look.colour = t.leaf
		}
		right := 2 + v.names + (i+1)*cellWidth - 2
		c.right(right, 0, look, cut(plain.Line(tag), cellWidth-2))
		switch s.picked.signs[tag] {
		case "+":
			c.text(right+1, 0, style{t.leaf, true}, "+")
		case "-":
			c.text(right+1, 0, style{t.rust, true}, "-")
		}
	}
	if v.left > 0 {
		c.text(v.names, 0, style{colour: t.fog}, "‹")
	}
	if v.left+shown < len(l.columns) {
		c.text(2+v.names+shown*cellWidth, 0, style{colour: t.fog}, "›")
	}
	c.right(c.width-10, 0, style{t.fog, v.column == len(l.columns)}, "tests")
	c.right(c.width-2, 0, style{colour: t.fog}, "time")
}

func (v survey) drawWeaveRow(c canvas, y, row, shown int) {
	t, l := c.theme, &v.arranged
	node := l.node(row)
	name, x := style{colour: t.ink}, 2+2*node.Depth
	if l.cell(row, len(l.columns)).Picked.Tests == 0 {
		name.colour = t.fog
	}
	if node.Folds() {
		arrow := "▾"
		if v.folded[foldKey(node)] {
			arrow = "▸"
		}
		c.text(x, y, style{colour: t.fog}, arrow)
	}
	if l.folding {
		x += 2
	}
	c.text(x, y, name, cutGroup(plain.Line(node.Label), v.names-(x-2)-1))
	v.drawCells(c, y, row, shown)
}

// drawCells draws the cells of a row and its margins; the row behind the last is
// that of all.
func (v survey) drawCells(c canvas, y, row, shown int) {
	t, l := c.theme, &v.arranged
	all := row == len(l.rows)
	for i := range min(shown, len(l.columns)-v.left) {
		at, cell := 2+v.names+i*cellWidth, l.cell(row, v.left+i)
		if all {
			look := style{colour: t.fog}
			if cell.Picked.Tests > 0 && v.session.picked.text != "" {
				look.colour = t.leaf
			}
			c.right(at+cellWidth-2, y, look, cell.String())
		} else {
			v.drawCell(c, at, y, cell, min(1, float64(cell.All.Tests)/float64(max(l.weave.Most, 1))))
		}
		if row == v.row && v.left+i == v.column {
			v.drawCursor(c, at, y, cellWidth-1)
		}
	}
	margin := l.cell(row, len(l.columns))
	number := style{t.ink, all}
	if margin.Picked.Tests == 0 && !all {
		number.colour = t.fog
	}
	c.right(c.width-10, y, number, margin.String())
	c.right(c.width-2, y, number, history.Clock(margin.All.Seconds))
	if row == v.row && v.column == len(l.columns) {
		v.drawCursor(c, c.width-18, y, 9)
	}
}

func (v survey) drawCell(c canvas, x, y int, cell catalog.Cell, amount float64) {
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
	c.right(x+cellWidth-3, y, look, " "+cut(cell.String(), cellWidth-3))
}

func (v survey) drawCursor(c canvas, x, y, width int) {
	look := style{c.theme.leaf, true}
	if v.focus != onWeave {
		look.colour = c.theme.fog
	}
	c.text(x-1, y, look, "▐")
	c.text(x+width-1, y, look, "▌")
}

// drawList draws the tests of the cell under the cursor: expected time, last
// outcomes, name.
func (v survey) drawList(c canvas) {
	t, l, list := c.theme, &v.arranged, &v.listed
	heading := "all"
	if n := l.node(v.row); n != nil {
		heading = plain.Line(n.Path)
		if n.Path == "" || n.Path == "." {
			heading = n.Suite
		}
	}
	if tag := l.tag(v.column); tag != "" {
		heading += " · " + plain.Line(tag)
	}
	total := fmt.Sprintf("%s · %s", wording.Plural(list.sum.Tests, "test"), history.Clock(list.sum.Seconds))
	c.right(c.width-1, 0, style{colour: t.fog}, total)
	c.text(0, 0, style{t.ink, true}, cutGroup(heading, c.width-width(total)-2))
	if list.sum.Tests == 0 {
		c.text(0, 2, style{colour: t.fog}, "no test is here")
		return
	}
	c.text(0, 1, style{colour: t.faint()}, "0")
	c.right(barWidth, 1, style{colour: t.faint()}, history.Short(list.sum.Longest))
	c.right(barWidth+1+pastShown, 1, style{colour: t.faint()}, "past")
	y := 2
	members := list.members.From(v.testTop, c.height-2)
	common := sharedIn(members, func(test int) string { return plain.Line(v.session.picked.Catalog.Tests[test].Name) }, c.width-testLeft-2)
	for i, index := range members {
		if y >= c.height {
			return
		}
		v.drawTest(c, y, index, list.sum.Longest, common, v.testTop+i == v.test && v.step() == "")
		y++
		if v.session.picked.Catalog.Tests[index].ID == v.steps.test {
			y = v.drawSteps(c, y)
		}
	}
}

const (
	barWidth  = 10
	pastShown = 8
	testLeft  = barWidth + pastShown + 3 // of the names
)

func (v survey) drawTest(c canvas, y, index int, longest float64, common shared, current bool) {
	t, s := c.theme, v.session
	test := &s.picked.Catalog.Tests[index]
	look := style{colour: t.ink, bold: current && v.focus == onList}
	bar, amount := t.fog, 0.65
	held := s.picked.held.Has(index)
	switch {
	case !held:
		look.colour, amount = t.fog, 0.3
	case s.picked.text != "":
		bar = t.leaf
	}
	switch {
	case !test.Known:
		amount = 0.15 // a guess
	case test.Expected >= longest*0.7 && held && longest > 0.5:
		bar, amount = t.amber, 0.9
	}
	c.bar(0, y, max(barWidth*test.Expected/max(longest, 1e-9), 0.25), bar, amount)
	drawPast(c, barWidth+1, y, s.picked.Past[index], pastShown)
	name, rules, room := plain.Line(test.Name), ruleWords(test), c.width-testLeft-2
	x := c.text(testLeft, y, look, common.cut(name, max(room-width(rules), room/2)))
	c.text(x+2, y, style{colour: t.amber}, cut(rules, c.width-x-2))
	if current {
		c.selectRow(0, y, c.width, 1)
	}
}
