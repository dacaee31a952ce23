package draw

import (
	"image/color"
	"io"
	"strings"

	"codeberg.org/go-pdf/fpdf"
)

// pdfCanvas writes a PDF document with the glyphs that it uses.
type pdfCanvas struct{ doc *fpdf.Fpdf }

// newPDF begins a document with one page; its size is in points.
func newPDF(width, height float64) *pdfCanvas {
	doc := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: width, Ht: height}})
	for _, bold := range []bool{false, true} {
		doc.AddUTF8FontFromBytes(pdfFamily, pdfStyle(bold), fontOf(bold).file)
	}
	doc.AddPage()
	return &pdfCanvas{doc}
}

const pdfFamily = "sans"

func pdfStyle(bold bool) string {
	if bold {
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

func (c *pdfCanvas) polygon(points []point, colour color.NRGBA) {
	corners := make([]fpdf.PointType, len(points))
	for i, p := range points {
		corners[i] = fpdf.PointType{X: p.x, Y: p.y}
	}
	c.doc.SetFillColor(int(colour.R), int(colour.G), int(colour.B))
	c.doc.Polygon(corners, "F")
}

func (c *pdfCanvas) disc(x, y, radius float64, colour color.NRGBA) {
	c.doc.SetFillColor(int(colour.R), int(colour.G), int(colour.B))
	c.doc.Circle(x, y, radius, "F")
}

func (c *pdfCanvas) line(from, to point, width float64, colour color.NRGBA) {
	c.doc.SetDrawColor(int(colour.R), int(colour.G), int(colour.B))
	c.doc.SetLineWidth(width)
	c.doc.Line(from.x, from.y, to.x, to.y)
}

func (c *pdfCanvas) text(x, y, size float64, bold bool, colour color.NRGBA, text string) {
	c.doc.SetTextColor(int(colour.R), int(colour.G), int(colour.B))
	c.doc.SetFont(pdfFamily, pdfStyle(bold), size)
	c.doc.Text(x, y, drawable(text))
}

func (c *pdfCanvas) write(w io.Writer) error { return c.doc.Output(w) }

// likenesses are what the font has in place of some of our shapes.
var likenesses = strings.NewReplacer("◆", "♦", "△", "∆", "◇", "◊", "∅", "Ø", "▸", "►", "◎", "○")

// box is shown in place of a character that the font does not have.
const box = '□'

// drawable returns a text in characters that the font has.
func drawable(text string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x80 || fontOf(false).has(r) {
			return r
		}
		return box
	}, likenesses.Replace(text))
}
