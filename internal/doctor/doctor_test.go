package doctor

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fernrelay/internal/testfiles"
)

// TestExamine breaks what a project needs, one thing at a time, and holds that the finding about it says so and what to
// do, while a sound project has no bad finding.
func TestExamine(t *testing.T) {
	const (
		module = "module m\n\ngo 1.25\n"
		test   = "package m\n\nimport \"testing\"\n\nfunc TestBed(t *testing.T) {}\n"
		suite  = "[[suite]]\nname = \"beds\"\nkind = \"command\"\nlist = \"echo north\"\nrun = \"true {name}\"\n"
	)
	for name, c := range map[string]struct {
		files map[string]string
		env   map[string]string
		what  string // of the finding
		state State
		found string
	}{
		"a sound module":       {map[string]string{"go.mod": module, "bed_test.go": test}, nil, "suite go", OK, "1 test"},
		"a sound command":      {map[string]string{"fern.toml": suite}, nil, "suite beds", OK, "1 test"},
		"no go":                {map[string]string{"go.mod": module, "bed_test.go": test}, map[string]string{"PATH": "/nowhere"}, "Go toolchain", Missing, "not on PATH"},
		"no git":               {map[string]string{"fern.toml": suite}, map[string]string{"PATH": "/nowhere"}, "git", Absent, "not installed"},
		"a cache that is off":  {map[string]string{"go.mod": module, "bed_test.go": test}, map[string]string{"GOCACHE": "/dev/null/cache"}, "Go toolchain", Broken, ""},
		"no project":           {nil, nil, "project", Broken, "no tests found"},
		"a mistake":            {map[string]string{"fern.toml": "[[suite]]\nkind = 3\n"}, nil, "project", Broken, "a text in quotes is expected"},
		"no folder for files":  {map[string]string{"fern.toml": suite}, map[string]string{"TMPDIR": "/nowhere"}, "temporary files", Broken, "/nowhere"},
		"a program":            {map[string]string{"fern.toml": strings.Replace(suite, "true", "no-such-program", 1)}, nil, "program no-such-program", Missing, ""},
		"a program to ask for": {map[string]string{"fern.toml": suite + "[[rule]]\npick = \"name:north\"\nonly-if = \"program:no-such-program\"\n"}, nil, "program no-such-program", Absent, ""},
		"a server":             {map[string]string{"fern.toml": suite + "[[service]]\nname = \"store\"\nstart = \"no-such-server {port}\"\nready = \"tcp:{port}\"\n"}, nil, "program no-such-server", Missing, ""},
		"a list that fails":    {map[string]string{"fern.toml": strings.Replace(suite, "echo north", "false", 1)}, nil, "tests", Broken, "exit status 1"},
		"a damaged ledger":     {map[string]string{"fern.toml": suite, ".fern/ledger.db": "no ledger"}, nil, "ledger", Broken, ""},
		"no colours":           {map[string]string{"fern.toml": suite}, map[string]string{"NO_COLOR": "1"}, "terminal", Absent, "no colours"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			testfiles.Write(t, dir, c.files)
			t.Setenv("TERM", "xterm-256color")
			for key, value := range c.env {
				t.Setenv(key, value)
			}
			seen := false
			for _, f := range Examine(t.Context(), dir) {
				if f.Bad() && c.state == OK {
					t.Errorf("a sound project has the finding %+v", f)
				}
				if f.State != OK && f.Do == "" {
					t.Errorf("%+v does not say what to do", f)
				}
				seen = seen || f.What == c.what && f.State == c.state && strings.Contains(f.Found, c.found)
			}
			if !seen {
				t.Errorf("there is no finding that %s is %s with %q: %+v", c.what, c.state, c.found, Examine(t.Context(), dir))
			}
			if left, _ := filepath.Glob(filepath.Join(dir, ".doctor-*")); len(left) > 0 {
				t.Errorf("left behind: %v", left)
			}
			if _, err := os.Stat(dir); err != nil {
				t.Error(err)
			}
		})
	}
}
