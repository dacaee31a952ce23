// Package scaffold looks at a folder and writes a fern.toml for what it finds there: Go modules, and folders of scripts.
//
//	shape, err := scaffold.Look(dir)
//	text := shape.Config()
package scaffold

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernrelay/core/lazy"
	"fernrelay/core/plain"
	"fernrelay/internal/project"
	"fernrelay/internal/wording"
)

// Shape is what a folder has.
type Shape struct {
	Name    string   // of the project
	Suites  []Suite  // in the order in which they are written
	Notes   []string // what was not understood, or not looked at
	Looked  int      // folders
	Modules int      // of Go among the suites
}

// Suite is one suite, as it is written.
type Suite struct {
	Name, Kind, Dir    string
	List, Run, Results string // of a command; Run also of a host
	Comment            string // why it is there
	Example            string // the name of one of its tests, "" if none is known yet
}

// Results are the formats in which a command may report, and ResultsWords what each means.
var (
	Results      = []string{"exit", "tap", "junit", "gojson", "events"}
	ResultsWords = []string{"its exit status: one {name} a process", "TAP on standard output", "JUnit XML in {report}, or on standard output", "the Go toolchain's JSON events", "our own event lines"}
)

// mostFolders bounds the folders that are looked at.
const mostFolders = 5000

// passed are folders that hold no tests of the project itself.
var passed = map[string]bool{"node_modules": true, "vendor": true, "testdata": true, "third_party": true, "build": true, "dist": true, "target": true}

// Look looks at a folder and what is below it. The error says that the folder cannot be read, or that it is inside of a project.
func Look(dir string) (*Shape, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if _, err := os.ReadDir(dir); err != nil {
		return nil, fmt.Errorf("cannot read %s: %w", dir, errors.Unwrap(err))
	}
	s := &Shape{Name: filepath.Base(dir)}
	if p, err := project.Open(dir); err == nil && p.Dir != dir {
		return nil, fmt.Errorf("%s is inside the project %s: write its fern.toml there, with -C %s", dir, p.Dir, p.Dir)
	}
	if p, err := project.WithoutFile(dir); err == nil && p.Dir == dir {
		for _, suite := range p.Suites {
			if suite.Kind == project.Go {
				s.Suites = append(s.Suites, Suite{Name: suite.Name, Kind: "go", Dir: suite.Dir, Comment: "the tests, examples and fuzz seeds of a Go module"})
			}
		}
		s.Modules = len(s.Suites)
	}
	return s, s.lookForScripts(dir)
}

// lookForScripts adds a suite for each folder of scripts that look like tests.
func (s *Shape) lookForScripts(dir string) error {
	names := map[string]bool{}
	for _, suite := range s.Suites {
		names[suite.Name] = true
	}
	return filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error {
		below, _ := filepath.Rel(dir, at)
		switch {
		case err != nil:
			s.Notes = append(s.Notes, fmt.Sprintf("%s cannot be read: %v", plain.Line(below), errors.Unwrap(err)))
			return fs.SkipDir
		case !d.IsDir():
			return nil
		case below != "." && (d.Name()[0] == '.' || passed[d.Name()]):
			return fs.SkipDir
		}
		if s.Looked++; s.Looked > mostFolders {
			s.Notes = append(s.Notes, fmt.Sprintf("only the first %d folders were looked at", mostFolders))
			return fs.SkipAll
		}
		all := testFolder().MatchString(d.Name())
		scripts, odd := scriptsIn(at, all)
		for _, name := range odd {
			s.Notes = append(s.Notes, fmt.Sprintf("the script %s has a line break in its name: rename it", plain.Line(path.Join(filepath.ToSlash(below), name))))
		}
		if len(scripts) > 0 {
			name := uniqueName(filepath.ToSlash(below), names)
			s.Suites = append(s.Suites, Suite{Name: name, Kind: "command", Dir: filepath.ToSlash(below), List: listLine(scripts, all), Run: "./{name}", Example: scripts[0],
				Comment: wording.Plural(len(scripts), "script") + ", each a test by its exit status, such as " + plain.Line(scripts[0])})
		}
		return nil
	})
}

var (
	testFolder = lazy.Regexp(`(?i)^(tests?|checks?|t|specs?|it|e2e)$|[-_](tests?|checks?)$`)
	testBegins = lazy.Regexp(`(?i)^(test|check)[-_.]`)
	testEnds   = lazy.Regexp(`(?i)[-_](test|check)(\.\w+)?$|\.t$`)
)

// scriptsIn returns the executable scripts of a folder that look like tests: all of a folder of tests, or else those whose names
// say so. odd are those with a line break in their names, which no list can name.
func scriptsIn(dir string, all bool) (scripts, odd []string) {
	entries, _ := os.ReadDir(dir) // the walk reports what cannot be read
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() || info.Mode()&0o100 == 0 || !all && !testBegins().MatchString(e.Name()) && !testEnds().MatchString(e.Name()) || !isScript(filepath.Join(dir, e.Name())) {
			continue
		}
		if strings.ContainsAny(e.Name(), "\n\r") {
			odd = append(odd, e.Name())
			continue
		}
		scripts = append(scripts, e.Name())
	}
	return scripts, odd
}

