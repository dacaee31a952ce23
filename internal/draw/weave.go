package draw

import (
	"fmt"
	"math"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/plain"
)

const (
	weaveTop    = 104.0
	weaveRow    = 17.0
	weaveColumn = 52.0
	weaveNames  = 190.0
	weaveEnds   = 110.0 // the margins of tests and time
	indent      = 12.0
)

// weave draws the crosstab of groups and tags: a cell is shaded by the tests in it, green if the pick selects
// some. title names the project, text is the pick.
//
// The columns have one width and the names of groups another, so the page grows with the number of tags; rows that fold in the
// application are all shown, as a reader of a file cannot unfold them.
func weave(title, text string, w *catalog.Weave) Drawing {
	rows := w.Rows(func(int) bool { return false }, catalog.ByName)
	columns := w.Columns(catalog.ByTests)
	right := margin + weaveNames + float64(len(columns))*weaveColumn + weaveEnds
	bottom := weaveTop + float64(len(rows))*weaveRow
	return Drawing{Width: max(right+margin, pageWidth), Height: bottom + 76, paint: func(p *page) {
		p.text(margin, 36, 15, true, fromLeft, ink, title)
		words := "no pick: all tests"
		if text != "" {
			words = "pick: " + plain.Line(text)
		}
		p.text(margin, 56, 10, false, fromLeft, fog, fmt.Sprintf("%s; %d of %d tests, %s of %s of work%s", fits(words, 10, 500), w.Total.Picked.Tests, w.Total.All.Tests,
			history.ClockTenths(w.Total.Picked.Seconds), history.ClockTenths(w.Total.All.Seconds), history.OfWhichEstimated(w.Total.Picked.Seconds, w.Total.Picked.Estimated)))
		weaveHead(p, w, columns, right)
		for i, n := range rows {
			weaveCells(p, w, n, columns, weaveTop+float64(i)*weaveRow, right)
		}
		weaveTotals(p, w, columns, bottom, right)
		weaveLegend(p, w.Most, bottom+56)
	}}
}

func weaveHead(p *page, w *catalog.Weave, columns []int, right float64) {
	p.text(margin, weaveTop-8, 9, false, fromLeft, fog, "group")
	for i, k := range columns {
		p.text(columnEnd(i), weaveTop-8, 9, false, fromRight, fog, fits(plain.Line(w.Tags[k]), 9, weaveColumn-6))
	}
	p.text(right-50, weaveTop-8, 9, false, fromRight, fog, "tests")
	p.text(right, weaveTop-8, 9, false, fromRight, fog, "time")
}

// columnEnd is the right end of a column's numbers.
func columnEnd(i int) float64 { return margin + weaveNames + float64(i+1)*weaveColumn - 8 }

func weaveCells(p *page, w *catalog.Weave, node int, columns []int, y, right float64) {
	n := &w.Nodes[node]
	look := fog
	if w.Margin[node].Picked.Tests > 0 {
		look = ink
	}
	x := margin + float64(n.Depth)*indent
	p.text(x, y+12, 10, n.Folds(), fromLeft, look, fits(plain.Line(n.Label), 10, weaveNames-16-float64(n.Depth)*indent))
	for i, k := range columns {
		cell := w.Cells[node][k]
		if cell.All.Tests == 0 {
			continue
		}
		amount := 0.1 + 0.5*math.Min(1, float64(cell.All.Tests)/float64(max(w.Most, 1)))
		shade, number := mixed(fog, amount*0.5), fog
		if cell.Picked.Tests > 0 {
			shade, number = mixed(leaf, amount), ink
		}
		p.rect(columnEnd(i)-weaveColumn+12, y, weaveColumn-6, weaveRow, shade)
		p.text(columnEnd(i), y+12, 9, cell.Picked.Tests > 0, fromRight, number, cell.String())
	}
	p.text(right-50, y+12, 10, false, fromRight, look, w.Margin[node].String())
	p.text(right, y+12, 10, false, fromRight, look, history.Clock(w.Margin[node].All.Seconds))
}

func weaveTotals(p *page, w *catalog.Weave, columns []int, bottom, right float64) {
	p.line(margin, bottom+5, right, bottom+5, 0.6, fog)
	p.text(margin, bottom+20, 10, true, fromLeft, ink, "all")
	for i, k := range columns {
		p.text(columnEnd(i), bottom+20, 9, false, fromRight, ink, w.Cols[k].String())
	}
	p.text(right-50, bottom+20, 10, true, fromRight, ink, w.Total.String())
	p.text(right, bottom+20, 10, true, fromRight, ink, history.Clock(w.Total.All.Seconds))
}

func weaveLegend(p *page, most int, y float64) {
	x := margin
	for _, of := range []struct {
		colour [2]float64 // the amounts of the least and the most
		leaf   bool
		words  string
	}{{[2]float64{0.1, 0.6}, true, "picked"}, {[2]float64{0.05, 0.3}, false, "not held"}} {
		colour := fog
		if of.leaf {
			colour = leaf
		}
		for i := range 5 {
			amount := of.colour[0] + (of.colour[1]-of.colour[0])*float64(i)/4
			p.rect(x+float64(i)*14, y-9, 14, 11, mixed(colour, amount))
		}
		p.text(x+78, y, 9, false, fromLeft, fog, of.words)
		x += 180
	}
	p.text(x, y, 9, false, fromLeft, fog, fmt.Sprintf("shaded by the number of tests, from 1 to %d in a group", most))
}
