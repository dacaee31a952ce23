package catalog

import (
	"fmt"
	"slices"
	"strings"
)

// Marks are instructions on a test. An empty value means that the mark is not set.
type Marks struct {
	Skip       string   `json:"skip,omitempty" toml:"skip"`               // why it does not run
	Solo       string   `json:"solo,omitempty" toml:"solo"`               // why only tests with this mark run
	ExpectFail string   `json:"expect-fail,omitempty" toml:"expect-fail"` // why it is expected to fail
	OnlyIf     string   `json:"only-if,omitempty" toml:"only-if"`         // the condition under which it runs
	Needs      []string `json:"needs,omitempty" toml:"needs"`             // tests that must pass before it
	After      []string `json:"after,omitempty" toml:"after"`             // tests that it does not run before
	Uses       []string `json:"uses,omitempty" toml:"uses"`               // resources that it holds while it runs
}

// The names of the marks, as they are written everywhere.
const (
	MarkSkip       = "skip"
	MarkSolo       = "solo"
	MarkExpectFail = "expect-fail"
	MarkOnlyIf     = "only-if"
	MarkNeeds      = "needs"
	MarkAfter      = "after"
	MarkUses       = "uses"
)

// MarkNames lists the marks in the order in which they are told.
var MarkNames = []string{MarkSkip, MarkSolo, MarkExpectFail, MarkOnlyIf, MarkNeeds, MarkAfter, MarkUses}

// NoReason stands where a mark that takes a reason has none.
const NoReason = "no reason given"

// text and list give the field behind the name of a mark; one of them is nil.
func (m *Marks) text(mark string) *string {
	switch mark {
	case MarkSkip:
		return &m.Skip
	case MarkSolo:
		return &m.Solo
	case MarkExpectFail:
		return &m.ExpectFail
	case MarkOnlyIf:
		return &m.OnlyIf
	}
	return nil
}

func (m *Marks) list(mark string) *[]string {
	switch mark {
	case MarkNeeds:
		return &m.Needs
	case MarkAfter:
		return &m.After
	case MarkUses:
		return &m.Uses
	}
	return nil
}

// Set sets a mark by its name: to a reason, a condition, or names parted by
// spaces. The error says what is missing or that there is no such mark.
func (m *Marks) Set(mark, value string) error {
	value = strings.TrimSpace(value)
	if list := m.list(mark); list != nil {
		if value == "" {
			return fmt.Errorf("%s takes one name or more", mark)
		}
		*list = union(*list, strings.Fields(value))
		return nil
	}
	text := m.text(mark)
	switch {
	case text == nil:
		return fmt.Errorf("there is no mark %q: the marks are %s", mark, strings.Join(MarkNames, " "))
	case mark == MarkOnlyIf && value == "":
		return fmt.Errorf("%s takes a condition", mark)
	case mark == MarkOnlyIf && m.OnlyIf != "":
		value = "(" + m.OnlyIf + ") (" + value + ")"
	case value == "":
		value = NoReason
	}
	*text = value
	return nil
}

// Has reports whether the mark of this name is set.
func (m *Marks) Has(mark string) bool { return m.Value(mark) != "" }

// Value gives a mark's reason, condition or names, empty where it is not set.
func (m *Marks) Value(mark string) string {
	if list := m.list(mark); list != nil {
		return strings.Join(*list, " ")
	}
	if text := m.text(mark); text != nil {
		return *text
	}
	return ""
}

// union appends what is not there yet; the first list is left as it is.
func union(have, more []string) []string {
	have = slices.Clip(have)
	for _, name := range more {
		if !slices.Contains(have, name) {
			have = append(have, name)
		}
	}
	return have
}

// Origin says where a tag or a mark of a test comes from.
type Origin struct {
	Of   string // the tag, or the mark's name
	Mark bool
	From string // "the function", "the file", "fern.toml:12", …
}

// Mark sets the marks that are set in more, and says where they come from. Names
// are added to those that are there, conditions must both hold, and a reason
// takes the place of another. Copies of the test keep theirs.
func (t *Test) Mark(more Marks, from string) {
	for _, mark := range MarkNames {
		if !more.Has(mark) {
			continue
		}
		if list := more.list(mark); list != nil {
			own := t.Marks.list(mark)
			*own = union(*own, *list)
		} else {
			_ = t.Marks.Set(mark, more.Value(mark)) // it is one of the marks and has a value
		}
		t.Origins = append(slices.Clip(t.Origins), Origin{Of: mark, Mark: true, From: from})
	}
}

// Unmark takes a mark off.
func (t *Test) Unmark(mark string) {
	if list := t.Marks.list(mark); list != nil {
		*list = nil
	}
	if text := t.Marks.text(mark); text != nil {
		*text = ""
	}
	t.Origins = slices.DeleteFunc(slices.Clone(t.Origins), func(o Origin) bool { return o.Mark && o.Of == mark })
}

// TagFrom and MarkFrom tell where a tag or a mark comes from; several places are
// parted by commas.
func (t *Test) TagFrom(tag string) string   { return t.from(tag, false) }
func (t *Test) MarkFrom(mark string) string { return t.from(mark, true) }

func (t *Test) from(of string, mark bool) string {
	var places []string
	for _, o := range t.Origins {
		if o.Of == of && o.Mark == mark {
			places = union(places, []string{o.From})
		}
	}
	return strings.Join(places, ", ")
}
