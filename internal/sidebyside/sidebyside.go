// Package sidebyside compares an expected with an actual text, line by line and word by word.
//
//	for _, line := range sidebyside.Align(result.Expected, result.Actual) {
//		show(line.Expected, line.Actual)
//	}
package sidebyside

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/aymanbagabas/go-udiff"
)

// Span is a part of a line that is the same on both sides, or is not.
type Span struct {
	Text    string
	Differs bool
}

// Sides is a line of a comparison with its counterpart; nil on the side that has none.
type Sides struct{ Expected, Actual []Span }

// Same reports whether nothing differs in the line.
func (s Sides) Same() bool {
	differs := func(span Span) bool { return span.Differs }
	return s.Expected != nil && s.Actual != nil && !slices.ContainsFunc(s.Expected, differs) && !slices.ContainsFunc(s.Actual, differs)
}

// alignedMost bounds the lines, and the words of a line, that are aligned. Between longer lists everything
// but their common beginning and end counts as different.
const alignedMost = 400

// Align lays two texts side by side, line by line, and marks in which words they
// differ.
func Align(expected, actual string) []Sides {
	a, b := strings.Split(expected, "\n"), strings.Split(actual, "\n")
	var out []Sides
	for _, run := range align(a, b) {
		if run.same {
			for _, line := range a[run.a:run.endA] {
				span := []Span{{Text: line}}
				out = append(out, Sides{span, span})
			}
			continue
		}
		for i := 0; run.a+i < run.endA || run.b+i < run.endB; i++ {
			switch {
			case run.a+i >= run.endA:
				out = append(out, Sides{nil, []Span{{b[run.b+i], true}}})
			case run.b+i >= run.endB:
				out = append(out, Sides{[]Span{{a[run.a+i], true}}, nil})
			default:
				out = append(out, alignLine(a[run.a+i], b[run.b+i]))
			}
		}
	}
	return out
}

// alignLine marks the words in which two lines differ.
func alignLine(expected, actual string) Sides {
	a, b := words(expected), words(actual)
	sides := Sides{[]Span{}, []Span{}}
	for _, run := range align(a, b) {
		add := func(to *[]Span, words []string) {
			if len(words) > 0 {
				*to = append(*to, Span{strings.Join(words, ""), !run.same})
			}
		}
		add(&sides.Expected, a[run.a:run.endA])
		add(&sides.Actual, b[run.b:run.endB])
	}
	return sides
}

// words parts a line into words, spaces and single signs.
func words(line string) []string {
	kind := func(r rune) int {
		switch {
		case unicode.IsLetter(r) || unicode.IsDigit(r) || r == '_' || r == ':' || r == '.':
			return 1
		case unicode.IsSpace(r):
			return 2
		}
		return 0
	}
	var out []string
	last := 0
	for _, r := range line {
		k := kind(r)
		if k != 0 && k == last {
			out[len(out)-1] += string(r)
		} else {
			out = append(out, string(r))
		}
		last = k
	}
	return out
}

// stretch is a part of two lists, the same in both or different.
type stretch struct {
	a, endA, b, endB int
	same             bool
}

// align divides two lists into the stretches that they share and those in which they differ.
func align(a, b []string) []stretch {
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	endA, endB := len(a)-tail, len(b)-tail
	stretches := stretches{{0, head, 0, head, true}}
	if max(endA, endB)-head <= alignedMost {
		stretches.diff(a[head:endA], b[head:endB])
	}
	stretches.until(endA, endB, false)
	stretches.until(len(a), len(b), true)
	return slices.DeleteFunc(stretches, func(s stretch) bool { return s.a == s.endA && s.b == s.endB })
}

// stretches are in the order of the lists, without gaps.
type stretches []stretch

// until appends the stretch up to a place in both lists, and joins it to the last one if that is of its kind.
func (s *stretches) until(endA, endB int, same bool) {
	last := &(*s)[len(*s)-1]
	if last.same == same {
		last.endA, last.endB = endA, endB
		return
	}
	*s = append(*s, stretch{last.endA, endA, last.endB, endB, same})
}

// diff appends the stretches of two lists. The library compares characters, so each different element becomes one.
func (s *stretches) diff(a, b []string) {
	last := (*s)[len(*s)-1]
	characters := map[string]rune{}
	encode := func(list []string) string {
		var text strings.Builder
		for _, element := range list {
			if _, known := characters[element]; !known {
				characters[element] = rune(utf8.RuneSelf + len(characters))
			}
			text.WriteRune(characters[element])
		}
		return text.String()
	}
	before, after := encode(a), encode(b)
	endA, endB, at := last.endA, last.endB, 0
	for _, edit := range udiff.Strings(before, after) {
		same := utf8.RuneCountInString(before[at:edit.Start])
		s.until(endA+same, endB+same, true)
		endA += same + utf8.RuneCountInString(before[edit.Start:edit.End])
		endB += same + utf8.RuneCountInString(edit.New)
		s.until(endA, endB, false)
		at = edit.End
	}
	rest := utf8.RuneCountInString(before[at:])
	s.until(endA+rest, endB+rest, true)
}
