package outcome

import (
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Plain makes text of others safe to show: control sequences of terminals and every other
// character that Acts go, tabs become spaces, broken UTF-8 is marked. A sequence that does
// not end hides the rest of its line, no more.
func Plain(text string) string {
	if !utf8.ValidString(text) {
		text = strings.ToValidUTF8(text, "\uFFFD")
	}
	if strings.ContainsAny(text, "\x1b\u009b") {
		text = controlSequence.ReplaceAllString(text, "")
	}
	text = strings.ReplaceAll(text, "\t", "    ")
	return strings.Map(func(r rune) rune {
		if r == '\n' || !Acts(r) {
			return r
		}
		return -1
	}, text)
}

// Acts reports whether a character does something other than show itself: terminals obey control
// characters, and format characters of Unicode hide, join or reorder others (Unicode Standard,
// 23.2 and 23.9: bidirectional controls, zero-width characters, tags, fillers).
func Acts(r rune) bool {
	if r >= ' ' && r <= '~' {
		return false
	}
	return unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Other_Default_Ignorable_Code_Point, unicode.Noncharacter_Code_Point)
}

// PlainLine is Plain on one line: line ends become spaces.
func PlainLine(text string) string {
	if isPlainLine(text) {
		return text
	}
	return strings.Join(strings.Fields(Plain(text)), " ")
}

// isPlainLine reports whether a text is made of printable ASCII with single
// spaces between words, as nearly all names are.
func isPlainLine(text string) bool {
	space := true // as if one stood before the text
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
var controlSequence = regexp.MustCompile(
	`\x1b\[[0-?]*[ -/]*[@-~]|\x1b[\]PX^_][^\n\x07\x1b]*(?:\x07|\x1b\\)?|\x1b[ -/]*[0-~]|\x{9b}[0-?]*[ -/]*[@-~]`)

// longestCompared bounds the words in which a comparison is looked for, in bytes.
const longestCompared = 64 << 10

// Compared reads the two sides of a comparison out of a failure's words, in the
// forms that are common in test messages. Both are empty where there are none, or
// more words than anybody could compare.
func Compared(words string) (expected, actual string) {
	if len(words) > longestCompared {
		return "", ""
	}
	for _, form := range comparisons {
		match := form.FindStringSubmatch(words)
		if match == nil {
			continue
		}
		for i, name := range form.SubexpNames() {
			switch name {
			case "expected":
				expected = strings.TrimSpace(match[i])
			case "actual":
				actual = strings.TrimSpace(match[i])
			}
		}
		return expected, actual
	}
	return "", ""
}

var comparisons = []*regexp.Regexp{
	regexp.MustCompile(`(?s)(?:^|\n)got:\n(?P<actual>.*?)\nwant:\n(?P<expected>.*)$`),
	regexp.MustCompile(`(?im)^\s*expected\s*:[ \t]*(?P<expected>.+)\n\s*(?:actual|got)\s*:[ \t]*(?P<actual>.+)$`),
	regexp.MustCompile(`(?im)\b(?:got|have)[ :=]+(?P<actual>[^\n]+?)[,;]?\s+(?:want(?:ed)?|expected)[ :=]+(?P<expected>[^\n]+)$`),
	regexp.MustCompile(`(?im)\b(?:want(?:ed)?|expected)[ :=]+(?P<expected>[^\n]+?)[,;]?\s+(?:but )?(?:got|have|actual)[ :=]+(?P<actual>[^\n]+)$`),
}
