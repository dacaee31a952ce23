package process

import (
	"strings"

	"fernrelay/core/lazy"
)

// placeholder finds what Fill looks at: a shell's ${NAME}, which stays; {{text}}, which means {text}; and {name}.
var placeholder = lazy.Regexp(`\$\{[^{}]*\}|\{\{[^{}]*\}\}|\{[a-z-]+\}`)

// Fill replaces the placeholders of a text, as {name}, by their values. A name without a value stays as it is. What is between two
// braces stays with one, as {{print}}, and so do the variables of a shell, as ${name}.
func Fill(text string, values map[string]string) string {
	return placeholder().ReplaceAllStringFunc(text, func(found string) string {
		switch {
		case found[0] == '$':
			return found
		case strings.HasPrefix(found, "{{"):
			return found[1 : len(found)-1]
		}
		if value, known := values[found[1:len(found)-1]]; known {
			return value
		}
		return found
	})
}

// Placeholders lists the names of the placeholders in a text, as Fill finds them.
func Placeholders(text string) (names []string) {
	for _, found := range placeholder().FindAllString(text, -1) {
		if found[0] != '$' && !strings.HasPrefix(found, "{{") {
			names = append(names, found[1:len(found)-1])
		}
	}
	return names
}
