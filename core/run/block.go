package run

import (
	"strings"

	"fernrelay/core/lazy"
)

// A block is a failure as assertion libraries print it: lines that begin with a label, each followed by lines that are indented
// further.
//
//	Error Trace:  pump_test.go:12
//	Error:        Not equal:
//	              expected: 3
//	              actual  : 2
//	Messages:     the pump 3
type block struct {
	from, to int // the lines of the text that it takes
	values   map[string]string
}

// labelLine is a line of a block with a label.
var labelLine = lazy.Regexp(`^(\s*)([A-Za-z][A-Za-z ]{1,14}?)\s*:(?:\s+(.*))?$`)

// labels are those that a block may have, by what they mean; nothing for what is known anyway.
var labels = map[string]string{"error": "error", "messages": "message", "message": "message", "comment": "message",
	"expected": "expected", "want": "expected", "wanted": "expected", "actual": "actual", "got": "actual", "obtained": "actual",
	"error trace": "", "trace": "", "stack": "", "test": "", "diff": "diff"}

// findBlock returns the first labelled block of a text. It has an error and at least one more label.
func findBlock(text string) (b block, ok bool) {
	if len(text) > longestCompared {
		return b, false
	}
	lines := strings.Split(text, "\n")
	for i := 0; i < len(lines); i++ {
		match := labelLine().FindStringSubmatch(lines[i])
		if match == nil {
			continue
		}
		if b, ok = readBlock(lines, i, match[1]); ok {
			return b, true
		}
		i = max(i, b.to-1) // what begins later in it has no error either
	}
	return block{}, false
}

// readBlock reads a block that begins at a line. Its labels have the same white space before them.
func readBlock(lines []string, from int, indent string) (b block, ok bool) {
	b = block{from: from, to: from, values: map[string]string{}}
	found, label := 0, ""
	var value []string
	end := func() {
		if meaning := labels[label]; meaning != "" && b.values[meaning] == "" {
			b.values[meaning] = joined(value)
		}
	}
	for ; b.to < len(lines); b.to++ {
		line := lines[b.to]
		match := labelLine().FindStringSubmatch(line)
		if match != nil && match[1] == indent {
			name := strings.ToLower(match[2])
			if _, known := labels[name]; known {
				end()
				found, label, value = found+1, name, []string{match[3]}
				continue
			}
		}
		if inside := strings.HasPrefix(line, indent) && len(line) > len(indent) && strings.ContainsAny(line[len(indent):len(indent)+1], " \t"); found == 0 || !inside && strings.TrimSpace(line) != "" {
			break
		}
		value = append(value, line)
	}
	end()
	return b, b.values["error"] != "" && found > 1
}

// joined joins the lines of a value: the first, which follows the label, and the others without the white space that all begin with.
func joined(lines []string) string {
	common, first := "", true
	for _, line := range lines[1:] {
		if strings.TrimSpace(line) == "" {
			continue
		}
		indent := line[:len(line)-len(strings.TrimLeft(line, " \t"))]
		for !first && !strings.HasPrefix(indent, common) {
			common = common[:len(common)-1]
		}
		if first {
			common, first = indent, false
		}
	}
	out := []string{strings.TrimSpace(lines[0])}
	for _, line := range lines[1:] {
		out = append(out, strings.TrimRight(strings.TrimPrefix(line, common), " \t"))
	}
	return strings.Trim(strings.Join(out, "\n"), "\n")
}

// Described returns the message of a failure in words, and the two sides of a comparison in it. If the words have a labelled block,
// as assertion libraries print it, all comes from there.
func Described(words string) (message, expected, actual string) {
	b, ok := findBlock(words)
	if !ok {
		expected, actual = Compared(words)
		return words, expected, actual
	}
	message = b.values["error"]
	expected, actual = b.values["expected"], b.values["actual"]
	if expected == "" && actual == "" {
		if expected, actual = Compared(message); strings.Contains(message, "\n") {
			message = withoutSides(message)
		}
	}
	title, body, _ := strings.Cut(message, "\n")
	title, body = strings.TrimRight(title, ": "), strings.Trim(body, "\n")
	switch {
	case body != "" && !strings.Contains(body, "\n"):
		title, body = title+": "+strings.TrimSpace(body), ""
	case body == "" && b.values["diff"] != "":
		body = b.values["diff"]
	}
	if more := b.values["message"]; more != "" {
		title = strings.ReplaceAll(more, "\n", " ") + ": " + title
	}
	return strings.TrimRight(title+"\n"+body, "\n"), expected, actual
}

// sideLine is a line with one side of a comparison.
var sideLine = lazy.Regexp(`(?i)^\s*(?:expected|actual|want|got)\s*:`)

// withoutSides returns a text without the lines that Compared takes both sides from.
func withoutSides(text string) string {
	lines := strings.Split(text, "\n")
	kept := lines[:1]
	for _, line := range lines[1:] {
		if !sideLine().MatchString(line) {
			kept = append(kept, line)
		}
	}
	return strings.Join(kept, "\n")
}

// WithoutBlock returns an output without the labelled block that a message was made from.
func WithoutBlock(output, message string) string {
	b, ok := findBlock(output)
	if !ok {
		return output
	}
	lines := strings.Split(output, "\n")
	if made, _, _ := Described(strings.Join(lines[b.from:b.to], "\n")); made != message {
		return output
	}
	from := b.from
	if from > 0 && strings.HasSuffix(strings.TrimRight(lines[from-1], " "), ":") {
		from-- // the line that names the place
	}
	return strings.Join(append(lines[:from:from], lines[b.to:]...), "\n")
}
