// Package draw makes the pictures that leave Fern Relay: each is drawn once, on
// white in the light set of colours, and written as SVG or PDF.
//
//	err := draw.WriteFile("run.svg", draw.Timeline("glasshouse, run 7", run))
package draw

import (
	"fmt"
	"image/color"
	"io"
	"path/filepath"
	"sort"
	"strings"

	"fernrelay/core/plain"
	"fernrelay/internal/wholefile"
)

// The light set of colours, and the greys of a page.
var (
	leaf   = color.NRGBA{0x3F, 0x6B, 0x3A, 0xFF}
	rust   = color.NRGBA{0xA6, 0x3D, 0x22, 0xFF}
	amber  = color.NRGBA{0x8A, 0x5A, 0x00, 0xFF}
	orchid = color.NRGBA{0x7A, 0x3E, 0x92, 0xFF}
	water  = color.NRGBA{0x22, 0x62, 0x8A, 0xFF}
	fog    = color.NRGBA{0x6B, 0x76, 0x72, 0xFF}
	ink    = color.NRGBA{0x1B, 0x22, 0x20, 0xFF}
	white  = color.NRGBA{0xFF, 0xFF, 0xFF, 0xFF}
)

// Drawing is a picture that has not met its canvas yet. Lengths are in points
// from the top left corner.
type Drawing struct {
	Width, Height float64
	paint         func(*page)
}

// WriteFile writes the drawing to a file, as SVG or PDF by its ending.
func WriteFile(name string, d Drawing) error {
	err := wholefile.Write(name, func(w io.Writer) error { return write(w, d, strings.ToLower(filepath.Ext(name))) })
	if err != nil {
		return fmt.Errorf("the drawing %s: %w", name, err)
	}
	return nil
}

// WriteSVG writes the drawing as SVG.
func WriteSVG(w io.Writer, d Drawing) error { return write(w, d, ".svg") }

// WritePages writes drawings as the pages of one PDF document.
func WritePages(w io.Writer, pages []Drawing) error {
	canvas := newPDF(pageWidth, pageHeight)
	for i, d := range pages {
		if i > 0 {
			canvas.nextPage()
		}
		p := &page{canvas}
		p.rect(0, 0, pageWidth, pageHeight, white)
		if d.Height > pageHeight { // pages are of one height
			canvas.scaled(pageHeight/d.Height, func() { d.paint(p) })
			continue
		}
		d.paint(p)
	}
	return canvas.write(w)
}

func write(w io.Writer, d Drawing, ending string) error {
	var canvas canvas
	switch ending {
	case ".svg":
		canvas = newSVG(d.Width, d.Height)
	case ".pdf":
		canvas = newPDF(d.Width, d.Height)
	default:
		return fmt.Errorf("its ending is %q: .svg or .pdf is expected", ending)
	}
	p := &page{canvas}
	p.rect(0, 0, d.Width, d.Height, white)
	d.paint(p)
	return canvas.write(w)
}

// canvas is a medium that drawings are written to. Lengths are in points, from the top left corner.
type canvas interface {
	polygon(points []point, c color.NRGBA)
	disc(x, y, radius float64, c color.NRGBA)
	line(from, to point, width float64, c color.NRGBA)
	text(x, y, size float64, bold bool, c color.NRGBA, text string) // y is its base line
	write(w io.Writer) error
}

type point struct{ x, y float64 }

// page draws shapes and texts on a canvas.
type page struct{ canvas canvas }

func (p *page) rect(x, y, width, height float64, c color.NRGBA) {
	p.canvas.polygon([]point{{x, y}, {x + width, y}, {x + width, y + height}, {x, y + height}}, c)
}

func (p *page) line(x1, y1, x2, y2, width float64, c color.NRGBA) {
	p.canvas.line(point{x1, y1}, point{x2, y2}, width, c)
}

// triangle is the shape of a failure, its middle at x, y.
func (p *page) triangle(x, y, size float64, c color.NRGBA) {
	p.canvas.polygon([]point{{x, y - size}, {x + size, y + size*0.8}, {x - size, y + size*0.8}}, c)
}

func (p *page) disc(x, y, radius float64, c color.NRGBA) { p.canvas.disc(x, y, radius, c) }

// align is the position of a text relative to its point.
type align float64

const (
	fromLeft  align = 0
	centred   align = 0.5
	fromRight align = 1
)

// text writes one line; y is its base line. What acts in it goes: in XML it would be an error.
func (p *page) text(x, y, size float64, bold bool, at align, c color.NRGBA, text string) {
	text = strings.ReplaceAll(plain.Text(text), "\n", " ")
	p.canvas.text(x-float64(at)*fontOf(bold).width(text, size), y, size, bold, c, text)
}

// fits cuts a text to a width in points.
func fits(text string, size, width float64) string {
	room := func(text string) bool { return fontOf(false).width(text, size) <= width }
	if width < size {
		return "" // which nobody could read
	}
	if room(text) {
		return text
	}
	runes := []rune(text)
	n := sort.Search(len(runes), func(n int) bool { return !room(string(runes[:n+1]) + "…") })
	if n < 2 {
		return ""
	}
	return string(runes[:n]) + "…"
}

// mixed is a colour by amount over white.
func mixed(c color.NRGBA, amount float64) color.NRGBA {
	mix := func(v uint8) uint8 { return uint8(255 - amount*float64(255-v)) }
	return color.NRGBA{mix(c.R), mix(c.G), mix(c.B), 0xFF}
}
