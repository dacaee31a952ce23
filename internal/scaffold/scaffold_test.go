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

// TestAddedPrograms holds what follows from the command lines that a person gives, and which are refused.
func TestAddedPrograms(t *testing.T) {
	for name, c := range map[string]struct {
		suite   Suite
		results string // that are written; "" for none
		err     string
	}{
		"one test a process":    {Suite{Kind: "command", List: "./p list", Run: "./p {name}"}, "", ""},
		"a report":              {Suite{Kind: "command", List: "./p list", Run: "./p {names} {report}"}, "junit", ""},
		"names alone":           {Suite{Kind: "command", List: "./p list", Run: "./p {names}"}, "tap", ""},
		"a format that is said": {Suite{Kind: "command", List: "./p list", Run: "./p {names} {report}", Results: "tap"}, "tap", ""},
		"a host":                {Suite{Kind: "host", Run: "./h", List: "ignored", Results: "junit"}, "", ""},
		"no run":                {Suite{Kind: "command", List: "./p list"}, "", "run is empty"},
		"no list":               {Suite{Kind: "command", Run: "./p {name}"}, "", "list is empty"},
		"a host without run":    {Suite{Kind: "host"}, "", "run is empty"},
		"a name that is taken":  {Suite{Kind: "host", Name: "go", Run: "./h"}, "", "there is a suite go already"},
	} {
		s := &Shape{Name: "p", Suites: []Suite{{Name: "go", Kind: "go", Dir: "."}}}
		err := s.Add(c.suite)
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) || len(s.Suites) != 1 {
				t.Errorf("%s: %v, want %q", name, err, c.err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		config := s.Config()
		if has := strings.Contains(config, "results = '"+c.results+"'"); has != (c.results != "") {
			t.Errorf("%s: results are not %q in\n%s", name, c.results, config)
		}
		dir := t.TempDir()
		testfiles.Write(t, dir, map[string]string{"fern.toml": config})
		p, err := project.Open(dir)
		if err != nil || len(p.Suites) != 2 || p.Suites[1].Command.Run+p.Suites[1].Host.Run != c.suite.Run || p.Suites[1].Kind == project.Host && p.Suites[1].Command.List != "" {
			t.Errorf("%s: it reads as %+v, %v:\n%s", name, p, err, config)
		}
	}
}
