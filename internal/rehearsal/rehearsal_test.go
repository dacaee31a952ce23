package rehearsal

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/run"
	"fernrelay/internal/project"
	"fernrelay/internal/testfiles"
)

// rehearse makes a repository with a changed file and one that is not committed, and its rehearsal in a shell that has a variable
// and a program which no other machine has.
func rehearse(t *testing.T) (dir string, r *Rehearsal) {
	t.Helper()
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("git is missing")
	}
	dir = t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"fern.toml":    "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"pumplist\"\nrun = \"sh check {name}\"\n",
		"beds/check":   "#!/bin/sh\n# reads what limits.cfg says\ncat limits.cfg\n",
		"beds/table":   "committed\n",
		"bin/pumplist": "#!/bin/sh\necho a\n",
		"bin/gauge":    "#!/bin/sh\necho 7\n",
	})
	for _, name := range []string{"pumplist", "gauge"} {
		if err := os.Chmod(filepath.Join(dir, "bin", name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("PATH", filepath.Join(dir, "bin")+":"+os.Getenv("PATH"))
	t.Setenv("PUMP_TOKEN", "secret")
	for _, args := range [][]string{{"init", "-q"}, {"add", "."}, {"-c", "user.name=G", "-c", "user.email=g@example.org", "commit", "-qm", "beds"}} {
		if out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
	}
	testfiles.Write(t, dir, map[string]string{"beds/table": "changed\n", "beds/limits.cfg": "3\n"})
	p, err := project.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	if r, err = New(t.Context(), p); err != nil {
		t.Fatal(err)
	}
	return dir, r
}

// TestRehearsalIsAnotherMachine holds what a program finds in a rehearsal: the committed files, an environment that is CI's, and an
// empty home. It notes the programs that fern.toml does not name, and leaves nothing behind.
func TestRehearsalIsAnotherMachine(t *testing.T) {
	dir, r := rehearse(t)
	out, err := r.Command(t.Context(), "sh", "-c", `cat beds/table; ls beds; ls -A "$HOME"; echo "ci $CI token $PUMP_TOKEN"; gauge; pumplist; gauge`).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if want := "committed\ncheck\ntable\nci true token \n7\na\n7\n"; string(out) != want {
		t.Errorf("the program finds\n%swant\n%s", out, want)
	}
	if got := r.Undeclared(); !slices.Equal(got, []string{"gauge"}) {
		t.Errorf("undeclared are %v, want the one that fern.toml does not name", got)
	}
	if !slices.Equal(r.Changed, []string{"beds/table"}) {
		t.Errorf("changed are %v", r.Changed)
	}
	place := filepath.Dir(r.Dir)
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(place); err == nil {
		t.Errorf("%s is left behind", place)
	}
	if data, err := os.ReadFile(filepath.Join(dir, "beds", "limits.cfg")); err != nil || string(data) != "3\n" {
		t.Errorf("the project's own file is %q, %v", data, err)
	}
}

// TestSuspects names what a failed test lacks: what its failure names, and if it names nothing, what the sources beside it name.
func TestSuspects(t *testing.T) {
	_, r := rehearse(t)
	defer r.Close()
	for _, c := range []struct {
		name   string
		result run.Result
		file   string
		want   string
	}{
		{"a file in its message", run.Result{Failure: run.Failure{Message: "open limits.cfg: no such file"}}, "", "the file beds/limits.cfg is not committed, and its failure names it"},
		{"a variable in its output", run.Result{Output: []byte("PUMP_TOKEN is not set\n")}, "", "the variable PUMP_TOKEN is set in this shell, and its failure names it"},
		{"a file in a step", run.Result{Steps: []run.Step{{Failure: run.Failure{Message: "limits.cfg?"}}}}, "", "the file beds/limits.cfg"},
		{"a source", run.Result{Failure: run.Failure{Message: "exit status 1"}}, "beds/check", "the file beds/limits.cfg is not committed, and beds/check:2 names it"},
		{"a part of a word", run.Result{Failure: run.Failure{Message: "my_limits.cfg2"}}, "", ""},
		{"nothing", run.Result{Failure: run.Failure{Message: "got 1, want 2"}}, "beds/../../elsewhere/x", ""},
	} {
		got := strings.Join(r.Suspects(&c.result, c.file), "\n")
		if !strings.HasPrefix(got, c.want) || c.want == "" && got != "" {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}
