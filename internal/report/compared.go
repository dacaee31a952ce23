package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/sidebyside"
	"fernrelay/internal/wording"
)

// The bounds of expected and actual values: characters that fit on a line each, lines that are printed of others, lines that are the
// same around one that differs, and characters that are the same beside a word that differs.
const (
	sideWidth    = 100
	sideLines    = 24
	linesAround  = 2
	lettersAside = 24
)

// compared prints what was expected and what came: short values in a line each, others line by line, with signs where they differ, as
//
//	expected -, actual +
//	  beds: 4
//	- … water: 12 litres …
//	+ … water: 9 litres …
func compared(w io.Writer, r *run.Result) {
	expected, actual := plain.Text(r.Expected), plain.Text(r.Actual)
	switch {
	case expected == "" && actual == "":
		return
	case max(len(expected), len(actual)) <= sideWidth && !strings.Contains(expected+actual, "\n"):
		indent(w, "expected "+expected+"\nactual   "+actual)
		return
	}
	lines := differingLines(sidebyside.Align(expected, actual))
	indent(w, "expected -, actual +")
	for _, line := range lines[:min(len(lines), sideLines)] {
		indent(w, line)
	}
	if more := len(lines) - sideLines; more > 0 {
		indent(w, fmt.Sprintf("… %s more", wording.Plural(more, "line")))
	}
}

// differingLines returns the lines that differ, those around them, and how many others are left out between them.
func differingLines(sides []sidebyside.Sides) (lines []string) {
	skipped := 0
	for i, s := range sides {
		near := sides[max(0, i-linesAround):min(len(sides), i+linesAround+1)]
		if !slices.ContainsFunc(near, func(s sidebyside.Sides) bool { return !s.Same() }) {
			skipped++
			continue
		}
		if skipped > 0 {
			lines = append(lines, fmt.Sprintf("  … %s the same", wording.Plural(skipped, "line")))
			skipped = 0
		}
		if s.Same() {
			lines = append(lines, "  "+s.Expected[0].Text)
			continue
		}
		if s.Expected != nil {
			lines = append(lines, "- "+shortened(s.Expected))
		}
		if s.Actual != nil {
			lines = append(lines, "+ "+shortened(s.Actual))
		}
	}
	return lines
}

// shortened returns a line whose long parts without a difference are cut.
func shortened(spans []sidebyside.Span) string {
	var line strings.Builder
	for i, span := range spans {
		text := []rune(span.Text)
		if span.Differs || len(text) <= 2*lettersAside {
			line.WriteString(span.Text)
			continue
		}
		if i > 0 {
			line.WriteString(string(text[:lettersAside]))
		}
		line.WriteString("…")
		if i < len(spans)-1 {
			line.WriteString(string(text[len(text)-lettersAside:]))
		}
	}
	return line.String()
}
