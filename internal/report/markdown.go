package report

import (
	"strings"

	"fernrelay/core/plain"
)

// Prose returns text as words of one line of Markdown, which it does not read as anything else.
func Prose(text string) string {
	return strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "<", `\<`, "[", `\[`, "#", `\#`, "|", `\|`).Replace(plain.Line(text))
}

// Code writes what tests are called, or left, as code in a line of a table.
func Code(text string) string {
	return inlineCode(strings.ReplaceAll(text, "|", `\|`))
}

// inlineCode writes a text as code in a line outside of tables.
func inlineCode(text string) string {
	text = plain.Line(text)
	fence := "`"
	for strings.Contains(text, fence) {
		fence += "`"
	}
	if strings.HasPrefix(text, "`") || strings.HasSuffix(text, "`") || text == "" {
		text = " " + text + " "
	}
	return fence + text + fence
}

// Block writes lines of code in a language, which may be empty.
func Block(language, text string) string {
	fence := "```"
	for strings.Contains(text, fence) {
		fence += "`"
	}
	return fence + language + "\n" + text + "\n" + fence
}
