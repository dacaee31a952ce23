package catalog

// Sum is a number of tests and their expected time together.
type Sum struct {
	Tests   int
	Seconds float64
}

func (s *Sum) add(t *Test) {
	s.Tests++
	s.Seconds += t.Expected
}

// Cell counts the tests at one crossing of the weave: all of them, and those
// that the pick holds.
type Cell struct{ All, Picked Sum }

func (c *Cell) add(t *Test, picked bool) {
	c.All.add(t)
	if picked {
		c.Picked.add(t)
	}
}

// Weave is the crosstab of groups (rows) and tags (columns). A test stands in
// one row and in the column of each of its tags.
type Weave struct {
	Tags  []string
	Cells [][]Cell // [group][tag], in the order of Catalog.Groups and Tags
	Rows  []Cell   // a group's margin
	Cols  []Cell   // a tag's margin
	Total Cell
	Most  int // the most tests in one of Cells
}

// NewWeave counts the catalog's tests; picked tells whether Tests[i] is held by
// the pick.
func NewWeave(c *Catalog, tags []string, picked func(i int) bool) *Weave {
	column := make(map[string]int, len(tags))
	for i, tag := range tags {
		column[tag] = i
	}
	w := &Weave{Tags: tags, Cells: make([][]Cell, len(c.Groups)), Rows: make([]Cell, len(c.Groups)), Cols: make([]Cell, len(tags))}
	for g, group := range c.Groups {
		w.Cells[g] = make([]Cell, len(tags))
		for i := group.First; i < group.First+group.Len; i++ {
			test, in := &c.Tests[i], picked(i)
			w.Rows[g].add(test, in)
			w.Total.add(test, in)
			for _, tag := range test.Tags {
				if at, ok := column[tag]; ok {
					w.Cells[g][at].add(test, in)
					w.Most = max(w.Most, w.Cells[g][at].All.Tests)
					w.Cols[at].add(test, in)
				}
			}
		}
	}
	return w
}
