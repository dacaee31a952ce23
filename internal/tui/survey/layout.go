package survey

import (
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/internal/tui/screen"
)

// layout is which rows and columns the weave has, worked out when the figures,
// the folds or the orders change.
type layout struct {
	weave           *catalog.Weave
	byRow, byColumn catalog.Order
	folds           int
	Rows            []int // nodes
	Columns         []int // indexes of tags
	names           int   // the width of the widest group's name, with its air
	folding         bool  // some row folds
	suites          bool  // there is more than one suite
}

// foldBeyond is the number of rows beyond which folders are folded at first.
const foldBeyond = 36

// Arrange brings the layout up to date. The cursor stays on its group and tag.
func (v *View) Arrange() {
	w, old := v.session.Picked.Weave, v.Arranged
	if old.weave == w && old.byRow == v.byRow && old.byColumn == v.byColumn && old.folds == v.folds {
		return
	}
	if v.folded == nil {
		v.foldAtFirst(w)
	}
	l := layout{weave: w, byRow: v.byRow, byColumn: v.byColumn, folds: v.folds,
		Rows: w.Rows(func(n int) bool { return v.folded[foldKey(&w.Nodes[n])] }, v.byRow), Columns: w.Columns(v.byColumn)}
	for i := range w.Nodes {
		l.folding = l.folding || w.Nodes[i].Folds()
		l.suites = l.suites || w.Nodes[i].Suite != w.Nodes[0].Suite
	}
	for _, n := range l.Rows {
		l.names = max(l.names, screen.Width(w.Nodes[n].Label)+2*w.Nodes[n].Depth)
	}
	if l.folding {
		l.names += 2
	}
	l.names = max(l.names, 10) + 2
	v.Arranged = l
	v.Row, v.DrawColumn = min(v.Row, len(l.Rows)), min(v.DrawColumn, len(l.Columns))
	if old.weave == nil {
		return
	}
	if node := old.Node(v.Row); node != nil {
		if at := slices.IndexFunc(l.Rows, func(n int) bool { return foldKey(&w.Nodes[n]) == foldKey(node) }); at >= 0 {
			v.Row = at
		}
	}
	if tag := old.Tag(v.DrawColumn); tag != "" {
		if at := slices.IndexFunc(l.Columns, func(k int) bool { return w.Tags[k] == tag }); at >= 0 {
			v.DrawColumn = at
		}
	}
}

// Node returns the node of a row; nil for the margin of all.
func (l *layout) Node(row int) *catalog.Node {
	if row >= len(l.Rows) {
		return nil
	}
	return &l.weave.Nodes[l.Rows[row]]
}

// Tag returns the tag of a column; "" for the margin of tests.
func (l *layout) Tag(column int) string {
	if column >= len(l.Columns) {
		return ""
	}
	return l.weave.Tags[l.Columns[column]]
}

// cell returns the figures at a crossing, a margin included.
//
// The weave has three margins beside its cells: each row's tests, each column's, and all. The cursor can be on any of them, so one
// past the last row or column is a margin, not an error.
func (l *layout) cell(row, column int) catalog.Cell {
	w := l.weave
	switch inside := column < len(l.Columns); {
	case row < len(l.Rows) && inside:
		return w.Cells[l.Rows[row]][l.Columns[column]]
	case row < len(l.Rows):
		return w.Margin[l.Rows[row]]
	case inside:
		return w.Cols[l.Columns[column]]
	}
	return w.Total
}

// foldKey names a node over changes of the tree.
func foldKey(n *catalog.Node) string { return n.Suite + ":" + n.Place() }

func (v *View) foldAtFirst(w *catalog.Weave) {
	v.folded = map[string]bool{}
	for i := range w.Nodes {
		if n := &w.Nodes[i]; len(w.Nodes) > foldBeyond && n.Folds() {
			v.folded[foldKey(n)] = true
		}
	}
}
