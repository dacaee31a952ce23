package tui

import (
	"image/color"
	"math"
	"strings"

	"charm.land/bubbles/v2/textinput"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/plain"
)

// canvas is a part of the screen's cells. Positions are relative to it, and anything outside is not drawn.
type canvas struct {
	cells         *uv.Buffer
	theme         *theme
	left, top     int
	width, height int
}

// newCanvas returns an empty canvas on the cells of the frame before, as those of a frame take much memory.
func newCanvas(cells *uv.Buffer, t *theme, width, height int) canvas {
	if cells.Width() == width && cells.Height() == height {
		cells.Clear()
	} else {
		*cells = *uv.NewBuffer(width, height)
	}
	return canvas{cells: cells, theme: t, width: width, height: height}
}

// sub is a part of the canvas; it reaches no further than the canvas does.
func (c canvas) sub(x, y, width, height int) canvas {
	c.left, c.top = c.left+x, c.top+y
	c.width, c.height = max(0, min(width, c.width-x)), max(0, min(height, c.height-y))
	return c
}

// style is how text looks.
type style struct {
	colour color.Color
	bold   bool
}

// text writes a text from x on and returns the column behind it. Everything on the screen comes
// through here, so that no character in it acts.
func (c canvas) text(x, y int, s style, text string) int {
	if strings.ContainsFunc(text, plain.Acts) {
		text = plain.Text(text)
	}
	for len(text) > 0 {
		cluster, w := ansi.FirstGraphemeCluster(text, ansi.GraphemeWidth)
		text = text[len(cluster):]
		if w == 0 {
			continue
		}
		if x+w <= c.width {
			c.set(x, y, cluster, w, s)
		}
		x += w
	}
	return x
}

// right writes a text that ends before x.
func (c canvas) right(x, y int, s style, text string) { c.text(x-width(text), y, s, text) }

// set writes one cluster and keeps the background that is there.
func (c canvas) set(x, y int, cluster string, w int, s style) {
	if x < 0 || y < 0 || y >= c.height || x >= c.width {
		return
	}
	cell := uv.Cell{Content: cluster, Width: w, Style: uv.Style{Fg: s.colour}}
	if under := c.cells.CellAt(c.left+x, c.top+y); under != nil {
		cell.Style.Bg = under.Style.Bg
	}
	if s.bold {
		cell.Style.Attrs |= uv.AttrBold
	}
	c.cells.SetCell(c.left+x, c.top+y, &cell)
}

// fill lays a colour under cells, by an amount from 0 to 1.
func (c canvas) fill(x, y, width, height int, colour color.Color, amount float64) {
	for row := max(y, 0); row < min(y+height, c.height); row++ {
		for column := max(x, 0); column < min(x+width, c.width); column++ {
			c.cells.SetCell(c.left+column, c.top+row, c.filled(colour, amount))
		}
	}
}

// clear empties cells, for what is drawn over a view.
func (c canvas) clear(x, y, width, height int) {
	for row := max(y, 0); row < min(y+height, c.height); row++ {
		for column := max(x, 0); column < min(x+width, c.width); column++ {
			c.cells.SetCell(c.left+column, c.top+row, &uv.Cell{Content: " ", Width: 1})
		}
	}
}

func (c canvas) filled(colour color.Color, amount float64) *uv.Cell {
	if c.theme.shades {
		return &uv.Cell{Content: shade(amount), Width: 1, Style: uv.Style{Fg: colour}}
	}
	return &uv.Cell{Content: " ", Width: 1, Style: uv.Style{Bg: c.theme.mix(colour, amount)}}
}

func shade(amount float64) string {
	return [...]string{"░", "▒", "▓", "█"}[min(3, max(0, int(amount*4)))]
}

// bar draws a bar in whole cells, and what is less than one in eighths.
func (c canvas) bar(x, y int, width float64, colour color.Color, amount float64) {
	if width >= 1 {
		c.fill(x, y, int(math.Round(width)), 1, colour, amount)
		return
	}
	look := style{colour: c.theme.mix(colour, amount)}
	if c.theme.shades {
		look.colour = colour
	}
	c.text(x, y, look, string([]rune("▏▎▍▌▋▊▉█")[int(8*width)]))
}

// selectRow marks a row as the one under the cursor: with a background behind its text, or reversed without
// colours.
func (c canvas) selectRow(x, y, width, height int) {
	for row := y; row < min(y+height, c.height); row++ {
		for column := max(x, 0); column < min(x+width, c.width); column++ {
			cell := c.cells.CellAt(c.left+column, c.top+row)
			if cell == nil || cell.Width == 0 {
				continue
			}
			marked := *cell
			switch {
			case c.theme.shades:
				marked.Style.Attrs |= uv.AttrReverse
			case marked.Style.Bg == nil:
				marked.Style.Bg = c.theme.mix(c.theme.leaf, 0.17)
			}
			c.cells.SetCell(c.left+column, c.top+row, &marked)
		}
	}
}

// isBlank reports whether a cell has no text.
func (c canvas) isBlank(x, y int) bool {
	cell := c.cells.CellAt(c.left+x, c.top+y)
	return cell != nil && (cell.Content == " " || cell.Content == "")
}

// mark underlines cells that have a background already, for the cursor on a bar.
func (c canvas) mark(x, y, width int) {
	if y >= c.height {
		return
	}
	for column := max(x, 0); column < min(x+width, c.width); column++ {
		if cell := c.cells.CellAt(c.left+column, c.top+y); cell != nil && cell.Width > 0 {
			marked := *cell
			marked.Style.Underline = uv.UnderlineSingle
			if marked.Style.Fg == nil {
				marked.Style.Fg = c.theme.ink
			}
			c.cells.SetCell(c.left+column, c.top+y, &marked)
		}
	}
}

// rule draws a line across.
func (c canvas) rule(x, y, width int, colour color.Color, with string) {
	if width > 0 {
		c.text(x, y, style{colour: colour}, strings.Repeat(with, width))
	}
}

// plainView is what a text input shows, without its styles.
func plainView(input textinput.Model) string { return ansi.Strip(input.View()) }

// render returns the cells as text with styles.
func (c canvas) render() string { return c.cells.Render() }

// column draws an upright bar on row y, measured in eighths of rows.
func column(c canvas, x, y, thick, eighths int, colour color.Color, amount float64) {
	whole := eighths / 8
	c.fill(x, y-whole, thick, whole, colour, amount)
	if part := eighths % 8; part > 0 && !c.theme.shades {
		glyph := string([]rune("▁▂▃▄▅▆▇")[part-1])
		for i := range thick {
			c.text(x+i, y-whole-1, style{colour: c.theme.mix(colour, amount)}, glyph)
		}
	}
}

// wideScreen is the width from which on lists and cards have a place of their own.
const wideScreen = 120
