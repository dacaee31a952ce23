package catalog

import (
	"slices"
	"strings"
)

// Node is a row of the weave: a group, or a folder that holds groups.
type Node struct {
	Label  string // below its parent, such as "drip" or "internal/adapter"
	Suite  string
	Path   string // of the folder or the group; empty for a whole suite
	Group  int    // index of Catalog.Groups; -1 for a folder
	Parent int    // index of the tree; -1 at the top
	Depth  int
	Below  int // how many nodes are below it; they follow it in the tree
}

// Folds reports whether there is something below the node.
func (n *Node) Folds() bool { return n.Below > 0 }

// Place returns the glob that selects exactly what is below the node, within its suite; it is empty for a whole
// suite.
func (n *Node) Place() string {
	switch {
	case n.Folds() && n.Path != "":
		return n.Path + "/**"
	case n.Label == "." && n.Path != ".":
		return n.Path + "/."
	}
	return n.Path
}

// Tree folds the groups of a catalog by the folders of their names. A parent precedes what is below it. If there
// are several suites, each is a node at the top. A folder with a single folder in it is joined with that; a group
// that has groups below it becomes a folder and, in it, the group ".".
func (c *Catalog) Tree() []Node {
	top := &branch{group: -1}
	suites := map[string]*branch{}
	for _, g := range c.Groups {
		suites[g.Suite] = nil
	}
	for i, g := range c.Groups {
		at := top
		if len(suites) > 1 {
			if suites[g.Suite] == nil {
				suites[g.Suite] = top.child(g.Suite)
				suites[g.Suite].suite = true
			}
			at = suites[g.Suite]
		}
		for element := range strings.SplitSeq(g.Name, "/") {
			at = at.child(element)
		}
		at.group = i
	}
	var nodes []Node
	suite := ""
	if len(suites) == 1 {
		suite = c.Groups[0].Suite
	}
	flatten(&nodes, top, -1, suite, "", 0)
	return nodes
}

// branch is a folder or a group while the tree is made.
type branch struct {
	name     string
	suite    bool
	group    int
	children []*branch
	byName   map[string]*branch
}

func (b *branch) child(name string) *branch {
	if b.byName == nil {
		b.byName = map[string]*branch{}
	}
	if b.byName[name] == nil {
		b.byName[name] = &branch{name: name, group: -1}
		b.children = append(b.children, b.byName[name])
	}
	return b.byName[name]
}

// flatten writes what is below a branch, each folder before its content. above
// is the way down to it, with a slash at its end.
func flatten(nodes *[]Node, b *branch, parent int, suite, above string, depth int) {
	for _, child := range b.children {
		label, at := child.name, child
		for !at.suite && at.group < 0 && len(at.children) == 1 {
			at = at.children[0]
			label += "/" + at.name
		}
		n := Node{Label: label, Suite: suite, Path: above + label, Group: at.group, Parent: parent, Depth: depth}
		inside := n.Path + "/"
		if at.suite {
			n.Suite, n.Path, inside = label, "", ""
		}
		here := len(*nodes)
		*nodes = append(*nodes, n)
		if len(at.children) == 0 {
			continue
		}
		(*nodes)[here].Group = -1
		if at.group >= 0 {
			own := n
			own.Label, own.Parent, own.Depth = ".", here, depth+1
			*nodes = append(*nodes, own)
		}
		flatten(nodes, at, here, n.Suite, inside, depth+1)
		(*nodes)[here].Below = len(*nodes) - here - 1
	}
}

// Order says by what the rows or columns of the weave are ordered.
type Order string

// The orders of rows and columns.
const (
	ByName  Order = "name"
	ByTests Order = "tests"
	ByTime  Order = "time"
)

// Orders lists them in the order in which a key goes through them.
var Orders = []Order{ByName, ByTests, ByTime}

// Rows returns the nodes to show, without those below a folded one, and with siblings in an order.
func (w *Weave) Rows(folded func(node int) bool, by Order) []int {
	var rows []int
	var below func(first, end int)
	below = func(first, end int) {
		var siblings []int
		for n := first; n < end; n += 1 + w.Nodes[n].Below {
			siblings = append(siblings, n)
		}
		slices.SortStableFunc(siblings, func(a, b int) int {
			return compare(by, w.Nodes[a].Label, w.Nodes[b].Label, w.Margin[a].All, w.Margin[b].All)
		})
		for _, n := range siblings {
			if w.isEmpty(n) {
				continue
			}
			rows = append(rows, n)
			if !folded(n) {
				below(n+1, n+1+w.Nodes[n].Below)
			}
		}
	}
	below(0, len(w.Nodes))
	return rows
}

// isEmpty reports whether no test counts at a node.
func (w *Weave) isEmpty(n int) bool {
	return w.Margin[n].All.Tests == 0 && !slices.ContainsFunc(w.Cells[n], func(c Cell) bool { return c.All.Tests > 0 })
}

// Columns returns the tags to show, by their index, in an order. Those of build constraints that the system settles come last, and
// only if they divide the tests.
func (w *Weave) Columns(by Order) []int {
	var columns []int
	for i := range w.Tags {
		if n := w.Cols[i].All.Tests; n > 0 && !(w.system[w.Tags[i]] && n == w.Total.All.Tests) {
			columns = append(columns, i)
		}
	}
	slices.SortStableFunc(columns, func(a, b int) int {
		if last := w.system[w.Tags[a]]; last != w.system[w.Tags[b]] {
			if !last {
				return -1
			}
			return 1
		}
		return compare(by, w.Tags[a], w.Tags[b], w.Cols[a].All, w.Cols[b].All)
	})
	return columns
}

// compare orders by name from a on, by numbers from the most on.
func compare(by Order, a, b string, x, y Sum) int {
	switch {
	case by == ByTests && x.Tests != y.Tests:
		return y.Tests - x.Tests
	case by == ByTime && x.Seconds > y.Seconds:
		return -1
	case by == ByTime && x.Seconds < y.Seconds:
		return 1
	}
	return strings.Compare(a, b)
}
