// Package screen draws on the cells of a terminal: the canvas and its colours, names that are cut where nothing is lost, time axes, and
// sheets that ask for a few things.
//
//	c := screen.NewCanvas(&cells, screen.NewTheme(nil, true, profile), 160, 40)
//	c.Text(2, 0, screen.Style{Colour: c.Theme.Ink, Bold: true}, screen.Cut(name, 40))
//	c.Bar(2, 1, 12.5, c.Theme.Leaf, 0.6)
//	frame := c.Render()
//
// Nothing here knows of the work that it shows, but for the shapes and colours of outcomes.
package screen

import (
	"image/color"
	"math"
	"strings"

	"charm.land/bubbles/v2/textinput"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/plain"
)

// Canvas is a part of the screen's cells. Positions are relative to it, and anything outside is not drawn.
type Canvas struct {
	Cells         *uv.Buffer
	Theme         *Theme
	Left, Top     int
	Width, Height int
}

// NewCanvas returns an empty canvas on the cells of the frame before, as those of a frame take much memory.
func NewCanvas(cells *uv.Buffer, t *Theme, width, height int) Canvas {
	if cells.Width() == width && cells.Height() == height {
		cells.Clear()
	} else {
		*cells = *uv.NewBuffer(width, height)
	}
	return Canvas{Cells: cells, Theme: t, Width: width, Height: height}
}

// Sub is a part of the canvas; it reaches no further than the canvas does.
func (c Canvas) Sub(x, y, width, height int) Canvas {
	c.Left, c.Top = c.Left+x, c.Top+y
	c.Width, c.Height = max(0, min(width, c.Width-x)), max(0, min(height, c.Height-y))
	return c
}

// Style is how text looks.
type Style struct {
	Colour color.Color
	Bold   bool
}

// Text writes a text from x on and returns the column behind it. Everything on the screen comes
// through here, so that no character in it acts.
func (c Canvas) Text(x, y int, s Style, text string) int {
	if strings.ContainsFunc(text, plain.IsUnsafe) {
		text = plain.Text(text)
	}
	for len(text) > 0 {
		cluster, w := ansi.FirstGraphemeCluster(text, ansi.GraphemeWidth)
		text = text[len(cluster):]
		if w == 0 {
			continue
		}
		if x+w <= c.Width {
			c.set(x, y, cluster, w, s)
		}
		x += w
	}
	return x
}

// Right writes a text that ends before x.
func (c Canvas) Right(x, y int, s Style, text string) { c.Text(x-Width(text), y, s, text) }

// set writes one cluster and keeps the background that is there.
func (c Canvas) set(x, y int, cluster string, w int, s Style) {
	if x < 0 || y < 0 || y >= c.Height || x >= c.Width {
		return
	}
	cell := uv.Cell{Content: cluster, Width: w, Style: uv.Style{Fg: s.Colour}}
	if under := c.Cells.CellAt(c.Left+x, c.Top+y); under != nil {
		cell.Style.Bg = under.Style.Bg
	}
	if s.Bold {
		cell.Style.Attrs |= uv.AttrBold
	}
	c.Cells.SetCell(c.Left+x, c.Top+y, &cell)
}

// Fill lays a colour under cells, by an amount from 0 to 1.
func (c Canvas) Fill(x, y, width, height int, colour color.Color, amount float64) {
	for row := max(y, 0); row < min(y+height, c.Height); row++ {
		for column := max(x, 0); column < min(x+width, c.Width); column++ {
			c.Cells.SetCell(c.Left+column, c.Top+row, c.filled(colour, amount))
		}
	}
}

// Clear empties cells, for what is drawn over a view.
func (c Canvas) Clear(x, y, width, height int) {
	for row := max(y, 0); row < min(y+height, c.Height); row++ {
		for column := max(x, 0); column < min(x+width, c.Width); column++ {
			c.Cells.SetCell(c.Left+column, c.Top+row, &uv.Cell{Content: " ", Width: 1})
		}
	}
}

