package draw

import (
	"bytes"
	"fmt"
	"image/color"
	"io"

	svg "github.com/ajstarks/svgo/float"
)

// svgCanvas writes an SVG document.
type svgCanvas struct {
	doc *svg.SVG
	out bytes.Buffer
}

// newSVG begins a document; its size is in points.
func newSVG(width, height float64) *svgCanvas {
	c := &svgCanvas{}
	c.doc = svg.New(&c.out)
	c.doc.Startunit(width, height, "pt", fmt.Sprintf(`viewBox="0 0 %g %g"`, width, height))
	return c
}

func (c *svgCanvas) polygon(points []point, colour color.NRGBA) {
	x, y := make([]float64, len(points)), make([]float64, len(points))
	for i, p := range points {
		x[i], y[i] = p.x, p.y
	}
	c.doc.Polygon(x, y, "fill:"+hex(colour))
}

func (c *svgCanvas) disc(x, y, radius float64, colour color.NRGBA) {
	c.doc.Circle(x, y, radius, "fill:"+hex(colour))
}

func (c *svgCanvas) line(from, to point, width float64, colour color.NRGBA) {
	c.doc.Line(from.x, from.y, to.x, to.y, fmt.Sprintf("stroke:%s;stroke-width:%g", hex(colour), width))
}

func (c *svgCanvas) text(x, y, size float64, bold bool, colour color.NRGBA, text string) {
	weight := "normal"
	if bold {
		weight = "bold"
	}
	c.doc.Text(x, y, text, fmt.Sprintf("font-family:Liberation Sans,Helvetica,Arial,sans-serif;font-weight:%s;font-size:%gpx;fill:%s", weight, size, hex(colour)))
}

func (c *svgCanvas) write(w io.Writer) error {
	c.doc.End()
	_, err := c.out.WriteTo(w)
	return err
}

func hex(c color.NRGBA) string { return fmt.Sprintf("#%02X%02X%02X", c.R, c.G, c.B) }