// isScript reports whether a file begins with #!.
func isScript(file string) bool {
	f, err := os.Open(file)
	if err != nil {
		return false
	}
	defer f.Close()
	head, _ := bufio.NewReaderSize(f, 16).Peek(2)
	return bytes.Equal(head, []byte("#!"))
}

// listLine returns a command that lists scripts like some: all executable files of a folder of tests, with their ending if all have
// the same, or else those whose names are like theirs.
func listLine(scripts []string, all bool) string {
	var globs []string
	for _, name := range scripts {
		glob := "*" + path.Ext(name)
		if !all {
			glob = likeName(name)
		}
		globs = append(globs, glob)
	}
	slices.Sort(globs)
	if globs = slices.Compact(globs); all && len(globs) > 1 {
		globs = []string{"*"}
	}
	return fmt.Sprintf(`sh -c 'for f in %s; do [ -f "$f" ] && [ -x "$f" ] && echo "$f"; done | sort -u'`, strings.Join(globs, " "))
}

// likeName returns a pattern of a shell for names that say in the same way that they are tests, as in test_* or *-check.sh.
func likeName(name string) string {
	if begins := testBegins().FindString(name); begins != "" {
		return begins + "*"
	}
	return "*" + testEnds().FindString(name)
}

// uniqueName returns a name for the suite of a folder that no other has.
func uniqueName(below string, names map[string]bool) string {
	base := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`:#/\ `, r) || r < ' ' {
			return '-'
		}
		return r
	}, strings.TrimLeft(below, "."))
	if base == "" {
		base = "scripts"
	}
	name := base
	for n := 2; names[name]; n++ {
		name = fmt.Sprint(base, n)
	}
	names[name] = true
	return name
}

// Add adds a suite that a person describes. If it does not say how it reports, that follows from its run command: a
// {report} is JUnit XML, {names} without one are reported as TAP.
func (s *Shape) Add(suite Suite) error {
	if suite.Kind == "host" {
		suite.List, suite.Results, suite.Comment = "", "", "a program that speaks the test-host protocol"
	} else {
		suite.Comment = "a program that lists and runs tests"
	}
	switch {
	case suite.Run == "":
		return errors.New("run is empty: write the command that runs the tests")
	case suite.Kind == "host":
	case suite.List == "":
		return errors.New("list is empty: write the command that prints the names of the tests")
	case suite.Results != "":
	case strings.Contains(suite.Run, "{report}"):
		suite.Results = "junit"
	case strings.Contains(suite.Run, "{names}"):
		suite.Results = "tap"
	}
	if suite.Name == "" {
		suite.Name = "program"
	}
	if slices.ContainsFunc(s.Suites, func(other Suite) bool { return other.Name == suite.Name }) {
		return fmt.Errorf("there is a suite %s already: give this one another name", suite.Name)
	}
	s.Suites = append(s.Suites, suite)
	return nil
}

// Config returns a commented fern.toml for the suites.
func (s *Shape) Config() string {
	var out strings.Builder
	fmt.Fprintf(&out, "# What Fern Relay knows of this project. docs/fern-toml.md describes every key.\n\n[project]\n%s\n", line("name", s.Name))
	for _, suite := range s.Suites {
		fmt.Fprintf(&out, "\n# %s\n[[suite]]\n%s\n%s\n", suite.Comment, line("name", suite.Name), line("kind", suite.Kind))
		if suite.Dir != "." && suite.Dir != "" {
			fmt.Fprintln(&out, line("dir", suite.Dir))
		}
		for _, l := range []struct{ key, value, comment string }{
			{"list", suite.List, "prints the name of each test on a line"},
			{"run", suite.Run, runComment(suite)},
			{"results", suite.Results, "how it reports: exit, tap, junit, gojson or events"},
		} {
			if l.value != "" {
				fmt.Fprintf(&out, "%s   # %s\n", line(l.key, l.value), l.comment)
			}
		}
		if suite.Kind == "go" {
			out.WriteString("# build-flags = [\"-race\"]\n# args = [\"-short\"]\n")
		}
		out.WriteString("# timeout = \"2m\"   # of one test\n")
	}
	if len(s.Suites) > 0 {
		fmt.Fprintf(&out, rest, s.Suites[len(s.Suites)-1].Name)
	}
	return out.String()
}

func runComment(s Suite) string {
	switch {
	case s.Kind == "host":
		return "speaks the test-host protocol on its standard input and output"
	case strings.Contains(s.Run, "{report}"):
		return "runs {names}, all tests of a batch, and writes its results to {report}"
	case strings.Contains(s.Run, "{names}"):
		return "{names} are all tests of a batch"
	}
	if s.Example != "" {
		return "{name} is one test, such as " + plain.Line(s.Example) + "; {names} would be all of a batch"
	}
	return "{name} is one test; {names} would be all of a batch"
}

// line writes a key with a text as TOML.
func line(key, text string) string {
	written, _ := project.Assignment(key, text) // any text can be written
	return written
}

// rest is what every fern.toml may have; %[1]s is the name of a suite.
const rest = `
# [tags]                          # more tags, by picks: fern-relay list -p slow
# slow = "suite:%[1]s took>5s"

# [picks]                         # saved picks: fern-relay run -p saved:quick
# quick = "not slow"

# [workers]
# count = 4                       # tests run on as many workers; default: one per processor
# env = { STORE_PREFIX = "{space}" }   # {space} {slot} {tmp} {port} are each worker's own
`
