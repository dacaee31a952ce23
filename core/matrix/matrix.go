// Package matrix crosses what varies between runs of the same tests, such as versions and stores, and explains which values
// make tests fail.
//
//	m, err := matrix.New(spec)
//	for _, c := range m.Crossings {
//		fmt.Println(c.Label(), c.Services, c.Env)
//	}
//	few := m.Pairs(matrix.Thorough) // in which every pair of values occurs
//	for _, e := range m.Explain(outcomes).Explanations { // by test: how it ended in crossings
//		fmt.Println(e.Where, e.Tests)
//	}
//
// It computes and nothing else: who runs crossings is not its business.
package matrix

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"
)

// An Assignment maps some names to values.
type Assignment map[string]string

// Within reports whether another assignment has all the values of this one.
func (a Assignment) Within(other Assignment) bool {
	for name, value := range a {
		if got, ok := other[name]; !ok || got != value {
			return false
		}
	}
	return true
}

// Name is one thing that varies, with its values in the order in which they were written.
type Name struct {
	Name   string
	Values []string
}

// With is what a value, or a combination of values, brings along.
type With struct {
	Of         Assignment
	Services   []string
	Share      []string // services that may be shared with other crossings that say so, too
	Env        map[string]string
	BuildFlags []string
	Pick       string
	LeaveOut   string // why crossings with these values do not exist; empty if they do
	MayFail    string // why they may fail; empty if they must not
}

// Spec says what varies. Names are in the order in which they were written.
type Spec struct {
	Names []Name
	With  []With
	Add   []Assignment // crossings outside the product
}

// Crossing is one combination of values, with what all of them bring along.
type Crossing struct {
	Of         Assignment
	Names      []string // of Of, in the order of the spec
	Services   []string
	Share      []string // of its services
	Env        map[string]string
	BuildFlags []string
	Pick       string
	LeaveOut   string // why it does not run; empty if it does
	MayFail    string // why its failure is no failure of the whole
}

// Key identifies the crossing, as in "store=redis,season=winter".
func (c *Crossing) Key() string {
	parts := make([]string, len(c.Names))
	for i, name := range c.Names {
		parts[i] = name + "=" + c.Of[name]
	}
	return strings.Join(parts, ",")
}

// Label has the values of the crossing in words.
func (c *Crossing) Label() string {
	parts := make([]string, len(c.Names))
	for i, name := range c.Names {
		parts[i] = c.Of[name]
	}
	return strings.Join(parts, " ")
}

// Matrix is the crossings of a spec, in the order of the product, the last name varying fastest, and then those added.
type Matrix struct {
	Spec      Spec
	Crossings []Crossing
}

// An Error says what is wrong with a spec, and where: at an entry of a table, counted from 0.
type Error struct {
	Table string // "vary", "with" or "add"
	Entry int
	Name  string // the key that is wrong, if one is
	What  string
}

func (e *Error) Error() string { return e.What }

// mostCrossings bounds the crossings of a matrix.
const mostCrossings = 100_000

// New crosses what varies. The error is an [*Error].
func New(s Spec) (*Matrix, error) {
	if err := s.check(); err != nil {
		return nil, err
	}
	m := &Matrix{Spec: s}
	seen := map[string]bool{}
	product := []Assignment{{}}
	for _, n := range s.Names {
		var next []Assignment
		for _, a := range product {
			for _, v := range n.Values {
				b := maps.Clone(a)
				b[n.Name] = v
				next = append(next, b)
			}
		}
		product = next
	}
	for i, of := range append(product, s.Add...) {
		c := s.crossing(of)
		if seen[c.Key()] {
			return nil, &Error{"add", i - len(product), "of", fmt.Sprintf("the crossing %s is defined twice", c.Label())}
		}
		seen[c.Key()] = true
		m.Crossings = append(m.Crossings, c)
	}
	if !slices.ContainsFunc(m.Crossings, func(c Crossing) bool { return c.LeaveOut == "" }) {
		return nil, &Error{"with", 0, "leave-out", "all crossings are left out"}
	}
	return m, nil
}

// check returns what is wrong with a spec, nil if nothing is.
func (s *Spec) check() error {
	known, err := s.values()
	if err != nil {
		return err
	}
	for i, a := range s.Add {
		if err := s.checkAdded(a, known); err != "" {
			return &Error{"add", i, "of", err}
		}
	}
	for i, w := range s.With {
		if err := s.checkOf(w.Of, known); err != "" {
			return &Error{"with", i, "of", err}
		}
		if w.LeaveOut != "" && w.MayFail != "" {
			return &Error{"with", i, "may-fail", "what is left out cannot fail: an entry has leave-out or may-fail"}
		}
	}
	return nil
}

// values returns the values that vary, by name.
func (s *Spec) values() (map[string][]string, error) {
	if len(s.Names) == 0 {
		return nil, &Error{"vary", 0, "", "nothing varies: name = [\"value\", …] is expected"}
	}
	all := 1
	known := map[string][]string{}
	for i, n := range s.Names {
		if err := n.check(); err != "" {
			return nil, &Error{"vary", i, n.Name, err}
		}
		if all *= len(n.Values); all > mostCrossings {
			return nil, &Error{"vary", i, n.Name, fmt.Sprintf("there are more than %d crossings", mostCrossings)}
		}
		known[n.Name] = n.Values
	}
	return known, nil
}

