package catalog

import (
	"slices"
	"strconv"
)

// Sum is a number of tests and their expected time.
type Sum struct {
	Tests     int
	Seconds   float64 // together
	Longest   float64 // of one, in seconds
	Estimated float64 // the part of Seconds of tests that were never measured
}

// Add adds a test.
func (s *Sum) Add(t *Test) {
	s.Tests++
	s.Seconds += t.Expected
	if !t.Known {
		s.Estimated += t.Expected
	}
	s.Longest = max(s.Longest, t.Expected)
}

func (s *Sum) join(other Sum) {
	s.Tests += other.Tests
	s.Seconds += other.Seconds
	s.Estimated += other.Estimated
	s.Longest = max(s.Longest, other.Longest)
}

// Cell counts the tests at one crossing of the weave: all of them, and those
// that the pick holds.
type Cell struct{ All, Picked Sum }

// String returns the number of tests, with the number of picked ones if those are neither all nor none: "9/12".
func (c Cell) String() string {
	if c.Picked.Tests == c.All.Tests || c.Picked.Tests == 0 {
		return strconv.Itoa(c.All.Tests)
	}
	return strconv.Itoa(c.Picked.Tests) + "/" + strconv.Itoa(c.All.Tests)
}

func (c *Cell) add(t *Test, picked bool) {
	c.All.Add(t)
	if picked {
		c.Picked.Add(t)
	}
}

func (c *Cell) join(other Cell) {
	c.All.join(other.All)
	c.Picked.join(other.Picked)
}

// Weave is the crosstab of groups (rows, folded into a tree) and tags (columns). A test counts in the row of its
// group and of every folder above it, and in the column of each of its tags.
type Weave struct {
	Nodes  []Node
	Tags   []string
	Cells  [][]Cell // [node][tag]
	Margin []Cell   // of a node
	Cols   []Cell   // a tag's margin
	Total  Cell
	Most   int // the most tests in one of the Cells of a group

	within func(i int) bool
	system map[string]bool // the tags of build constraints that the system settles
}

// NewWeave counts the catalog's tests. The column of a tag that the system settles counts only tests that could run here. within reports whether Tests[i] counts, and picked whether the pick has it. A test that does
// not count, behind a build constraint that is not met, is in the columns of the words that meet it and nowhere else.
func NewWeave(c *Catalog, nodes []Node, tags []string, within, picked func(i int) bool) *Weave {
	column := make(map[string]int, len(tags))
	for i, tag := range tags {
		column[tag] = i
	}
	w := &Weave{Nodes: nodes, Tags: tags, Cells: make([][]Cell, len(nodes)), Margin: make([]Cell, len(nodes)), Cols: make([]Cell, len(tags)), within: within, system: c.system}
	cells := make([]Cell, len(nodes)*len(tags))
	for n := range nodes {
		w.Cells[n] = cells[n*len(tags) : (n+1)*len(tags)]
	}
	for n := len(nodes) - 1; n >= 0; n-- { // what is below a folder is ready before it
		if nodes[n].Group >= 0 {
			w.count(c, n, column, picked)
		}
		w.joinParent(n)
	}
	return w
}

// count adds up the tests of one group.
func (w *Weave) count(c *Catalog, n int, column map[string]int, picked func(i int) bool) {
	group := c.Groups[w.Nodes[n].Group]
	for i := group.First; i < group.First+group.Len; i++ {
		test, counts, in := &c.Tests[i], w.within(i), picked(i)
		if counts {
			w.Margin[n].add(test, in)
		}
		for _, tag := range test.Tags {
			at, ok := column[tag]
			if !ok {
				continue
			}
			if w.system[tag] && test.Unmet != nil && test.Unmet.Settled {
				continue
			}
			if counts || test.Unmet.meets(tag) {
				w.Cells[n][at].add(test, in)
				w.Most = max(w.Most, w.Cells[n][at].All.Tests)
			}
		}
	}
}

// meets reports whether a build with a word meets the constraint.
func (u *Unmet) meets(word string) bool {
	return u != nil && !u.Settled && slices.Contains(u.Tags, word)
}

// joinParent adds a node to the folder above it, or to the margins at the foot.
func (w *Weave) joinParent(n int) {
	parent := w.Nodes[n].Parent
	if parent < 0 {
		w.Total.join(w.Margin[n])
		for tag := range w.Tags {
			w.Cols[tag].join(w.Cells[n][tag])
		}
		return
	}
	w.Margin[parent].join(w.Margin[n])
	for tag := range w.Tags {
		w.Cells[parent][tag].join(w.Cells[n][tag])
	}
}

// Members returns the tests that count at a node and carry the tag, tagged. A negative node means the whole catalog, an empty
// tag any tag.
func (w *Weave) Members(c *Catalog, node int, tag string, tagged Set) Set {
	members := NewSet(len(c.Tests))
	if node < 0 {
		members.AddRange(0, len(c.Tests))
	} else {
		for _, n := range w.Nodes[node : node+1+w.Nodes[node].Below] {
			if n.Group >= 0 {
				members.AddRange(c.Groups[n.Group].First, c.Groups[n.Group].Len)
			}
		}
	}
	if tag != "" {
		members.And(tagged)
	}
	counting := NewSet(len(c.Tests))
	for i := range members.All {
		if w.within(i) || tag != "" && c.Tests[i].Unmet.meets(tag) {
			counting.Add(i)
		}
	}
	return counting
}
