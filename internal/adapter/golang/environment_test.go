package golang

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/run"
)

// TestEnvironment compares the environment, the folder, the mask of new files and the open files of a test with those
// that it has under the toolchain.
func TestEnvironment(t *testing.T) {
	t.Setenv("PATH", "/opt/mine"+string(os.PathListSeparator)+os.Getenv("PATH"))
	out := filepath.Join(t.TempDir(), "out")
	t.Setenv("MADE_UP_OUT", out)
	a, found := module(t, Config{}, map[string]string{"deep/env_test.go": `package deep

import ("fmt"; "os"; "slices"; "strings"; "syscall"; "testing")

func TestEnv(t *testing.T) {
	mask := syscall.Umask(0)
	syscall.Umask(mask)
	dir, _ := os.Getwd()
	words := append(os.Environ(), fmt.Sprintf("mask %o", mask), "in "+dir)
	files, _ := os.ReadDir("/proc/self/fd")
	for _, f := range files {
		if to, err := os.Readlink("/proc/self/fd/"+f.Name()); err == nil && !strings.HasPrefix(to, "pipe:") && !strings.Contains(to, "testlog") && !strings.HasPrefix(to, "anon_inode:") {
			words = append(words, "open "+to)
		}
	}
	slices.Sort(words)
	os.WriteFile(os.Getenv("MADE_UP_OUT"), []byte(strings.Join(words, "\n")), 0o644)
}
`})
	all := choose(t, found, "deep#TestEnv")
	ran := run.New()
	if err := open(t, a, all).Run(t.Context(), all, ran.Apply); err != nil {
		t.Fatal(err)
	}
	ours := readLines(t, out)
	cmd := exec.Command("go", "test", "./deep")
	cmd.Dir = a.Dir
	if said, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, said)
	}
	theirs := readLines(t, out)
	own := func(line string) bool { return strings.HasPrefix(line, "FERN_") || strings.HasPrefix(line, "TMPDIR=") }
	if ours = slices.DeleteFunc(ours, own); !slices.Equal(ours, slices.DeleteFunc(theirs, own)) {
		t.Errorf("here it has\n%s\nunder the toolchain\n%s", strings.Join(ours, "\n"), strings.Join(theirs, "\n"))
	}
}

func readLines(t *testing.T, name string) []string {
	t.Helper()
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return strings.Split(string(data), "\n")
}
