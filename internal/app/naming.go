package app

import (
	"slices"
	"strings"

	"fernrelay/core/catalog"
)

// naming finds the IDs of tests by the names that other reports have for them.
type naming struct {
	catalog *catalog.Catalog
	byName  map[string][]int // of the tests, by name
}

func newNaming(c *catalog.Catalog) *naming {
	n := &naming{c, map[string][]int{}}
	for i := range c.Tests {
		n.byName[c.Tests[i].Name] = append(n.byName[c.Tests[i].Name], i)
	}
	return n
}

// id returns the ID of the test that a report calls place#name: the one that has the name and whose group the
// place ends with, or else the only one that has the name. It returns the report's name for a test that the
// project does not have.
func (n *naming) id(reported string) string {
	place, name, cut := strings.Cut(reported, "#")
	if !cut {
		name = reported // of TAP
	}
	if _, known := n.catalog.Index(reported); known || n.byName[name] == nil {
		return reported
	}
	words := strings.FieldsFunc(place, isPlaceSeparator)
	best, length, twice := -1, -1, false
	for _, i := range n.byName[name] {
		group := strings.FieldsFunc(n.catalog.Tests[i].Group, isPlaceSeparator)
		if len(group) > len(words) || !slices.Equal(group, words[len(words)-len(group):]) {
			continue
		}
		switch {
		case len(group) > length:
			best, length, twice = i, len(group), false
		case len(group) == length:
			twice = true
		}
	}
	if best >= 0 && !twice {
		return n.catalog.Tests[best].ID
	}
	if all := n.byName[name]; len(all) == 1 {
		return n.catalog.Tests[all[0]].ID
	}
	return reported
}

// isPlaceSeparator parts the words of places: folders, packages and classes. A group . has none.
func isPlaceSeparator(r rune) bool { return strings.ContainsRune("/.:\\", r) }
