package draw

import (
	"strings"

	"fernrelay/core/plain"
)

// Line is a line of a text in pages.
type Line struct {
	Text   string
	Tone   Tone
	Indent int
	Keep   int // the number of following lines that stay on its page
}

// Tone says how a line looks.
type Tone int

// The tones.
const (
	Plain Tone = iota
	Title
	Heading
	Bad
	Faint
)

const (
	lineHeight = 13.0
	indentBy   = 14.0
)

// Pages sets lines on as many pages as they need, and cuts lines that are too long.
//
// A heading says that the lines after it stay on its page, so that no page ends with a heading. Drawings are pages of their own, because
// they scale and text does not.
func Pages(lines []Line) []Drawing {
	const room = pageHeight - 2*margin
	var pages []Drawing
	for len(lines) > 0 {
		n, used := 0, 0.0
		for n < len(lines) && used+lines[n].height()+float64(lines[n].Keep)*lineHeight <= room {
			used += lines[n].height()
			n++
		}
		n = max(1, n)
		some := lines[:n]
		lines = lines[n:]
		pages = append(pages, Drawing{Width: pageWidth, Height: pageHeight, paint: func(p *page) { set(p, some) }})
	}
	return pages
}

func (l Line) height() float64 {
	switch l.Tone {
	case Title:
		return 28
	case Heading:
		return 24
	}
	return lineHeight
}

func set(p *page, lines []Line) {
	y := margin
	for _, l := range lines {
		y += l.height()
		x := margin + indentBy*float64(l.Indent)
		size, bold, c := 9.0, false, ink
		switch l.Tone {
		case Title:
			size, bold = 16, true
		case Heading:
			size, bold = 11.5, true
		case Bad:
			c = rust
		case Faint:
			c = fog
		}
		p.text(x, y-4, size, bold, fromLeft, c, fits(strings.TrimRight(plain.Text(l.Text), " \n"), size, pageWidth-margin-x))
	}
}
