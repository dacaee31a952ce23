package project

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"fernrelay/core/pick"
	"fernrelay/internal/testfiles"
)

// TestMachine asks this machine what is so of it.
func TestMachine(t *testing.T) {
	t.Setenv("FERN_TEST_PUMP", "on")
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"fern-test-tool": "#!/bin/sh\necho x >> " + dir + "/asked\necho 'Tool v18.3.1 (2026)' >&2\nexit 1\n",
		"fern-test-mute": "#!/bin/sh\nexit 0\n",
	})
	for _, name := range []string{"fern-test-tool", "fern-test-mute"} {
		if err := os.Chmod(filepath.Join(dir, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("PATH", dir+string(os.PathListSeparator)+os.Getenv("PATH"))
	m := Machine(t.TempDir())
	for text, want := range map[string]bool{
		"os:" + runtime.GOOS: true, "arch:" + runtime.GOARCH: true, "os:plan9": false,
		"env:FERN_TEST_PUMP=on": true, "env:FERN_TEST_PUMP=off": false, "env:FERN_TEST_NONE": false,
		"program:fern-test-tool>=18": true, "program:fern-test-tool>=18.3.1": true, "program:fern-test-tool<18.20": true, "program:fern-test-tool=18.3": false, "program:fern-test-tool>18.10": false,
		"program:fern-test-none>=1": false, "program:fern-test-mute>=1": false, "program:go": true, "program:no-such-program": false, "go>=1.20": true, "go<1.20": false, "go>1.99": false,
	} {
		e, err := pick.ParseCondition(text)
		if err != nil {
			t.Fatal(err)
		}
		if got := e.Eval(m.Holds); got != want {
			t.Errorf("%s: %t", text, got)
		}
	}
	e, err := pick.ParseCondition("program:fern-test-tool<2 or program:fern-test-none>1")
	if said := m.Said(e); err != nil || said != `fern-test-tool --version prints "Tool v18.3.1 (2026)"; fern-test-none is not installed` {
		t.Errorf("it says %s, %v", said, err)
	}
	if asked, err := os.ReadFile(filepath.Join(dir, "asked")); err != nil || string(asked) != "x\n" {
		t.Errorf("the tool was asked %q, %v", asked, err)
	}
	for _, wrong := range []string{"program:>=18", "program:node>=eighteen", "program:node=>18"} {
		if _, err := pick.ParseCondition(wrong); err == nil {
			t.Errorf("%s is a condition", wrong)
		}
	}
	t.Setenv("PATH", t.TempDir())
	if m := Machine(t.TempDir()); m.Go() != "" {
		t.Errorf("without a toolchain there is Go %s", m.Go())
	}
}
