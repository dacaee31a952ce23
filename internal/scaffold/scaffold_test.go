package scaffold

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/internal/app"
	"fernrelay/internal/project"
	"fernrelay/internal/testfiles"
)

// TestShapes writes a fern.toml for folders of many shapes, and lists their tests by it.
func TestShapes(t *testing.T) {
	const script = "#!/bin/sh\nexit 0\n"
	module, goTest := "module m\n\ngo 1.25\n", "package m\n\nimport \"testing\"\n\nfunc TestBed(t *testing.T) {}\n"
	long := strings.Repeat("l", 200)
	many := map[string]string{}
	for i := range 300 {
		many[fmt.Sprintf("folder%d/readme", i)] = ""
	}
	many["folder7/tests/sows"] = script
	for name, c := range map[string]struct {
		files map[string]string
		want  []string // IDs
		note  string
	}{
		"a module":              {map[string]string{"go.mod": module, "bed_test.go": goTest}, []string{"go:.#TestBed"}, ""},
		"modules below":         {map[string]string{"a/go.mod": module, "a/bed_test.go": goTest, "b/go.mod": module, "b/bed_test.go": goTest}, []string{"a:.#TestBed", "b:.#TestBed"}, ""},
		"a workspace":           {map[string]string{"go.work": "go 1.25\n\nuse ./a\n", "a/go.mod": module, "a/bed_test.go": goTest}, []string{"a:.#TestBed"}, ""},
		"scripts":               {map[string]string{"checks/sows.sh": script, "checks/waters.sh": script, "checks/lib.txt": ""}, []string{"checks:.#sows.sh", "checks:.#waters.sh"}, ""},
		"scripts by their name": {map[string]string{"bin/test_sows": script, "bin/waters-check.sh": script, "bin/test_all_check.sh": script, "bin/deploy": script}, []string{"bin:.#test_all_check.sh", "bin:.#test_sows", "bin:.#waters-check.sh"}, ""},
		"scripts here":          {map[string]string{"test-a": script, "other": script}, []string{"scripts:.#test-a"}, ""},
		"odd names":             {map[string]string{"tests/a b": script, "tests/q'uote": script, "tests/" + long: script, "tests/dollar$x": script}, []string{"tests:.#a b", "tests:.#dollar$x", "tests:.#" + long, "tests:.#q'uote"}, ""},
		"a line break":          {map[string]string{"tests/a\nb": script, "tests/c": script}, nil, "has a line break in its name"},
		"a module and scripts":  {map[string]string{"go.mod": module, "bed_test.go": goTest, "e2e/walk": script}, []string{"e2e:.#walk", "go:.#TestBed"}, ""},
		"two folders":           {map[string]string{"a/tests/x": script, "b/tests/x": script}, []string{"a-tests:.#x", "b-tests:.#x"}, ""},
		"others' folders":       {map[string]string{"node_modules/p/test/x": script, "vendor/q/tests/y": script, ".hidden/tests/z": script, "tests/own": script}, []string{"tests:.#own"}, ""},
		"many folders":          {many, []string{"folder7-tests:.#sows"}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Setenv("GOWORK", "")
			dir := t.TempDir()
			testfiles.Write(t, dir, c.files)
			for file, text := range c.files {
				if text == script {
					if err := os.Chmod(filepath.Join(dir, file), 0o755); err != nil {
						t.Fatal(err)
					}
				}
			}
			s, err := Look(dir)
			if err != nil {
				t.Fatal(err)
			}
			if !strings.Contains(strings.Join(s.Notes, "\n"), c.note) {
				t.Errorf("the notes are %q, want %q", s.Notes, c.note)
			}
			testfiles.Write(t, dir, map[string]string{project.FileName: s.Config()})
			a, err := app.Open(t.Context(), dir, nil)
			if err != nil {
				t.Fatalf("%v with\n%s", err, s.Config())
			}
			defer a.Close()
			var ids []string
			for i := range a.Catalog.Tests {
				ids = append(ids, a.Catalog.Tests[i].ID)
			}
			slices.Sort(ids)
			if c.want != nil && !slices.Equal(ids, c.want) {
				t.Errorf("the tests are %q, want %q, with\n%s", ids, c.want, s.Config())
			}
		})
	}
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"readme": ""})
	if s, err := Look(dir); err != nil || len(s.Suites) > 0 {
		t.Errorf("nothing comes to %+v, %v", s, err)
	}
	if _, err := Look(filepath.Join(dir, "none")); err == nil {
		t.Error("a folder that is not there is looked at")
	}
}
