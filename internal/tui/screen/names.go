package screen

import (
	"strings"
	"unicode"

	"github.com/charmbracelet/x/ansi"
)

// Shared is the beginning that long names of a list have in common; the list leaves it out.
type Shared string

// SharedIn returns the beginning that those of the items' names have in common that are wider than some cells, up to
// the end of a word.
func SharedIn[T any](items []T, nameOf func(T) string, cells int) Shared {
	begin, long := "", 0
	for _, item := range items {
		name := nameOf(item)
		if Width(name) <= max(0, cells) {
			continue
		}
		if long++; long == 1 {
			begin = name
		}
		begin = begin[:commonLength(begin, name[:len(name)-1])] // some of each name stays
	}
	const worthIt = 4 // characters
	if begin = untilWordEnd(begin); long < 2 || len(begin) < worthIt {
		return ""
	}
	return Shared(begin)
}

// commonLength returns how many bytes two texts have in common at their beginning.
func commonLength(a, b string) int {
	n := 0
	for n < min(len(a), len(b)) && a[n] == b[n] {
		n++
	}
	return n
}

// untilWordEnd cuts a text behind its last separator or before its last capital.
func untilWordEnd(text string) string {
	end := 0
	for i, r := range text {
		switch {
		case strings.ContainsRune("_-/.: ", r):
			end = i + 1
		case unicode.IsUpper(r):
			end = i
		}
	}
	return text[:end]
}

// Cut shortens a name of the list to a number of cells: without the shared beginning, and in its middle if that is
// still too wide.
func (s Shared) Cut(name string, cells int) string {
	if Width(name) <= cells {
		return name
	}
	if rest, ok := strings.CutPrefix(name, string(s)); ok && s != "" {
		return CutMiddle("…"+rest, cells)
	}
	return CutMiddle(name, cells)
}

// nameRows is how many rows a whole name takes at most.
const nameRows = 4

// DrawName draws the group and the whole name of a test, and leaves cells free at the right of the first row. It
// returns how many rows they took: more than one if the name does not fit beside its group.
func DrawName(c Canvas, group, name string, free int) int {
	t := c.Theme
	x := c.Text(0, 0, Style{Colour: t.Fog}, CutGroup(group, c.Width/3))
	if x > 0 {
		x++
	}
	if x+Width(name)+free <= c.Width {
		c.Text(x, 0, Style{t.Ink, true}, name)
		return 1
	}
	lines := strings.Split(ansi.Hardwrap(name, c.Width, false), "\n")
	if len(lines) > nameRows {
		lines = append(lines[:nameRows-1], Cut(strings.Join(lines[nameRows-1:], ""), c.Width))
	}
	for i, line := range lines {
		c.Text(0, 1+i, Style{t.Ink, true}, line)
	}
	return 1 + len(lines)
}
