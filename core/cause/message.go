package cause

import (
	"fernrelay/core/lazy"
	"fernrelay/core/plain"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// What is taken out of a message so that those of one cause are alike, in this order.
var variable = []variableForm{
	{lazy.Regexp(`"(?:[^"\\]|\\.)*"|` + "`[^`]*`" + `|“[^”]*”|‘[^’]*’|«[^»]*»`), "…"},
	{lazy.Regexp(`(^|[\s(\[=:,])'[^']*'`), "$1…"},
	{lazy.Regexp(`\b[0-9a-fA-F]{8}(?:-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}\b`), "#"},
	{lazy.Regexp(`\b\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?(?:Z|[+-]\d\d:?\d\d)?)?`), "#"},
	{lazy.Regexp(`(?:[A-Za-z]:)?(?:[\w.\-+@~]*[/\\])+[\w.\-+@~#]*`), "path"},
	{lazy.Regexp(`\b0[xX][0-9a-fA-F]+`), "#"},
	{lazy.Regexp(`\b[0-9a-f]{7,}\b|\b\d+[a-f][0-9a-f]*\b`), "#"},
	{lazy.Regexp(`[-+]?\d[\d.,:_]*(?:[eE][-+]?\d+)?(?:ns|µs|us|ms|s|m|h|d|kB|KB|MB|GB|kb|mb|%|°C|°|px)?\b`), "#"},
	{lazy.Regexp(`#(?:\s*[a-z]{1,2}#)+`), "#"}, // as of 1h30m
	{lazy.Regexp(`\s+`), " "},
}

type variableForm struct {
	form func() *regexp.Regexp
	sign string
}

// placeBefore is a place in front of a message.
var placeBefore = lazy.Regexp(`^\s*[\w.\-/\\]+\.\w+:\d+(?::\d+)?:\s*`)

// alike is a message without what differs from one failure to the next of the same cause:
// places, quoted values, identifiers, times, paths, addresses and numbers.
func alike(message string) string {
	text := placeBefore().ReplaceAllString(message, "")
	if len(text) > longestAlike {
		text = text[:longestAlike]
	}
	for _, v := range variable {
		text = v.form().ReplaceAllString(text, v.sign)
	}
	return strings.ToLower(strings.TrimSpace(text))
}

// longestAlike bounds how much of a message is looked at, in bytes.
const longestAlike = 400

// firstLine is the first line of a message that has words.
func firstLine(message string) string {
	for line := range strings.SplitSeq(plain.Text(message), "\n") {
		if strings.IndexFunc(line, isLetter) >= 0 {
			return strings.TrimSpace(line)
		}
	}
	return ""
}

func isLetter(r rune) bool { return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r > 127 }

// empty words say nothing of a cause.
var emptyWords = sync.OnceValue(func() map[string]bool {
	words := map[string]bool{}
	for _, w := range strings.Fields(`a an and actual are array as assert assertequal assertion assertionerror at be been but by comparison
		different differ differs do does dict error errors equal equals exception exit expect expected expectation fail failed failure false for found from
		get give gave given got had has have in is it its left length line list match mismatch nil no none not null of on one or panic panicked path received
		result results return returned returns right same should status test tests than that the this to true type unexpected value values
		want wanted was were when with wrong recovered fatal code len size count`) {
		words[w] = true
	}
	return words
})

// faults are messages of a language itself, which every kind of mistake brings about.
var faults = lazy.Regexp(`nil pointer|invalid memory address|out of range|out of bounds|undefined is not|not defined|cannot read propert|is not a function|nullpointer|` +
	`send on closed|close of closed|data race|race detected|entry in nil map|cannot invoke|member function|classcast|arithmeticexception|already borrowed|with overflow|` +
	`keyerror|typeerror|attributeerror|indexerror|nameerror|valueerror: …|segmentation|divi(?:de|sion) by zero|stack overflow|deadlock|unwrap\(\)|has no attribute|nosuchelement|undefined method|concurrent map`)

// classOnly is a message that says only the class of an error, which many kinds of mistake have.
var classOnly = lazy.Regexp(`^[\w.$:]*(?:Error|Exception|Failure|Fault|Warning)[\s:]*$`)

// exitOnly is a message that says only how a process ended.
var exitOnly = lazy.Regexp(`(?i)^(?:\S+: )?(?:exit(?:ed)?(?: with)?(?: status| code)?|status|code):? \d+\.?$`)

// lastInformative returns the last line of an output that says something; "" if none does.
func lastInformative(output string) string {
	for _, line := range slices.Backward(strings.Split(output, "\n")) {
		if len(content(alike(line))) >= 2 {
			return strings.TrimSpace(line)
		}
	}
	return ""
}

// The words in which systems say that a signal ended a process, and the names of those that do.
var (
	signalForm  = lazy.Regexp(`(?i)\bsignal:? (?:sig)?(\w+)|\bsig(abrt|bus|fpe|ill|kill|segv|term|trap)\b|^(?:.*: )?(segmentation fault|aborted|killed|bus error)(?: \(core dumped\))?$`)
	signalNames = map[string]string{"4": "ILL", "5": "TRAP", "6": "ABRT", "7": "BUS", "8": "FPE", "9": "KILL", "11": "SEGV", "15": "TERM",
		"ILL": "ILL", "TRAP": "TRAP", "ABRT": "ABRT", "BUS": "BUS", "FPE": "FPE", "KILL": "KILL", "SEGV": "SEGV", "TERM": "TERM",
		"ABORTED": "ABRT", "KILLED": "KILL", "TERMINATED": "TERM", "SEGMENTATION": "SEGV", "SEGMENTATION FAULT": "SEGV", "BUS ERROR": "BUS"}
)

// endingSignal returns the signal that ended the process according to a message, such as KILL; "" if it names
// none.
func endingSignal(message string) string {
	for _, word := range signalForm().FindStringSubmatch(message) {
		if name := signalNames[strings.ToUpper(word)]; name != "" {
			return name
		}
	}
	return ""
}

// informative reports whether an alike message names its cause: at least two words of it say
// something, and it is none of a language's own.
func informative(message string) bool {
	return !faults().MatchString(message) && len(content(message)) >= 2
}

// content are the words of an alike message that say something.
func content(message string) []string {
	var words []string
	for _, w := range strings.FieldsFunc(message, func(r rune) bool { return !isLetter(r) }) {
		if len(w) > 1 && w != "…" && !emptyWords()[w] {
			words = append(words, w)
		}
	}
	return words
}

// Resource is something outside of the tests that a failure lacks.
type Resource struct {
	Kind string `json:"kind"` // answer, file, port, program, module, permission, room, host
	Name string `json:"name,omitempty"`
}

const address = `([\w.\-]*[\w\]]:\d{2,5})`

// missing are the words in which systems say that something is missing, each with what a text in lower
// case must hold one of, which is quicker to see. The first part is its name.
var missing = []missingForm{
	{"answer", refused, lazy.Regexp(`(?i)` + address + `[^\n]{0,40}(?:connection refused|econnrefused)`)},
	{"answer", refused, lazy.Regexp(`(?i)(?:connection refused|econnrefused|could not connect)[^\n]{0,60}?` + address)},
	{"answer", refused, lazy.Regexp(`(?i)connection refused|econnrefused`)},
	{"answer", []string{"http"}, lazy.Regexp(`(?i)https?://([\w.\-]+(?::\d+)?)\S*[^\n]{0,20}\b50[234]\b`)},
	{"port", inUse, lazy.Regexp(`(?i)` + address + `[^\n]{0,40}(?:address already in use|eaddrinuse)`)},
	{"port", inUse, lazy.Regexp(`(?i)(?:address already in use|eaddrinuse)[^\n]{0,20}?((?:[\w.\-]*:)+\d{2,5})`)},
	{"port", inUse, lazy.Regexp(`(?i)address already in use|eaddrinuse`)},
	{"host", []string{"no such host", "getaddrinfo"}, lazy.Regexp(`(?i)lookup ([\w.\-]+)[^\n]*no such host|getaddrinfo \w+ ([\w.\-]+)`)},
	{"host", []string{"service not known", "no such host"}, lazy.Regexp(`(?i)name or service not known|no such host`)},
	{"module", []string{"module"}, lazy.Regexp(`(?i)no module named ['"]?([\w.\-]+)|cannot find module ['"]([^'"]+)`)},
	{"program", []string{"not found"}, lazy.Regexp(`(?i)"([^"]+)": executable file not found|([\w.\-/+]+): command not found|command not found: ([\w.\-/+]+)|\b(?:ba|da|a|z)?sh: (?:\d+: )?([\w.\-/+]+): not found`)},
	{"file", []string{"no such file", "enoent"}, lazy.Regexp(`(?i)no such file or directory[:,]? ['"]([^'"]+)|([^\s'":,]+)['"]?: no such file or directory|enoent[^'"\n]*['"]([^'"]+)`)},
	{"permission", []string{"permission denied", "eacces"}, lazy.Regexp(`(?i)([^\s'":,]+)['"]?: permission denied|permission denied: ['"]([^'"]+)|eacces[^'"\n]*['"]([^'"]+)`)},
	{"room", []string{"no space left", "enospc", "disk quota"}, lazy.Regexp(`(?i)no space left on device|enospc|disk quota exceeded`)},
	{"memory", []string{"memory", "enomem"}, lazy.Regexp(`(?i)cannot allocate memory|out of memory|enomem`)},
	{"files", []string{"too many open", "emfile"}, lazy.Regexp(`(?i)too many open files|emfile`)},
}

type missingForm struct {
	kind  string
	holds []string
	form  func() *regexp.Regexp
}

var (
	refused = []string{"connection refused", "econnrefused", "could not connect"}
	inUse   = []string{"already in use", "eaddrinuse"}
)

// lacked finds the resource that a failure lacks.
func lacked(text string) (r Resource, ok bool) {
	lower := strings.ToLower(text)
	for _, m := range missing {
		if !slices.ContainsFunc(m.holds, func(words string) bool { return strings.Contains(lower, words) }) {
			continue
		}
		found := m.form().FindStringSubmatch(text)
		if found == nil {
			continue
		}
		r.Kind = m.kind
		for _, name := range found[1:] {
			if name != "" {
				r.Name = stable(m.kind, name)
			}
		}
		return r, true
	}
	return r, false
}

var (
	passing = lazy.Regexp(`[0-9a-f]*\d[0-9a-f]{5,}|\d+`)
	anyPort = lazy.Regexp(`:(?:3[2-9]|[4-6]\d)\d{3}$`) // as a system assigns them
)

// stable is the part of a resource's name that is the same in every run.
func stable(kind, name string) string {
	switch kind {
	case "file", "permission":
		name = name[strings.LastIndexAny(name, `/\`)+1:]
		return passing().ReplaceAllString(name, "#")
	case "answer", "port":
		name = strings.NewReplacer("localhost:", "127.0.0.1:", ":::", "127.0.0.1:", "0.0.0.0:", "127.0.0.1:", "[::]:", "127.0.0.1:").Replace(strings.TrimPrefix(name, "tcp:"))
		return anyPort().ReplaceAllString(name, ":#")
	}
	return name
}
