package command

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/process"
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
		Run: []string{filepath.Join(dir, "run"), "{name}", "{slot}", "{tmp}"}, Limits: process.Limits{Test: time.Second}})
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func TestDiscoverAndRun(t *testing.T) {
	a := suite(t, `cat <<'END'
plain
deep/it fails

{"name":"kills","group":"rough","tags":["wet"],"rules":{"expect-fail":"known"},"file":"run","line":3}
hangs
slot
plain
END
`)
	found, err := a.Discover(context.Background())
	if err != nil || len(found.Tests) != 6 || len(found.Notes) != 1 || found.Tests[5].ID != "c:.#plain~2" || found.Tests[5].SkipReason == "" {
		t.Fatalf("found %+v, %v", found, err)
	}
	rough := found.Tests[2]
	if rough.ID != "c:rough#kills" || rough.File != "checks/run" || rough.Line != 3 || rough.TagFrom("wet") != "the list command" ||
		rough.Rules().ExpectFail != "known" || rough.Kind != catalog.KindScript || found.Tests[1].Group != "deep" {
		t.Errorf("found %+v", found.Tests)
	}
	s, err := a.Open(context.Background(), process.Slot{Number: 5, Temp: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	tests := found.Tests[:5]
	tests[4].AddRules(catalog.Rules{Needs: []string{"c:.#plain"}}, "")
	run := run.New()
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

// telling makes an adapter whose run command is a script that holds many tests.
func telling(t *testing.T, results, script string, words ...string) *Adapter {
	t.Helper()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"run": "#!/bin/sh\n" + script, "one.t": "", "two.t": ""})
	if err := os.Chmod(filepath.Join(dir, "run"), 0o755); err != nil {
		t.Fatal(err)
	}
	a, err := New(Config{Suite: "c", Dir: dir, Below: ".", List: []string{"true"}, Run: append([]string{filepath.Join(dir, "run")}, words...), Results: results, Limits: process.Limits{Test: time.Second}})
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// TestResults runs scripts that report their tests in all formats and get it
// wrong in all ways: every test has one outcome, and it says why.
func TestResults(t *testing.T) {
	xml := `<testsuite name="c:g"><testcase classname="g" name="a"/><testcase name="c" time="0.25"><failure message="got 1, want 2"/></testcase></testsuite>`
	for name, c := range map[string]struct {
		results, script string
		words           []string
		want            []string // of the tests a, b and c
	}{
		"tap on the output": {"tap", `test "$*" = "-v a b c" || exit 9; echo 1..3; echo ok 1 - a; echo noise >&2; echo not ok 2 - b; echo '  ---'; echo '  message: wet'; echo '  ...'; echo ok 3 - c '#' SKIP dry; exit 1`,
			[]string{"-v", "{names}"}, []string{"passed", "failed wet", "skipped dry"}},
		"tap that bails out": {"tap", "echo 1..3; echo ok - a; echo Bail out! no water; exit 2", []string{"{names}"},
			[]string{"passed", "errored its process reported no outcome for it: it bailed out: no water; exit status 2", "errored its process reported no outcome"}},
		"tap of too few":           {"tap", "echo 1..3; echo ok - c; echo ok - a", nil, []string{"passed", "errored its process reported no outcome for it: its plan announces 3 test points, and 2 came", "passed"}},
		"nothing":                  {"tap", "exit 0", nil, []string{"errored its process reported no outcome for it: it printed nothing", "errored", "errored"}},
		"strangers":                {"tap", "echo 1..1; echo ok - elsewhere", nil, []string{`errored its process reported no outcome for it; none of its results names a test here (1 result, the first is "elsewhere")`, "errored", "errored"}},
		"points without names":     {"tap", "echo 1..99; echo ok 1; echo ok 2", nil, []string{`errored its process reported no outcome for it: its plan announces 99 test points, and 2 came; none of its results names a test here (2 results, the first is "unnamed point 1")`, "errored", "errored"}},
		"steps without names":      {"tap", "echo 1..99; echo ok; echo not ok", []string{"{name}"}, []string{"failed unnamed point 2 failed; its plan announces 99 test points, and 2 came", "failed", "failed"}},
		"junit in a report":        {"junit", "echo '" + xml + "' > $1; echo said", []string{"{report}"}, []string{"passed", "errored its process reported no outcome for it: said", "failed got 1, want 2"}},
		"junit in several reports": {"junit", `mkdir $1; echo '<testsuite name="x"><testcase name="g.b"/></testsuite>' > $1/1.xml; echo '` + xml + "' > $1/2.xml", []string{"{report}"}, []string{"passed", "passed", "failed got 1"}},
		"no report":                {"junit", "exit 4", []string{"{report}"}, []string{"errored its process reported no outcome for it: it wrote no report; exit status 4", "errored", "errored"}},
		"gojson": {"gojson", `echo '{"Action":"run","Package":"p","Test":"a"}'; echo '{"Action":"pass","Package":"p","Test":"a","Elapsed":0.5}'; echo '{"Action":"run","Package":"p","Test":"b"}'; echo '{"Action":"fail","Package":"p","Test":"b"}'; exit 1`,
			nil, []string{"passed", "failed", "errored its process reported no outcome"}},
		"events": {"events", `echo '{"event":"run","format":"fern-events/1"}'; for t in a b c; do echo '{"event":"finished","id":"'$t'","outcome":"passed","seconds":0.1}'; done; echo '{"event":"end"}'`,
			nil, []string{"passed", "passed", "passed"}},
		"a test of several results": {"tap", "echo 1..4; echo ok - a; echo not ok - a; echo ok - b; echo ok - c; exit 1", nil, []string{"failed its process reported several outcomes, passed, failed, and the worst counts", "passed", "passed"}},
		"one place, and others beside it": {"junit", `echo '<testsuite><testcase classname="x.g" name="a"><failure/></testcase><testcase classname="x.h" name="a"/><testcase classname="g" name="b"/><testcase classname="h" name="c"/></testsuite>'; exit 1`,
			nil, []string{"failed", "passed", "errored its process reported no outcome"}},
		"another place for all": {"junit", `echo '<testsuite><testcase classname="h" name="a"/><testcase classname="h" name="b"/><testcase classname="h" name="c"/><testcase classname="i" name="c"><failure message="m"/></testcase></testsuite>'; exit 1`,
			nil, []string{"passed", "passed", "failed its process reported several outcomes"}},
		"a step after the test": {"tap", "echo 1..2; echo ok - $1; echo not ok - late", []string{"{name}"}, []string{"failed its process reported several outcomes, passed, failed, and the worst counts: late failed", "failed", "failed"}},
		"a killed process": {"tap", "echo 1..$#; for t; do test $t = b && sleep 0.1 && kill -9 $$; echo ok - $t; done", []string{"{names}"},
			[]string{"passed", "errored the process ended while it ran: signal 9", "passed"}},
		"a hang":                 {"tap", "echo 1..$#; for t; do test $t = b && sleep 60; echo ok - $t; done", []string{"{names}"}, []string{"passed", "timed-out timed out at 1s", "passed"}},
		"a file a process":       {"tap", "echo 1..$(($# - 1)); test $1 = one.t || test $1 = two.t || exit 3; shift; for t; do echo ok - $t; done", []string{"{file}", "{names}"}, []string{"passed", "passed", "passed"}},
		"one, reported in steps": {"tap", "echo 1..2; echo ok - first; echo not ok - second of $1; echo '  ---'; echo '  message: leaks'; echo '  ...'", []string{"{name}"}, []string{"failed second of a: leaks", "failed second of b: leaks", "failed second of c: leaks"}},
		"steps that end badly": {"tap", "echo 1..1; echo ok - first; test $1 = b || exit 5", []string{"{name}"},
			[]string{"errored everything that it reported passed, but it ended with exit status 5", "passed", "errored everything"}},
		"cannot start": {"tap", "", []string{"{names}"}, []string{"errored", "errored", "errored"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			a := telling(t, c.results, c.script, c.words...)
			if name == "cannot start" {
				a.Config.Run[0] += "nowhere"
			}
			var tests []catalog.Test
			for i, name := range []string{"a", "b", "c"} {
				tests = append(tests, catalog.Test{ID: catalog.ID("c", "g", name), Suite: "c", Group: "g", Name: name, File: []string{"one.t", "two.t"}[i%2], Line: 1})
			}
			a.names = catalog.NamesOf(tests)
			s, err := a.Open(context.Background(), process.Slot{Number: 1, Temp: t.TempDir()})
			if err != nil {
				t.Fatal(err)
			}
			run := run.New()
			if err := s.Run(context.Background(), tests, run.Apply); err != nil {
				t.Fatal(err)
			}
			for i, want := range c.want {
				r := run.Result(tests[i].ID)
				if r == nil {
					t.Fatalf("%s has no outcome", tests[i].ID)
				}
				if got := strings.TrimSpace(string(r.Outcome) + " " + r.Message); !strings.HasPrefix(got, want) {
					t.Errorf("%s: %s, want %s", r.ID, got, want)
				}
			}
			if run.Done() != 3 {
				t.Errorf("%d outcomes of 3 tests", run.Done())
			}
		})
	}
}

func TestWrongCommands(t *testing.T) {
	for words, c := range map[string]Config{
		"run has no {name}":  {Run: []string{"x", "{names}"}},
		"add results":        {Run: []string{"x", "{name}", "{report}"}},
		"words of their own": {Run: []string{"x", "--only={names}"}, Results: "tap"},
		"{nmae}":             {Run: []string{"x", "{nmae}"}, Results: "tap"},
	} {
		if _, err := New(c); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%v: %v, want %s", c.Run, err, words)
		}
	}
}

// TestBeyondTests holds that nothing passes unnoticed that a process reports or does beyond its tests.
func TestBeyondTests(t *testing.T) {
	const twoPass = `printf '1..2\nok 1 - a\nok 2 - b\n'; `
	for name, c := range map[string]struct{ results, run, want string }{
		"all well":                     {"tap", twoPass, ""},
		"bail out":                     {"tap", twoPass + "echo 'Bail out! no water'; exit 1", "errored it bailed out: no water; after its last test the process ended with exit status 1"},
		"exit status":                  {"tap", twoPass + "echo no water >&2; exit 3", "errored after its last test the process ended with exit status 3; no water"},
		"broken plan":                  {"tap", "printf '1..3\nok 1 - a\nok 2 - b\n'", "errored its plan announces 3 test points, and 2 came"},
		"signal":                       {"tap", twoPass + "kill -SEGV $$", "errored after its last test the process ended with signal 11, segmentation fault"},
		"another that fails":           {"tap", "printf '1..3\nok 1 - a\nok 2 - b\nnot ok 3 - c\n'; exit 1", "errored its results name tests that are not known here or not picked: c failed"},
		"another that passes":          {"tap", "printf '1..3\nok 1 - a\nok 2 - b\nok 3 - c\n'", ""},
		"a failure explains it":        {"tap", "printf '1..2\nok 1 - a\nnot ok 2 - b\n'; exit 1", ""},
		"hangs":                        {"tap", "printf 'ok 1 - a\\nok 2 - b\\n1..2\\n'; sleep 60", "timed-out the process was still running 500ms after its last test, and killed"},
		"events":                       {"events", `printf '{"event":"run","format":"fern-events/1"}\n{"event":"finished","id":"a","outcome":"passed"}\n{"event":"finished","id":"b","outcome":"passed"}\n'; kill -ABRT $$`, "errored it breaks off before the end of the run; after its last test the process ended with signal 6, aborted"},
		"gojson":                       {"gojson", `printf '{"Action":"pass","Package":"p","Test":"a"}\n{"Action":"pass","Package":"p","Test":"b"}\n'; exit 2`, "errored after its last test the process ended with exit status 2"},
		"junit":                        {"junit", `printf '<testsuite><testcase name="a"/><testcase name="b"/></testsuite>'; exit 9`, "errored after its last test the process ended with exit status 9"},
		"junit, a suite with an error": {"junit", `printf '<testsuite name="s"><error message="no fixture"/><testcase name="a"/><testcase name="b"/></testsuite>'`, "errored its results name tests that are not known here or not picked: s#process errored: no fixture"},
		"junit, errors without cases":  {"junit", `printf '<testsuite name="s" errors="1"><testcase name="a"/><testcase name="b"/></testsuite>'`, "errored its results name tests that are not known here or not picked: s#process errored: the suite counts 1"},
		"events, a second document":    {"events", `printf '{"event":"run","format":"fern-events/1"}\n{"event":"finished","id":"a","outcome":"passed"}\n{"event":"finished","id":"b","outcome":"passed"}\n{"event":"end"}\n{"event":"run","format":"fern-events/1"}\n'`, "errored it breaks off"},
		"junit cut off":                {"junit", `printf '<testsuite><testcase name="a"/><testcase name="b"/>'`, "errored "},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			testfiles.Write(t, dir, map[string]string{"run": c.run})
			a, err := New(Config{Suite: "c", Dir: dir, List: []string{"printf", `a\nb\n`}, Run: []string{"sh", "run"},
				Results: c.results, Limits: process.Limits{Test: time.Minute, Idle: 500 * time.Millisecond}})
			if err != nil {
				t.Fatal(err)
			}
			found, err := a.Discover(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			s, err := a.Open(t.Context(), process.Slot{Temp: t.TempDir()})
			if err != nil {
				t.Fatal(err)
			}
			ran := run.New()
			if err := s.Run(t.Context(), found.Tests, ran.Apply); err != nil {
				t.Fatal(err)
			}
			if done := ran.Result("c:.#a"); done.Outcome != run.Passed {
				t.Errorf("a is %+v", done)
			}
			got := ""
			if r := ran.Result("c:.#process"); r != nil {
				got = string(r.Outcome) + " " + r.Message
			}
			if (c.want == "") != (got == "") || !strings.HasPrefix(got, c.want) {
				t.Errorf("beside the tests: %q, want %q", got, c.want)
			}
		})
	}
}

