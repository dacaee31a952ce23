// Package plain makes text from tests, reports and other machines safe to show: nothing in it moves the
// cursor, changes colours or hides other text.
//
//	fmt.Println(plain.Line(test.Name))
//	fmt.Println(plain.Text(result.Message))
package plain

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"fernrelay/core/lazy"
)

// Text makes text safe to show over several lines: control sequences of terminals and every other character that
// [IsUnsafe] disappear, tabs become spaces, broken UTF-8 is replaced. A sequence that does not end hides only the rest
// of its line.
func Text(text string) string {
	if !utf8.ValidString(text) {
		text = strings.ToValidUTF8(text, "\uFFFD")
	}
	if strings.ContainsAny(text, "\x1b\u009b") {
		text = controlSequence().ReplaceAllString(text, "")
	}
	text = strings.ReplaceAll(text, "\t", "    ")
	return strings.Map(func(r rune) rune {
		if r == '\n' || !IsUnsafe(r) {
			return r
		}
		return -1
	}, text)
}

// IsUnsafe reports whether a character does something other than show itself: terminals obey control
// characters, and format characters of Unicode hide, join or reorder others (Unicode Standard,
// 23.2 and 23.9: bidirectional controls, zero-width characters, tags, fillers).
func IsUnsafe(r rune) bool {
	if r >= ' ' && r <= '~' {
		return false
	}
	return unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Other_Default_Ignorable_Code_Point, unicode.Noncharacter_Code_Point)
}

// Line is Text on one line: line ends become spaces.
func Line(text string) string {
	if isPlainLine(text) {
		return text
	}
	return strings.Join(strings.Fields(Text(text)), " ")
}

// isPlainLine reports whether a text consists of printable ASCII with single spaces between words, as nearly all
// names do.
func isPlainLine(text string) bool {
	space := true // as if one came before the text
	for i := range len(text) {
		c := text[i]
		if c < ' ' || c > '~' || space && c == ' ' {
			return false
		}
		space = c == ' '
	}
	return text == "" || !space
}

// controlSequence matches the escape sequences of ECMA-48: control sequences,
// device and operating-system strings, two-character escapes.
var controlSequence = lazy.Regexp(
	`\x1b\[[0-?]*[ -/]*[@-~]|\x1b[\]PX^_][^\n\x07\x1b]*(?:\x07|\x1b\\)?|\x1b[ -/]*[0-~]|\x{9b}[0-?]*[ -/]*[@-~]`)
