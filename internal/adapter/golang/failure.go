package golang

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"fernrelay/core/lazy"
	"fernrelay/core/run"
)

var (
	// logged is a line that a test logged: file, line, words.
	logged = lazy.Regexp(`^\s+([^\s:/]+\.go):(\d+): (.*)$`)
	// framed is a line of a stack that names a place.
	framed = lazy.Regexp(`^\t(/.+\.go):(\d+)`)
)

// failure returns what went wrong and where, from a test's output. Of several logged lines it takes the first that
// compares two values, else the last; of a panic its message and the topmost place inside the project.
func (a *Adapter) failure(group, words string) (message, file string, line int) {
	lines := strings.Split(words, "\n")
	if at := panicLine(lines); at >= 0 {
		return a.panicked(lines[at:])
	}
	found := -1
	for i, text := range lines {
		if logged().MatchString(text) {
			found = i
			if expected, _ := run.Compared(whole(lines, i)); expected != "" {
				break
			}
		}
	}
	if found < 0 {
		return strings.TrimSpace(lastLines(lines)), "", 0
	}
	match := logged().FindStringSubmatch(lines[found])
	file = a.projectFile(filepath.Join(a.Dir, filepath.FromSlash(group), match[1]))
	return whole(lines, found), file, number(match[2])
}

// whole returns a logged line with the lines that continue it, without the white space before those.
func whole(lines []string, at int) string {
	match := logged().FindStringSubmatch(lines[at])
	text, indent := match[3], lines[at][:len(lines[at])-len(strings.TrimLeft(lines[at], " "))]+"    "
	for _, more := range lines[at+1:] {
		rest, continues := strings.CutPrefix(more, indent)
		if !continues || logged().MatchString(more) || len(text) > maxMessage {
			break
		}
		text += "\n" + strings.TrimRight(rest, " \t")
	}
	return strings.TrimLeft(text, "\n")
}

// maxMessage bounds a message, in bytes.
const maxMessage = 4 << 10

// lastLines returns the end of an output that names no place.
func lastLines(lines []string) string {
	text := strings.TrimSpace(strings.Join(lines, "\n"))
	return strings.ToValidUTF8(text[max(0, len(text)-maxMessage):], "")
}

func panicLine(lines []string) int {
	for i, text := range lines {
		if strings.HasPrefix(text, "panic: ") || strings.HasPrefix(text, "fatal error: ") {
			return i
		}
	}
	return -1
}

func (a *Adapter) panicked(lines []string) (message, file string, line int) {
	message = strings.TrimSuffix(lines[0], " [recovered, repanicked]")
	for _, text := range lines[1:] {
		match := framed().FindStringSubmatch(text)
		if match == nil || strings.HasSuffix(match[1], orderFile) {
			continue
		}
		if shown := a.projectFile(match[1]); !filepath.IsAbs(shown) {
			return message, shown, number(match[2])
		}
	}
	return message, "", 0
}

// projectFile returns a file's path as it is reported: relative to the project, with slashes, if it exists there.
func (a *Adapter) projectFile(path string) string {
	below, err := filepath.Rel(a.Root, path)
	if err != nil || strings.HasPrefix(below, "..") {
		return path
	}
	if _, err := os.Stat(path); err != nil {
		return ""
	}
	return filepath.ToSlash(below)
}

func number(digits string) int {
	n, _ := strconv.Atoi(digits) // the expressions let nothing else pass
	return n
}
