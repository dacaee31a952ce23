package outcome

import (
	"slices"
	"strings"
	"unicode"
)

// Span is a part of a line that is the same on both sides, or is not.
type Span struct {
	Text    string
	Differs bool
}

// Sides is a line of a comparison with its counterpart. A side without a counterpart
// stands beside nil.
type Sides struct{ Expected, Actual []Span }

// Same reports whether nothing differs in the line.
func (s Sides) Same() bool {
	differs := func(span Span) bool { return span.Differs }
	return s.Expected != nil && s.Actual != nil && !slices.ContainsFunc(s.Expected, differs) && !slices.ContainsFunc(s.Actual, differs)
}

// alignedMost bounds what is aligned piece by piece, in lines and in words of a line;
// of more, what lies between the parts that are the same at both ends differs as a
// whole.
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

// align finds a longest common subsequence of two lists, and gives the stretches that
// are part of it and those between.
func align(a, b []string) []stretch {
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	var out []stretch
	add := func(s stretch) {
		if s.a == s.endA && s.b == s.endB {
			return
		}
		if n := len(out); n > 0 && out[n-1].same == s.same {
			out[n-1].endA, out[n-1].endB = s.endA, s.endB
			return
		}
		out = append(out, s)
	}
	add(stretch{0, head, 0, head, true})
	endA, endB := len(a)-tail, len(b)-tail
	if endA-head <= alignedMost && endB-head <= alignedMost {
		middle(a[head:endA], b[head:endB], head, add)
	} else {
		add(stretch{head, endA, head, endB, false})
	}
	add(stretch{endA, len(a), endB, len(b), true})
	return out
}

// middle aligns two lists by the table of the lengths of their common subsequences
// (Wagner and Fischer, "The string-to-string correction problem", 1974).
func middle(a, b []string, from int, add func(stretch)) {
	lengths := make([][]int, len(a)+1) // of the rests from i and j on
	for i := range lengths {
		lengths[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i] == b[j] {
				lengths[i][j] = lengths[i+1][j+1] + 1
			} else {
				lengths[i][j] = max(lengths[i+1][j], lengths[i][j+1])
			}
		}
	}
	i, j := 0, 0
	for i < len(a) || j < len(b) {
		at := stretch{from + i, from + i, from + j, from + j, false}
		switch {
		case i < len(a) && j < len(b) && a[i] == b[j]:
			at.same = true
			i, j = i+1, j+1
		case j == len(b) || i < len(a) && lengths[i+1][j] >= lengths[i][j+1]:
			i++
		default:
			j++
		}
		at.endA, at.endB = from+i, from+j
		add(at)
	}
}
