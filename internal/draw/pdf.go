package draw

import (
	"bytes"
	"image/color"
	"io"
	"math"
	"strings"
	"sync"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/sfnt"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
)

// pdfCanvas writes a PDF document with the glyphs that it uses. gonum's own canvas for PDF embeds whole fonts and knows
// no characters but those of Windows-1252.
type pdfCanvas struct {
	doc    *fpdf.Fpdf
	height float64
}

// newPDF begins a document with one page; its size is in points.
func newPDF(width, height float64) *pdfCanvas {
	doc := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: width, Ht: height}})
	for _, bold := range []bool{false, true} {
		f := face(1, bold)
		var raw bytes.Buffer
		if _, err := f.Face.WriteSourceTo(nil, &raw); err != nil {
			panic(err) // the font is part of the program
		}
		doc.AddUTF8FontFromBytes(pdfFamily, pdfStyle(f), raw.Bytes())
	}
	doc.AddPage()
	return &pdfCanvas{doc, height}
}

const pdfFamily = "sans"

func pdfStyle(f *font.Face) string {
	if f.Font.Weight > 0 {
		return "B"
	}
	return ""
}

func (c *pdfCanvas) nextPage() { c.doc.AddPage() }

// scaled draws with all lengths changed by a factor, from the top left corner.
func (c *pdfCanvas) scaled(by float64, draw func()) {
	c.doc.TransformBegin()
	c.doc.TransformScale(100*by, 100*by, 0, 0)
	draw()
	c.doc.TransformEnd()
}

func (c *pdfCanvas) SetColor(clr color.Color) {
	r, g, b, _ := clr.RGBA()
	c.doc.SetFillColor(int(r>>8), int(g>>8), int(b>>8))
	c.doc.SetDrawColor(int(r>>8), int(g>>8), int(b>>8))
	c.doc.SetTextColor(int(r>>8), int(g>>8), int(b>>8))
}

func (c *pdfCanvas) SetLineWidth(width vg.Length) { c.doc.SetLineWidth(width.Points()) }
func (c *pdfCanvas) Fill(p vg.Path)               { c.draw(p, "F") }
func (c *pdfCanvas) Stroke(p vg.Path)             { c.draw(p, "D") }

func (c *pdfCanvas) draw(path vg.Path, style string) {
	for _, part := range path {
		x, y := c.at(part.Pos)
		switch part.Type {
		case vg.MoveComp:
			c.doc.MoveTo(x, y)
		case vg.LineComp:
			c.doc.LineTo(x, y)
		case vg.ArcComp: // counterclockwise here and there
			r := part.Radius.Points()
			c.doc.ArcTo(x, y, r, r, 0, part.Start*180/math.Pi, (part.Start+part.Angle)*180/math.Pi)
		case vg.CloseComp:
			c.doc.ClosePath()
		}
	}
	c.doc.DrawPath(style)
}

// at turns a point that counts from the bottom into one that counts from the top.
func (c *pdfCanvas) at(p vg.Point) (x, y float64) { return p.X.Points(), c.height - p.Y.Points() }

func (c *pdfCanvas) FillString(f font.Face, at vg.Point, text string) {
	c.doc.SetFont(pdfFamily, pdfStyle(&f), f.Font.Size.Points())
	x, y := c.at(at)
	c.doc.Text(x, y, drawable(text))
}

func (c *pdfCanvas) WriteTo(w io.Writer) (int64, error) {
	var out bytes.Buffer
	if err := c.doc.Output(&out); err != nil {
		return 0, err
	}
	return out.WriteTo(w)
}

// likenesses are what the font has in place of some of our shapes.
var likenesses = strings.NewReplacer("◆", "♦", "△", "∆", "◇", "◊", "∅", "Ø", "▸", "►", "◎", "○")

// box is shown in place of a character that the font does not have.
const box = '□'

// drawable returns a text in characters that the font has.
func drawable(text string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x80 || hasGlyph(r) {
			return r
		}
		return box
	}, likenesses.Replace(text))
}

// glyphs guards the buffer that reading the font needs.
var glyphs struct {
	sync.Mutex
	buffer sfnt.Buffer
}

func hasGlyph(r rune) bool {
	glyphs.Lock()
	defer glyphs.Unlock()
	at, err := face(1, false).Face.GlyphIndex(&glyphs.buffer, r)
	return err == nil && at != 0
}
