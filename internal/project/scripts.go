package project

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
)

// Scripts is what a look for folders of scripts found.
type Scripts struct {
	Folders []ScriptFolder
	Notes   []string // what was not understood, or not looked at
	Looked  int      // folders
}

// ScriptFolder is a folder of scripts, each of which is a test by its exit status.
type ScriptFolder struct {
	Name    string // of a suite
	Dir     string // relative to the folder that was looked at
	List    string // the command that lists them
	Scripts int
	First   string // the name of one
}

// RunScript is the command that runs a script of a folder.
const RunScript = "./{name}"

// mostLooked bounds the folders that are looked at for scripts.
const mostLooked = 5000

// passed are folders that hold no tests of the project itself.
var passed = map[string]bool{"node_modules": true, "vendor": true, "testdata": true, "third_party": true, "build": true, "dist": true, "target": true}

// PassesOver reports whether a folder of this name holds no tests of the project itself.
func PassesOver(name string) bool { return name[0] == '.' || passed[name] }

// LookForScripts looks, in a folder and below it, for folders of scripts that look like tests. It names none as taken says, to which
// it adds its names.
func LookForScripts(dir string, taken map[string]bool) Scripts {
	var s Scripts
	_ = filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error { // what cannot be read is noted
		below, _ := filepath.Rel(dir, at)
		switch {
		case err != nil:
			s.Notes = append(s.Notes, fmt.Sprintf("%s cannot be read: %v", plain.Line(below), errors.Unwrap(err)))
			return fs.SkipDir
		case !d.IsDir():
			return nil
		case below != "." && PassesOver(d.Name()):
			return fs.SkipDir
		}
		if s.Looked++; s.Looked > mostLooked {
			s.Notes = append(s.Notes, fmt.Sprintf("only the first %d folders were looked at", mostLooked))
			return fs.SkipAll
		}
		all := testFolder().MatchString(d.Name())
		scripts, odd := scriptsIn(at, all)
		for _, name := range odd {
			s.Notes = append(s.Notes, fmt.Sprintf("the script %s has a line break in its name: rename it", plain.Line(path.Join(filepath.ToSlash(below), name))))
		}
		if len(scripts) > 0 {
			name := uniqueName(filepath.ToSlash(below), taken)
			s.Folders = append(s.Folders, ScriptFolder{name, filepath.ToSlash(below), listLine(scripts, all), len(scripts), scripts[0]})
		}
		return nil
	})
	return s
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

// uniqueName returns a name for the suite of a folder that is not taken.
func uniqueName(below string, taken map[string]bool) string {
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
	for n := 2; taken[name]; n++ {
		name = fmt.Sprint(base, n)
	}
	taken[name] = true
	return name
}
