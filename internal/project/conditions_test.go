package project

import (
	"runtime"
	"testing"

	"fernrelay/core/pick"
)

// TestMachine asks this machine what is so of it.
func TestMachine(t *testing.T) {
	t.Setenv("FERN_TEST_PUMP", "on")
	m := Machine(t.TempDir())
	for text, want := range map[string]bool{
		"os:" + runtime.GOOS: true, "arch:" + runtime.GOARCH: true, "os:plan9": false,
		"env:FERN_TEST_PUMP=on": true, "env:FERN_TEST_PUMP=off": false, "env:FERN_TEST_NONE": false,
		"program:go": true, "program:no-such-program": false, "go>=1.20": true, "go<1.20": false, "go>1.99": false,
	} {
		e, err := pick.ParseCondition(text)
		if err != nil {
			t.Fatal(err)
		}
		if got := e.Eval(m.Holds); got != want {
			t.Errorf("%s: %t", text, got)
		}
	}
	t.Setenv("PATH", t.TempDir())
	if m := Machine(t.TempDir()); m.Go() != "" {
		t.Errorf("without a toolchain there is Go %s", m.Go())
	}
}
