package run

import (
	"regexp"
	"strings"

	"fernrelay/core/lazy"
)

// longestCompared bounds the words in which a comparison is looked for, in bytes.
const longestCompared = 64 << 10

// Compared returns the two sides of a comparison in a failure's message, in the forms that are common in test
// messages. Both are empty if there are none, or if the message is longer than anybody could compare.
func Compared(words string) (expected, actual string) {
	if len(words) > longestCompared {
		return "", ""
	}
	for _, form := range comparisons {
		match := form().FindStringSubmatch(words)
		if match == nil {
			continue
		}
		for i, name := range form().SubexpNames() {
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

var comparisons = []func() *regexp.Regexp{
	lazy.Regexp(`(?s)(?:^|\n)got:\n(?P<actual>.*?)\nwant:\n(?P<expected>.*)$`),
	lazy.Regexp(`(?im)^\s*expected\s*:[ \t]*(?P<expected>.+)\n\s*(?:actual|got)\s*:[ \t]*(?P<actual>.+)$`),
	lazy.Regexp(`(?im)\b(?:got|have|returned|was|is)[ :=]+(?P<actual>[^\n]+?)[,;]\s+(?:but )?(?:want(?:ed)?|expected|should be)[ :=]+(?P<expected>[^\n]+)$`),
	lazy.Regexp(`(?im)\b(?:got|have)[ :=]+(?P<actual>[^\n]+?)\s+(?:want(?:ed)?|expected)[ :=]+(?P<expected>[^\n]+)$`),
	lazy.Regexp(`(?im)\b(?:want(?:ed)?|expected)[ :=]+(?P<expected>[^\n]+?)[,;]?\s+(?:but )?(?:got|have|actual|returned)[ :=]+(?P<actual>[^\n]+)$`),
	lazy.Regexp(`(?im)^[\w.*&\[\]]+\(.*\) (?:=|==|returned|returns) (?P<actual>[^\n]+?)[,;] (?:want(?:ed)?|expected)[ :=]+(?P<expected>[^\n]+)$`),
	lazy.Regexp(`(?m)^(?:[^\n]*: )?(?P<actual>[^\s:]+|"(?:[^"\\]|\\.)*") != (?P<expected>[^\s]+|"(?:[^"\\]|\\.)*")$`),
}