// TestLists holds that what a list command leaves behind or prints without end harms nobody.
func TestLists(t *testing.T) {
	limit := time.Minute
	list := func(script string) (adapter.Found, error) {
		a, err := New(Config{Suite: "c", Dir: t.TempDir(), List: []string{"sh", "-c", script}, Run: []string{"true", "{name}"},
			Limits: process.Limits{Idle: limit}})
		if err != nil {
			t.Fatal(err)
		}
		return a.Discover(t.Context())
	}
	found, err := list("sleep 60 & echo a; echo a; echo a~2; echo a")
	var ids []string
	for _, test := range found.Tests {
		ids = append(ids, test.ID+" "+test.SkipReason)
	}
	want := "c:.#a |c:.#a~2 |c:.#a~3 the list command lists 3 tests with this name, and only the first can run: rename the others"
	if got := strings.Join(ids, "|"); err != nil || got != want {
		t.Errorf("found\n%s, want\n%s\n%v", got, want, err)
	}
	if found, err = list("yes the same name of a test | head -c 50000000"); err != nil || len(found.Tests) != 3 || len(found.Notes) != 1 {
		t.Errorf("a flood of one name: %d tests, %d notes, %v", len(found.Tests), len(found.Notes), err)
	}
	for script, words := range map[string]string{
		"seq 1 100000000":                        "more than 1000000 tests",
		"head -c 3000000 /dev/zero | tr '\\0' x": "a line is longer than 1048576 bytes",
		"yes $(printf %01000d 0)":                "prints more than 64 MB",
	} {
		if _, err := list(script); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v, want %q", script, err, words)
		}
	}
	limit = 100 * time.Millisecond
	if _, err := list("echo a; sleep 60"); err == nil || !strings.Contains(err.Error(), "was still running after 100ms, and was killed") {
		t.Errorf("a list that does not end: %v", err)
	}
}

// FuzzList holds that no output of a list command breaks its reading, and that every name is listed once.
func FuzzList(f *testing.F) {
	f.Add("a\nb/c\na\na~2\n{\"name\":\"x\",\"file\":\"../../dev/zero\",\"line\":-3}\n")
	f.Add("{\"name\":\"\\u0000\"}\r\n\x1b]0;x\n")
	a, err := New(Config{Suite: "c", Dir: f.TempDir(), List: []string{"list"}, Run: []string{"run", "{name}"}})
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var found adapter.Found
		lines := &process.LineWriter{Limit: maxLine, Line: func(text string) error {
			if strings.TrimSpace(text) == "" {
				return nil
			}
			return a.parseLine(&found, text)
		}}
		_, err := lines.Write([]byte(text))
		if err == nil {
			_ = lines.Close()
		}
		found.Close(listName)
		ids := map[string]bool{}
		for _, test := range found.Tests {
			if ids[test.ID] {
				t.Fatalf("%s is listed twice of %q", test.ID, text)
			}
			ids[test.ID] = true
		}
	})
}
