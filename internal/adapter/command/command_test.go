package command

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/outcome"
	"fernrelay/internal/adapter"
	"fernrelay/internal/testfiles"
)

// suite makes an adapter whose list command is a script that prints this.
func suite(t *testing.T, list string) *Adapter {
	t.Helper()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"checks/list": "#!/bin/sh\n" + list, "checks/run": `#!/bin/sh
case $1 in
"deep/it fails") echo "want: 3"; echo "got: 4" >&2; exit 7;;
kills) kill -9 $$;;
hangs) sleep 60;;
slot) test "$2" = 5 && test -d "$3";;
*) test "$1" = "$(printf %s "$1")";;
esac
`})
	for _, script := range []string{"list", "run"} {
		if err := os.Chmod(filepath.Join(dir, "checks", script), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	dir = filepath.Join(dir, "checks")
	a, err := New(Config{Suite: "c", Dir: dir, Below: "checks", List: []string{filepath.Join(dir, "list")},
		Run: []string{filepath.Join(dir, "run"), "{name}", "{slot}", "{tmp}"}, Timeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func TestDiscoverAndRun(t *testing.T) {
	a := suite(t, `cat <<'END'
plain
deep/it fails

{"name":"kills","group":"rough","tags":["wet"],"marks":{"expect-fail":"known"},"file":"run","line":3}
hangs
slot
plain
END
`)
	found, err := a.Discover(context.Background())
	if err != nil || len(found.Tests) != 6 || len(found.Notes) != 1 || found.Tests[5].ID != "c:.#plain~2" || found.Tests[5].PutOut == "" {
		t.Fatalf("found %+v, %v", found, err)
	}
	rough := found.Tests[2]
	if rough.ID != "c:rough#kills" || rough.File != "checks/run" || rough.Line != 3 || rough.TagFrom("wet") != "the list command" ||
		rough.Marks.ExpectFail != "known" || rough.Kind != catalog.KindScript || found.Tests[1].Group != "deep" {
		t.Errorf("found %+v", found.Tests)
	}
	s, err := a.Open(context.Background(), adapter.Slot{Number: 5, Temp: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	tests := found.Tests[:5]
	tests[4].Marks.Needs = []string{"c:.#plain"}
	run := outcome.NewRun()
	if err := s.Run(context.Background(), tests, run.Apply); err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"passed", "failed exit status 7: want: 3\ngot: 4", "errored the process ended while it ran: signal 9", "timed-out", "passed"} {
		r := run.Result(tests[i].ID)
		if got := string(r.Outcome) + " " + r.Message; !strings.HasPrefix(got, want) {
			t.Errorf("%s: %s, want %s", r.ID, got, want)
		}
	}
	if r := run.Result(tests[1].ID); r.Expected != "3" || r.Actual != "4" || string(r.Output) != "want: 3\ngot: 4\n" {
		t.Errorf("%+v", r)
	}
}

func TestListGoesWrong(t *testing.T) {
	for list, words := range map[string]string{
		"true":                        "printed nothing",
		"echo no pump >&2; exit 4":    "failed with exit status 4: no pump",
		"echo '{\"name\":'":           "line 1 of what the list command of suite c prints: it does not parse",
		"echo ok; echo '{\"nam\":1}'": "line 2",
	} {
		found, err := suite(t, list).Discover(context.Background())
		if said := found.Nothing; err != nil {
			found.Nothing = said + err.Error()
		}
		if !strings.Contains(found.Nothing, words) {
			t.Errorf("%s: %q, want %q", list, found.Nothing, words)
		}
	}
	a := suite(t, "true")
	if err := os.Chmod(a.List[0], 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := a.Discover(context.Background()); err == nil || !strings.Contains(err.Error(), "is not executable: chmod +x") {
		t.Errorf("not executable: %v", err)
	}
	a.List[0] += "-more"
	if _, err := a.Discover(context.Background()); err == nil || !strings.Contains(err.Error(), "is not there") {
		t.Errorf("not there: %v", err)
	}
	if _, err := New(Config{Run: []string{"x", "{name}-{nmae}"}}); err == nil || !strings.Contains(err.Error(), "{nmae}: there are {name}") {
		t.Errorf("an unknown placeholder: %v", err)
	}
}