func (c Canvas) filled(colour color.Color, amount float64) *uv.Cell {
	if c.Theme.Shades {
		return &uv.Cell{Content: shade(amount), Width: 1, Style: uv.Style{Fg: colour}}
	}
	return &uv.Cell{Content: " ", Width: 1, Style: uv.Style{Bg: c.Theme.Mix(colour, amount)}}
}

func shade(amount float64) string {
	return [...]string{"░", "▒", "▓", "█"}[min(3, max(0, int(amount*4)))]
}

// Bar draws a bar in whole cells, and what is less than one in eighths.
func (c Canvas) Bar(x, y int, width float64, colour color.Color, amount float64) {
	if width >= 1 {
		c.Fill(x, y, int(math.Round(width)), 1, colour, amount)
		return
	}
	look := Style{Colour: c.Theme.Mix(colour, amount)}
	if c.Theme.Shades {
		look.Colour = colour
	}
	c.Text(x, y, look, string([]rune("▏▎▍▌▋▊▉█")[int(8*width)]))
}

// SelectRow marks a row as the one under the cursor: with a background behind its text, or reversed without
// colours.
func (c Canvas) SelectRow(x, y, width, height int) {
	for row := y; row < min(y+height, c.Height); row++ {
		for column := max(x, 0); column < min(x+width, c.Width); column++ {
			cell := c.Cells.CellAt(c.Left+column, c.Top+row)
			if cell == nil || cell.Width == 0 {
				continue
			}
			marked := *cell
			switch {
			case c.Theme.Shades:
				marked.Style.Attrs |= uv.AttrReverse
			case marked.Style.Bg == nil:
				marked.Style.Bg = c.Theme.Mix(c.Theme.Leaf, 0.17)
			}
			c.Cells.SetCell(c.Left+column, c.Top+row, &marked)
		}
	}
}

// IsBlank reports whether a cell has no text.
func (c Canvas) IsBlank(x, y int) bool {
	cell := c.Cells.CellAt(c.Left+x, c.Top+y)
	return cell != nil && (cell.Content == " " || cell.Content == "")
}

// Mark underlines cells that have a background already, for the cursor on a bar.
func (c Canvas) Mark(x, y, width int) {
	if y >= c.Height {
		return
	}
	for column := max(x, 0); column < min(x+width, c.Width); column++ {
		if cell := c.Cells.CellAt(c.Left+column, c.Top+y); cell != nil && cell.Width > 0 {
			marked := *cell
			marked.Style.Underline = uv.UnderlineSingle
			if marked.Style.Fg == nil {
				marked.Style.Fg = c.Theme.Ink
			}
			c.Cells.SetCell(c.Left+column, c.Top+y, &marked)
		}
	}
}

// Rule draws a line across.
func (c Canvas) Rule(x, y, width int, colour color.Color, with string) {
	if width > 0 {
		c.Text(x, y, Style{Colour: colour}, strings.Repeat(with, width))
	}
}

// PlainView is what a text input shows, without its styles.
func PlainView(input textinput.Model) string { return ansi.Strip(input.View()) }

// Render returns the cells as text with styles.
func (c Canvas) Render() string { return c.Cells.Render() }

// DrawColumn draws an upright bar on row y, measured in eighths of rows.
func DrawColumn(c Canvas, x, y, thick, eighths int, colour color.Color, amount float64) {
	whole := eighths / 8
	c.Fill(x, y-whole, thick, whole, colour, amount)
	if part := eighths % 8; part > 0 && !c.Theme.Shades {
		glyph := string([]rune("▁▂▃▄▅▆▇")[part-1])
		for i := range thick {
			c.Text(x+i, y-whole-1, Style{Colour: c.Theme.Mix(colour, amount)}, glyph)
		}
	}
}

// WideScreen is the width from which on lists and cards have a place of their own.
const WideScreen = 120
