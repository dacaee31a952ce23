package outcome

import (
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Plain makes what a test printed safe to show: control sequences of terminals
// and other control characters go, tabs become spaces, broken UTF-8 is marked.
func Plain(text string) string {
	if !utf8.ValidString(text) {
		text = strings.ToValidUTF8(text, "\uFFFD")
	}
	if strings.ContainsAny(text, "\x1b\u009b") {
		text = controlSequence.ReplaceAllString(text, "")
	}
	text = strings.ReplaceAll(text, "\t", "    ")
	return strings.Map(func(r rune) rune {
		if r == '\n' || r >= ' ' && r <= '~' || !unicode.IsControl(r) && !unicode.Is(unicode.Bidi_Control, r) {
			return r
		}
		return -1
	}, text)
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
	`\x1b\[[0-?]*[ -/]*[@-~]|\x1b[\]PX^_](?s:.*?)(?:\x07|\x1b\\|$)|\x1b[ -/]*[0-~]|\x{9b}[0-?]*[ -/]*[@-~]`)

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
