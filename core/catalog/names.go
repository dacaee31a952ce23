package catalog

import (
	"path"
	"slices"
	"strings"
	"sync"
)

// Names finds tests by what reports of other programs call them: an ID, a place and a name as in class#name, or a name
// alone. It is the one rule for all formats.
//
//	names := catalog.NewNames(tests)
//	id, match := names.Find("org.glass.roof.Beds#opens", "")
type Names struct {
	tests  []named
	byID   map[string]int
	byName map[string][]int
}

// named is what a report may say of a test.
type named struct {
	id, group, name, file string
	places                places // once they are indexed
}

// places are the words of a test's places: of its group, its file, and its file without the ending.
type places struct{ group, file, stem []string }

// A Match is how surely a report means a test.
type Match int

// The matches, from the weakest.
const (
	NoMatch       Match = iota // no test has the name, or several do
	NameElsewhere              // the name is that of one test only, whose group has other words than the place
	NameOnly                   // the name is that of one test only, and no place says more
	NamePlace                  // the ID, or the name together with the group or the file
)

// NewNames returns the names of tests.
func NewNames(tests []Test) *Names { return NamesOf(tests)() }

// NamesOf returns a function that returns the names of tests. It indexes them when it is called first, and does not need
// the tests any more.
func NamesOf(tests []Test) func() *Names {
	n := &Names{tests: make([]named, len(tests))}
	for i := range tests {
		t := &tests[i]
		n.tests[i] = named{id: t.ID, group: t.Group, name: t.Name, file: t.File}
	}
	return sync.OnceValue(func() *Names {
		n.byID, n.byName = make(map[string]int, len(n.tests)), make(map[string][]int, len(n.tests))
		for i := range n.tests {
			t := &n.tests[i]
			t.places = places{placeWords(t.group), placeWords(t.file), stemWords(t.file)}
			n.byID[t.id] = i
			n.byName[t.name] = append(n.byName[t.name], i)
		}
		return n
	})
}

// Find returns the ID of the test that a report calls reported, and how it matches. A place before the first #
// decides first: the test's group, the end of its group, or its file, which the report may also name by itself. Then
// comes a name that only one test has. A place beside the test's group, as m.B is beside m.A, is another group. A
// NameElsewhere counts only if the report matches no test as NamePlace, because then its places are not groups.
func (n *Names) Find(reported, file string) (id string, m Match) {
	if _, known := n.byID[reported]; known {
		return reported, NamePlace
	}
	place, name := n.divide(reported)
	words, files := placeWords(place), placeWords(file)
	best, length, tied := -1, 0, false
	for _, i := range n.byName[name] {
		switch agreed := n.tests[i].agrees(words, files); {
		case agreed > length:
			best, length, tied = i, agreed, false
		case agreed == length:
			tied = true
		}
	}
	switch {
	case best >= 0 && tied:
		return "", NoMatch
	case best >= 0:
		return n.tests[best].id, NamePlace
	}
	return n.only(n.byName[name], words, stemWords(file))
}

// only returns the one of some tests that neither a place nor a file excludes, or the one without a group among several.
func (n *Names) only(candidates []int, place, file []string) (id string, m Match) {
	var left, bare []int
	for _, i := range candidates {
		t := &n.tests[i]
		if beside(t.places.group, place) || beside(t.places.stem, file) {
			continue
		}
		left = append(left, i)
		if len(t.places.group) == 0 || strings.HasPrefix(t.name, t.group+"/") { // the name says everything
			bare = append(bare, i)
		}
	}
	switch {
	case len(left) == 1 && (len(bare) == 1 || len(place) == 0):
		return n.tests[left[0]].id, NameOnly
	case len(left) == 1:
		return n.tests[left[0]].id, NameElsewhere
	case len(bare) == 1 && len(place) > 0:
		return n.tests[bare[0]].id, NameOnly
	}
	return "", NoMatch
}

// divide parts what a report calls a test into a place, which may be empty, and the name.
func (n *Names) divide(reported string) (place, name string) {
	if n.byName[reported] != nil {
		return "", reported
	}
	place, name, cut := strings.Cut(reported, "#")
	switch {
	case cut && n.byName[name] != nil:
		return place, name
	case cut:
		if within, short := n.joined(name); within != "" {
			return within, short
		}
	}
	return n.joined(reported)
}

// joints are what formats without a place put between a group and a name.
var joints = []string{": ", " ", "."}

// joined divides a text into a group that a test has, what joins them, and the name of that test.
func (n *Names) joined(text string) (place, name string) {
	for _, joint := range joints {
		for at := 0; ; {
			next := strings.Index(text[at:], joint)
			if next < 0 {
				break
			}
			place, name = text[:at+next], text[at+next+len(joint):]
			if slices.ContainsFunc(n.byName[name], func(i int) bool { return n.tests[i].group == place }) {
				return place, name
			}
			at += next + len(joint)
		}
	}
	return "", text
}

// agrees returns how well a test's place agrees with the place and the file of a report, 0 if it does not: more words count
// more, and a group that the report names in whole counts more than one of which it has the end.
func (t *named) agrees(place, file []string) int {
	agreed := max(alike(place, t.places.group), alike(file, t.places.file))
	if stem := t.places.stem; len(stem) > 0 && containsWords(place, stem) {
		agreed = max(agreed, 2*len(stem))
	}
	return agreed
}

// placeWords parts a place into its words: folders, packages and classes. The group . has none.
func placeWords(place string) []string {
	return strings.FieldsFunc(place, func(r rune) bool { return strings.ContainsRune("/.:\\", r) })
}

// stemWords are the words of a file without its ending.
func stemWords(file string) []string { return placeWords(strings.TrimSuffix(file, path.Ext(file))) }

// beside reports whether two places of several words differ in the last one only.
func beside(a, b []string) bool {
	last := len(a) - 1
	return last > 0 && len(b) == len(a) && slices.Equal(a[:last], b[:last]) && a[last] != b[last]
}

// alike returns how well the place of a report agrees with that of a test, one of which ends with the other.
func alike(reported, own []string) int {
	switch {
	case endsWith(reported, own):
		return 2 * len(own)
	case endsWith(own, reported):
		return max(0, 2*len(reported)-1)
	}
	return 0
}

func endsWith(words, end []string) bool {
	return len(words) >= len(end) && slices.Equal(words[len(words)-len(end):], end)
}

func containsWords(words, part []string) bool {
	for i := 0; i+len(part) <= len(words); i++ {
		if slices.Equal(words[i:i+len(part)], part) {
			return true
		}
	}
	return false
}