// check returns what is wrong with a name that varies, or "".
func (n *Name) check() string {
	if len(n.Values) == 0 {
		return n.Name + " has no values, so there are no crossings"
	}
	if !written(n.Name) {
		return fmt.Sprintf("a name that varies is %q: %s", n.Name, howWritten)
	}
	for j, v := range n.Values {
		if !written(v) {
			return unwritten(n.Name, v)
		}
		if slices.Contains(n.Values[:j], v) {
			return fmt.Sprintf("%s has the value %s twice", n.Name, v)
		}
	}
	return ""
}

// checkAdded returns what is wrong with a crossing outside the product, or "". It adds its values to those that are known.
func (s *Spec) checkAdded(a Assignment, known map[string][]string) string {
	for _, n := range s.Names {
		if _, ok := a[n.Name]; !ok {
			return "a crossing gives a value to every name, and this one has none for " + n.Name
		}
	}
	for name, value := range a {
		if _, ok := known[name]; !ok {
			return unknownName(name, s.Names)
		}
		if !written(value) {
			return unwritten(name, value)
		}
		known[name] = append(slices.Clip(known[name]), value)
	}
	return ""
}

// checkOf returns what is wrong with the values that an entry is for, or "".
func (s *Spec) checkOf(of Assignment, known map[string][]string) string {
	if len(of) == 0 {
		return "an entry says for which values it is: of = { name = \"value\" } is expected"
	}
	for _, name := range slices.Sorted(maps.Keys(of)) {
		values, ok := known[name]
		if !ok {
			return unknownName(name, s.Names)
		}
		if !slices.Contains(values, of[name]) {
			return fmt.Sprintf("%s has no value %s: it is one of %s", name, of[name], strings.Join(values, ", "))
		}
	}
	return ""
}

const howWritten = "write it without commas, equals signs and spaces"

func unwritten(name, value string) string {
	return fmt.Sprintf("a value of %s is %q: %s", name, value, howWritten)
}

// written reports whether a name or value can be part of a key.
func written(word string) bool {
	return word != "" && !strings.ContainsFunc(word, func(r rune) bool { return strings.ContainsRune(",=", r) || unicode.IsSpace(r) || !unicode.IsPrint(r) })
}

func unknownName(name string, names []Name) string {
	var known []string
	for _, n := range names {
		known = append(known, n.Name)
	}
	return fmt.Sprintf("%s does not vary: it is one of %s", name, strings.Join(known, ", "))
}

// crossing returns the crossing with some values. Of entries that set the same thing, the one with more values wins, and of
// those with as many the later.
func (s *Spec) crossing(of Assignment) Crossing {
	c := Crossing{Of: of, Env: map[string]string{}}
	for _, n := range s.Names {
		c.Names = append(c.Names, n.Name)
	}
	var brought []With
	for _, w := range s.With {
		if w.Of.Within(of) {
			brought = append(brought, w)
		}
	}
	slices.SortStableFunc(brought, func(a, b With) int { return len(a.Of) - len(b.Of) })
	for _, w := range brought {
		c.Services, c.Share = union(c.Services, w.Services), union(c.Share, w.Share)
		maps.Copy(c.Env, w.Env)
		c.BuildFlags = append(c.BuildFlags, w.BuildFlags...)
		if w.Pick != "" {
			c.Pick = w.Pick
		}
		if w.LeaveOut != "" || w.MayFail != "" {
			c.LeaveOut, c.MayFail = w.LeaveOut, w.MayFail
		}
	}
	return c
}

// union adds words to others that do not have them yet.
func union(all, more []string) []string {
	for _, word := range more {
		if !slices.Contains(all, word) {
			all = append(all, word)
		}
	}
	return all
}

// ParseAssignment reads values as a person writes them, as in "store=redis,season=winter".
func ParseAssignment(text string) (Assignment, error) {
	of := Assignment{}
	for part := range strings.SplitSeq(text, ",") {
		name, value, ok := strings.Cut(strings.TrimSpace(part), "=")
		if !ok || !written(name) || !written(value) {
			return nil, fmt.Errorf("%q is no value of a crossing: NAME=VALUE is expected, several joined by commas", part)
		}
		of[name] = value
	}
	return of, nil
}

// Check returns an error for a name that does not vary, or a value that no crossing has.
func (m *Matrix) Check(of Assignment) error {
	for _, name := range slices.Sorted(maps.Keys(of)) {
		if !slices.ContainsFunc(m.Spec.Names, func(n Name) bool { return n.Name == name }) {
			return errors.New(unknownName(name, m.Spec.Names))
		}
		if len(m.At(Assignment{name: of[name]})) == 0 {
			var values []string
			for i := range m.Crossings {
				if v := m.Crossings[i].Of[name]; !slices.Contains(values, v) {
					values = append(values, v)
				}
			}
			return fmt.Errorf("%s has no value %s: it is one of %s", name, of[name], strings.Join(values, ", "))
		}
	}
	return nil
}

// At returns the crossings that have all the given values.
func (m *Matrix) At(of Assignment) []Crossing {
	var at []Crossing
	for _, c := range m.Crossings {
		if of.Within(c.Of) {
			at = append(at, c)
		}
	}
	return at
}
