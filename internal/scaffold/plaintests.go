package scaffold

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"fernrelay/core/lazy"
	"fernrelay/core/plain"
	"fernrelay/hosts"
	"fernrelay/internal/project"
	"fernrelay/internal/wording"
)

// tongue is a language in which plain tests are found: functions in files, that its library serves.
type tongue struct {
	name, word    string                // of a suite, and for people
	file          func() *regexp.Regexp // names of files with tests
	test          func() *regexp.Regexp // a line that begins a test
	other         func() *regexp.Regexp // a line that begins what the library does not run
	otherWords    string
	library       string // the name of its file
	source        []byte
	main, program string // the name of the main program, and the command before it
	serve         string // the main program, with the name of the suite and the patterns
}

var tongues = []tongue{
	{name: "python", word: "Python", file: lazy.Regexp(`^test_.*\.py$|_test\.py$`), test: lazy.Regexp(`(?m)^(?:async )?def test_\w+\((?:t)?\)`),
		other: lazy.Regexp(`(?m)^(?:async )?def test_\w+\((?:[^t)]|t[^)])|^class Test|^class \w+\(.*TestCase\)`), otherWords: "a class of tests or a test with arguments",
		library: "fernhost.py", source: hosts.Python, main: "fern_tests.py", program: "python3",
		serve: "# Serves the plain tests of this project to Fern Relay: functions that begin with test_.\nimport fernhost\n\nfernhost.serve(%s,\n               %s)\n"},
	{name: "javascript", word: "JavaScript", file: lazy.Regexp(`^test_.*\.[cm]?js$|[._]test\.[cm]?js$`), test: lazy.Regexp(`(?m)^(?:module\.)?exports\.test\w* *=|^export (?:async )?(?:const|function) test`),
		other: lazy.Regexp(`(?m)^\s*(?:describe|it|test)\(`), otherWords: "tests that another library declares",
		library: "fernhost.js", source: hosts.JavaScript, main: "fern_tests.js", program: "node",
		serve: "// Serves the plain tests of this project to Fern Relay: functions that are exported under names that begin with test.\nrequire('./fernhost').serve(%s,\n  %s)\n"},
}

// plainSuite looks below a folder for plain tests in a language, and returns the suite that serves them with the files that it
// needs; false if there are none. notes say what it leaves out.
func (l *tongue) plainSuite(dir string) (suite Suite, notes []string, found bool) {
	patterns, tests, others, first := []string{}, 0, 0, ""
	_ = filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error { // what cannot be read has no tests
		below, _ := filepath.Rel(dir, at)
		switch {
		case err != nil:
			return fs.SkipDir
		case d.IsDir() && below != "." && project.PassesOver(d.Name()):
			return fs.SkipDir
		case d.IsDir() || !l.file().MatchString(d.Name()) || d.Name() == l.main:
			return nil
		}
		text, err := os.ReadFile(at)
		here := l.test().FindAllIndex(text, -1)
		if others += len(l.other().FindAllIndex(text, -1)); err != nil || len(here) == 0 {
			return nil
		}
		if tests += len(here); first == "" {
			first = string(bytes.TrimSpace(text[here[0][0]:here[0][1]]))
		}
		if pattern := patternOf(filepath.ToSlash(below)); !slices.Contains(patterns, pattern) {
			patterns = append(patterns, pattern)
		}
		return nil
	})
	if others > 0 {
		notes = append(notes, fmt.Sprintf("%s in %s left out: each is %s, which the library does not run", wording.Plural(others, "place"), l.word, l.otherWords))
	}
	if tests == 0 {
		return suite, notes, false
	}
	quoted := make([]string, len(patterns))
	for i, pattern := range patterns {
		quoted[i] = fmt.Sprintf("%q", pattern)
	}
	suite = Suite{Name: l.name, Kind: "host", Dir: ".", Run: l.program + " " + l.main, Comment: wording.Plural(tests, "plain test") + " in " + l.word + ", served by " + l.main,
		Files: map[string]string{l.library: string(l.source), l.main: fmt.Sprintf(l.serve, fmt.Sprintf("%q", plain.Line(filepath.Base(dir))), strings.Join(quoted, ", "))}}
	return suite, notes, true
}

// patternOf returns a pattern of files like one: with its folder, and what its name begins and ends with.
func patternOf(file string) string {
	name, ending := path.Base(file), path.Ext(file)
	if strings.HasPrefix(name, "test_") {
		return path.Join(path.Dir(file), "test_*"+ending)
	}
	stem := strings.TrimSuffix(name, ending)
	return path.Join(path.Dir(file), "*"+stem[len(stem)-len("_test"):]+ending)
}
