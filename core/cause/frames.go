package cause

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"fernrelay/core/lazy"
)

// Frame is a place in the code that a failure went through.
type Frame struct {
	File     string `json:"file"` // relative to the project if it is inside
	Line     int    `json:"line"`
	Function string `json:"function,omitempty"`
}

// String is the frame as file:line.
func (f Frame) String() string { return f.File + ":" + strconv.Itoa(f.Line) }

// frameForms are the forms in which languages write a frame of a stack, each with a text that a line must contain,
// which is quicker to check. Named parts are the file, the line and, if there is one, the function.
var frameForms = []struct {
	holds string
	form  func() *regexp.Regexp
}{
	{`File "`, lazy.Regexp(`^\s*File "(?P<file>[^"]+)", line (?P<line>\d+)(?:, in (?P<function>\S+))?`)},
	{" at ", lazy.Regexp(`^#\d+\s.*\bin (?P<function>\S+) .*\bat (?P<file>\S+):(?P<line>\d+)$`)},
	{"at ", lazy.Regexp(`^\s*at (?:async )?(?P<function>[^()]+?) ?\((?P<file>[^()\s]+?):(?P<line>\d+)(?::\d+)?\)$`)},
	{"at ", lazy.Regexp(`^\s*at (?P<file>[^()\s]+?):(?P<line>\d+)(?::\d+)?$`)},
	{".rb:", lazy.Regexp("^\\s*(?:from )?(?P<file>\\S+\\.rb):(?P<line>\\d+):in [`'](?P<function>[^']+)'")},
	{"panicked at ", lazy.Regexp(`\bpanicked at (?:.*, )?(?P<file>\S+\.rs):(?P<line>\d+):\d+:?$`)},
	{"Assertion ", lazy.Regexp(`^(?:[^\s:]+: )?(?P<file>[^\s:]+\.\w{1,3}):(?P<line>\d+): (?:(?P<function>[^\s:]+): )?Assertion `)},
	{"/", lazy.Regexp(`^\s*(?P<file>[^\s:()]*/[^\s:()]+\.\w{1,5}):(?P<line>\d+)(?: \+0x[0-9a-f]+)?$`)},
}

// How languages write that one error caused another: the original one comes first, or last.
var (
	broughtAbout = lazy.Regexp(`(?m)^(?:The above exception was the direct cause of|During handling of the above exception, another).*$`)
	causedBy     = lazy.Regexp(`(?m)^\s*Caused by: `)
)

// chained divides a text of errors that caused each other, the original first, and returns the words of that one;
// those are empty if the text has no such chain.
func chained(text string) (parts []string, root string) {
	if !strings.Contains(text, "exception") && !strings.Contains(text, "Caused by: ") {
		return []string{text}, ""
	}
	if parts = broughtAbout().Split(text, -1); len(parts) > 1 {
		lines := strings.Split(strings.TrimSpace(parts[0]), "\n")
		return parts, strings.TrimSpace(lines[len(lines)-1])
	}
	if parts = causedBy().Split(text, -1); len(parts) > 1 {
		slices.Reverse(parts)
		return parts, firstLine(parts[0])
	}
	return parts, ""
}

// Functions on a line of their own before the line with the file.
var (
	goFunction   = lazy.Regexp(`^\s*(?:created by )?([\w./\-*()\[\]…]+?)\([^()]*\)$`)
	listFunction = lazy.Regexp(`^\s*\d+:\s+(?:0x[0-9a-f]+ - )?(\S+)$`)
)

// frames returns the frames in a text, the deepest first.
func frames(text string) []Frame {
	var found []Frame
	before := ""
	upward := false // the deepest is last
	for line := range strings.SplitSeq(text, "\n") {
		f, form := frameOf(line)
		if form < 0 {
			before = line
			continue
		}
		upward = upward || form == 0
		if f.Function == "" {
			for _, own := range []func() *regexp.Regexp{goFunction, listFunction} {
				if m := own().FindStringSubmatch(before); m != nil {
					f.Function = m[1]
				}
			}
		}
		before = ""
		found = append(found, f)
	}
	if upward {
		slices.Reverse(found)
	}
	return found
}

// frameOf reads a line as a frame; form is -1 if it is none.
func frameOf(line string) (f Frame, form int) {
	if len(line) > 1000 || !strings.ContainsAny(line, ":,") || !strings.ContainsAny(line, "0123456789") {
		return f, -1
	}
	for i, known := range frameForms {
		if !strings.Contains(line, known.holds) {
			continue
		}
		re := known.form()
		m := re.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		f.File = m[re.SubexpIndex("file")]
		f.Line, _ = strconv.Atoi(m[re.SubexpIndex("line")]) // digits; 0 if they are too many
		if at := re.SubexpIndex("function"); at >= 0 {
			f.Function = m[at]
		}
		return f, i
	}
	return f, -1
}

// foreign are folders in which a project keeps the code of others.
var foreign = []string{"node_modules", "vendor", "site-packages", "dist-packages", "third_party", ".venv", "venv"}

// foreignFunctions begin the names of what belongs to a language's own library.
var foreignFunctions = lazy.Regexp(`^(?:java|javax|jdk|sun|node:\w+|std|core|runtime|testing)[.:]`)

// OwnIn returns a function that reports whether a file of a frame belongs to the project in a folder, and its name
// there.
func OwnIn(dir string) func(file string) (name string, own bool) {
	dir = strings.TrimSuffix(dir, "/") + "/"
	return func(file string) (string, bool) {
		name := strings.TrimPrefix(strings.TrimPrefix(file, "file://"), dir)
		name = strings.TrimPrefix(name, "./")
		if strings.HasPrefix(name, "/") || strings.HasPrefix(name, "../") || strings.HasPrefix(name, "<") || strings.Contains(name, "://") || strings.HasPrefix(name, "node:") {
			return file, false
		}
		for part := range strings.SplitSeq(name, "/") {
			if slices.Contains(foreign, part) {
				return file, false
			}
		}
		return name, true
	}
}

// ownFrames returns the frames of a text in the project's own code, the deepest first.
func ownFrames(text string, own func(file string) (name string, own bool)) []Frame {
	var mine []Frame
	for _, f := range frames(text) {
		name, ok := own(f.File)
		if !ok || foreignFunctions().MatchString(f.Function) || strings.HasPrefix(f.File, "_testmain") {
			continue
		}
		f.File = name
		mine = append(mine, f)
	}
	return mine
}

var (
	testFile       = lazy.Regexp(`(?:_test|\.test|\.spec|Test|Tests|_spec)\.\w+$|(?:^|/)(?:tests?|spec)/|(?:^|/)test_[^/]*$`)
	helperFile     = lazy.Regexp(`(?i)(?:^|[/_\-])(?:assert\w*|require|check(?:s|ing|er)?|expect\w*|must|verif\w*|helpers?|test_?util\w*|matchers?)(?:[_\-.]|$)`)
	helperFunction = lazy.Regexp(`(?i)(?:^|[.:#])(?:assert|require|check|expect|must|verify|fail|equal|same|eq)\w*$`)
)

// inTest reports whether a frame is a test's own line, which says what was found wrong and not where it went
// wrong; the same is true of functions that only compare.
func (f Frame) inTest() bool {
	return testFile().MatchString(f.File) || helperFile().MatchString(f.File) || helperFunction().MatchString(f.Function)
}
