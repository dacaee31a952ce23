package pick

import (
	"regexp"
	"strings"
)

// Glob returns a function that matches whole paths: * stays within a folder, ** does not.
func Glob(pattern string) func(path string) bool { return globRegexp(pattern, "[^/]*").MatchString }

// globRegexp turns a glob into an expression that matches the whole text. star
// is what a single * matches; ** crosses folders.
//
//	beds/*       beds/a, not beds/a/b
//	beds/**      beds, beds/a and beds/a/b
//	**/frost     frost, beds/frost and beds/a/frost
//	be?s         beds, not be/s
func globRegexp(glob, star string) *regexp.Regexp {
	var out strings.Builder
	out.WriteString(`^(?s:`)
	for i := 0; i < len(glob); {
		rest := glob[i:]
		switch {
		case rest == "/**":
			out.WriteString(`(?:/.*)?`)
			i += 3
		case strings.HasPrefix(rest, "**/"):
			out.WriteString(`(?:.*/)?`)
			i += 3
		case strings.HasPrefix(rest, "**"):
			out.WriteString(`.*`)
			i += 2
		case rest[0] == '*':
			out.WriteString(star)
			i++
		case rest[0] == '?':
			out.WriteString(`[^/]`)
			i++
		default:
			end := strings.IndexAny(rest, "*?")
			if end < 0 {
				end = len(rest)
			}
			if slash := strings.Index(rest, "/**"); slash == 0 {
				end = 1
			} else if slash > 0 && slash < end {
				end = slash
			}
			out.WriteString(regexp.QuoteMeta(rest[:end]))
			i += end
		}
	}
	out.WriteString(`)$`)
	return regexp.MustCompile(out.String())
}
