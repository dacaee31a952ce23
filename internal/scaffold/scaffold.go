// Package scaffold looks at a folder and writes a fern.toml for what it finds there: Go modules, folders of scripts, and plain tests in
// Python and JavaScript.
//
//	shape, err := scaffold.Look(dir)
//	text := shape.Config()
package scaffold

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernrelay/core/plain"
	"fernrelay/internal/format"
	"fernrelay/internal/project"
	"fernrelay/internal/wholefile"
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

	Files map[string]string // that it needs beside fern.toml, by their names in the project; nil for none
}

// ResultsWords says what each of the formats means in which a command may report.
func ResultsWords() []string {
	words := []string{"its exit status: one {name} a process"}
	for _, f := range format.Formats {
		words = append(words, f.Words)
	}
	return words
}

// Look looks at a folder and what is below it. The error says that the folder cannot be read, or that it is inside of a project.
func Look(dir string) (*Shape, error) {
	dir, err := project.Real(dir)
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
	taken := map[string]bool{}
	for _, suite := range s.Suites {
		taken[suite.Name] = true
	}
	scripts := project.LookForScripts(dir, taken)
	s.Looked, s.Notes = scripts.Looked, scripts.Notes
	for _, f := range scripts.Folders {
		s.Suites = append(s.Suites, Suite{Name: f.Name, Kind: "command", Dir: f.Dir, List: f.List, Run: project.RunScript, Example: f.First,
			Comment: wording.Plural(f.Scripts, "script") + ", each a test by its exit status, such as " + plain.Line(f.First)})
	}
	for i := range tongues {
		suite, notes, found := tongues[i].plainSuite(dir)
		if s.Notes = append(s.Notes, notes...); found && !taken[suite.Name] {
			s.Suites = append(s.Suites, suite)
		}
	}
	return s, nil
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
	case strings.Contains(suite.Run, "{names"):
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
	for i := range s.Suites {
		s.Suites[i].write(&out)
	}
	if len(s.Suites) > 0 {
		fmt.Fprintf(&out, rest, s.Suites[len(s.Suites)-1].Name)
	}
	return out.String()
}

// write writes the suite as a table of fern.toml.
func (s *Suite) write(out *strings.Builder) {
	fmt.Fprintf(out, "\n# %s\n[[suite]]\n%s\n%s\n", s.Comment, line("name", s.Name), line("kind", s.Kind))
	if s.Dir != "." && s.Dir != "" {
		fmt.Fprintln(out, line("dir", s.Dir))
	}
	for _, l := range []struct{ key, value, comment string }{
		{"list", s.List, "prints the name of each test on a line"},
		{"run", s.Run, runComment(*s)},
		{"results", s.Results, "how it reports: exit, tap, junit, gojson or events"},
	} {
		if l.value != "" {
			fmt.Fprintf(out, "%s   # %s\n", line(l.key, l.value), l.comment)
		}
	}
	if s.Kind == "go" {
		out.WriteString("# build-flags = [\"-race\"]\n# args = [\"-short\"]\n")
	}
	out.WriteString("# timeout = \"2m\"   # of one test\n")
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

// Write writes the files that the suites need and that are not there yet, and then fern.toml, into the folder that was looked at. It
// returns the names of the files that it wrote, without fern.toml.
func (s *Shape) Write(dir string) (written []string, err error) {
	for i := range s.Suites {
		for _, name := range slices.Sorted(maps.Keys(s.Suites[i].Files)) {
			file := filepath.Join(dir, name)
			if _, err := os.Lstat(file); err == nil {
				continue // it stays as it is
			}
			if err := wholefile.Replace(file, 0o644, wholefile.Bytes([]byte(s.Suites[i].Files[name]))); err != nil {
				return written, fmt.Errorf("%s cannot be written: %w", file, err)
			}
			written = append(written, name)
		}
	}
	file := filepath.Join(dir, project.FileName)
	if err := wholefile.Replace(file, 0o644, wholefile.Bytes([]byte(s.Config()))); err != nil {
		return written, fmt.Errorf("%s cannot be written: %w", file, err)
	}
	return written, nil
}
