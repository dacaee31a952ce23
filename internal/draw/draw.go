// Package draw makes the pictures that leave Fern Relay: each is drawn once, on
// white in the light set of colours, and written as SVG or PDF.
//
//	err := draw.WriteFile("run.svg", draw.Timeline("glasshouse, run 7", run))
package draw

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"path/filepath"
	"sort"
	"strings"
	"sync"

	imagefont "golang.org/x/image/font"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgsvg"

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
		// A page is as high as all others: what is drawn on it is not to be higher.
		p := &page{canvas: canvas, height: pageHeight}
		p.rect(0, 0, pageWidth, pageHeight, white)
		if d.Height > pageHeight {
			canvas.scaled(pageHeight/d.Height, func() {
				p.height, canvas.height = d.Height, d.Height
				d.paint(p)
				canvas.height = pageHeight
			})
			continue
		}
		d.paint(p)
	}
	_, err := canvas.WriteTo(w)
	return err
}

func write(w io.Writer, d Drawing, ending string) error {
	var canvas canvas
	switch ending {
	case ".svg":
		canvas = vgsvg.New(vg.Length(d.Width), vg.Length(d.Height))
	case ".pdf":
		canvas = newPDF(d.Width, d.Height)
	default:
		return fmt.Errorf("its ending is %q: .svg or .pdf is expected", ending)
	}
	p := &page{canvas: canvas, height: d.Height}
	p.rect(0, 0, d.Width, d.Height, white)
	d.paint(p)
	_, err := canvas.WriteTo(w)
	return err
}

var fonts = sync.OnceValue(func() *font.Cache { return font.NewCache(liberation.Collection()) })

// canvas is the part of a vg.Canvas that a page needs.
type canvas interface {
	SetColor(color.Color)
	SetLineWidth(vg.Length)
	Fill(vg.Path)
	Stroke(vg.Path)
	FillString(font.Face, vg.Point, string)
	io.WriterTo
}

// page draws on a canvas with the origin at the top left.
type page struct {
	canvas canvas
	height float64
}

func (p *page) point(x, y float64) vg.Point {
	return vg.Point{X: vg.Length(x), Y: vg.Length(p.height - y)}
}

func (p *page) fill(c color.Color, points ...vg.Point) {
	var path vg.Path
	path.Move(points[0])
	for _, point := range points[1:] {
		path.Line(point)
	}
	path.Close()
	p.canvas.SetColor(c)
	p.canvas.Fill(path)
}

func (p *page) rect(x, y, width, height float64, c color.Color) {
	p.fill(c, p.point(x, y), p.point(x+width, y), p.point(x+width, y+height), p.point(x, y+height))
}

func (p *page) line(x1, y1, x2, y2, width float64, c color.Color) {
	var path vg.Path
	path.Move(p.point(x1, y1))
	path.Line(p.point(x2, y2))
	p.canvas.SetColor(c)
	p.canvas.SetLineWidth(vg.Length(width))
	p.canvas.Stroke(path)
}

// triangle is the shape of a failure, its middle at x, y.
func (p *page) triangle(x, y, size float64, c color.Color) {
	p.fill(c, p.point(x, y-size), p.point(x+size, y+size*0.8), p.point(x-size, y+size*0.8))
}

func (p *page) disc(x, y, radius float64, c color.Color) {
	var path vg.Path
	path.Move(p.point(x+radius, y))
	path.Arc(p.point(x, y), vg.Length(radius), 0, 2*math.Pi)
	path.Close()
	p.canvas.SetColor(c)
	p.canvas.Fill(path)
}

// align is the position of a text relative to its point.
type align float64

const (
	fromLeft  align = 0
	centred   align = 0.5
	fromRight align = 1
)

func face(size float64, bold bool) *font.Face {
	f := font.Font{Typeface: "Liberation", Variant: "Sans", Size: vg.Length(size)}
	if bold {
		f.Weight = imagefont.WeightBold
	}
	found := fonts().Lookup(f, f.Size)
	return &found
}

// text writes one line; y is its base line. What acts in it goes: in XML it would be an error.
func (p *page) text(x, y, size float64, bold bool, at align, c color.Color, text string) {
	text = strings.ReplaceAll(plain.Text(text), "\n", " ")
	f := face(size, bold)
	p.canvas.SetColor(c)
	p.canvas.FillString(*f, p.point(x-float64(at)*float64(f.Width(text)), y), text)
}

// fits cuts a text to a width in points.
func fits(text string, size, width float64) string {
	f := face(size, false)
	room := func(text string) bool { return float64(f.Width(text)) <= width }
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
