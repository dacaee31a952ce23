package project

import (
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/internal/testfiles"
)

const whole = `# A comment.
[project]
name = "glass house"

[[suite]]
name = "unit"
kind = "go"
dir = "src"
build-flags = ["-race"]
args = ["-short"]
timeout = "90s"
isolate = "test"

[[suite]]
name = "devices"
kind = "host"
run = "./host --fast"
together = "file"

[tags]
slow = "took>2s"
it = "in:**/it/**"

[picks]
fast = "took<1s not it" # the quick ones

[[rule]]
pick = "in:boiler/**"
holds = ["boiler-bus"]
only-if = "program:redis-server"

[resources]
boiler-bus = 2

[touched]
"lib/**" = "it"

[workers]
count = 6

[fleet]
resources = ["licence"]
`

func TestOpen(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{FileName: whole, "src/deep/x.go": "package deep\n"})
	p, err := Open(filepath.Join(dir, "src", "deep"))
	if err != nil {
		t.Fatal(err)
	}
	var tags []string
	for _, rule := range p.Tags {
		tags = append(tags, rule.Tag+"="+rule.Pick.String())
	}
	if p.Dir != dir || p.Name != "glass house" || p.Workers.Count != 6 || !slices.Equal(p.Shared, []string{"licence"}) || strings.Join(tags, " ") != "slow=took>2s it=in:**/it/**" {
		t.Errorf("opened %+v with the tags %v", p, tags)
	}
	want := []Suite{
		{Name: "unit", Kind: Go, Dir: "src", Go: GoSettings{BuildFlags: []string{"-race"}, Args: []string{"-short"}}, Limits: Limits{90 * time.Second, 90 * time.Second, defaultStart, defaultHandshake}, Isolate: "test", Together: "test"},
		{Name: "devices", Kind: Host, Dir: ".", Host: HostSettings{"./host --fast"}, Limits: defaultLimits, Isolate: "worker", Together: "file"},
	}
	if !reflect.DeepEqual(p.Suites, want) {
		t.Errorf("the suites are %+v, want %+v", p.Suites, want)
	}
	if _, err := os.Stat(p.StorePath()); err == nil {
		t.Errorf("opening a project makes its store")
	}
	store, err := p.Store()
	if err != nil {
		t.Fatal(err)
	}
	if ignore, err := os.ReadFile(filepath.Join(store, ".gitignore")); err != nil || string(ignore) != "*\n" {
		t.Errorf("the store is not kept out of git: %q, %v", ignore, err)
	}
}

func TestOpenWithoutFile(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"go.mod": "module example.org/x\n", "sub/x.go": "package sub\n"})
	p, err := Open(filepath.Join(dir, "sub"))
	if err != nil || p.Dir != dir || p.Below != "sub" || len(p.Suites) != 1 || p.Suites[0].Name != "go" || p.Suites[0].Dir != "." {
		t.Errorf("opened %+v, %v", p, err)
	}
}

// TestOpenWithoutSuites opens folders whose fern.toml has other tables only. Their suites are those of the folder without it.
func TestOpenWithoutSuites(t *testing.T) {
	const alone = "[picks]\nfast = \"took<1s\"\n[resources]\ndb = 2\n[[rule]]\npick = \"it\"\nholds = [\"db\"]\n"
	for name, c := range map[string]struct {
		files       map[string]string
		below, want string
	}{
		"a module":             {map[string]string{"go.mod": "module example.org/x\n", FileName: alone}, ".", "go ."},
		"a folder of a module": {map[string]string{"go.mod": "module example.org/x\n", "sub/" + FileName: alone}, "sub", "go ."},
		"a workspace": {map[string]string{"go.work": "go 1.24\nuse ./one\nuse ./two\n", "one/go.mod": "module one\n", "two/go.mod": "module two\n", FileName: alone},
			".", "one one, two two"},
		"a module of a workspace": {map[string]string{"go.work": "go 1.24\nuse ./one\nuse ./two\n", "one/go.mod": "module one\n", "two/go.mod": "module two\n", "one/" + FileName: alone},
			"one", "go ."},
		"folders of modules":    {map[string]string{"a/go.mod": "module a\n", "b/go.mod": "module b\n", FileName: alone}, ".", "a a, b b"},
		"folders of scripts":    {map[string]string{"checks/one.sh": "#!/bin/sh\n", "it/two": "#!/bin/sh\n", "src/main.sh": "#!/bin/sh\n", FileName: alone}, ".", "checks checks, it it"},
		"a module with scripts": {map[string]string{"go.mod": "module a\n", "checks/one.sh": "#!/bin/sh\n", FileName: alone}, ".", "go ."},
		"nothing":               {map[string]string{FileName: alone}, ".", ""},
	} {
		dir := t.TempDir()
		testfiles.Write(t, dir, c.files)
		for file, text := range c.files {
			if strings.HasPrefix(text, "#!") {
				if err := os.Chmod(filepath.Join(dir, file), 0o755); err != nil {
					t.Fatal(err)
				}
			}
		}
		p, err := Open(filepath.Join(dir, c.below))
		if c.want == "" {
			if err == nil || !strings.Contains(err.Error(), "there is no Go module or folder of scripts here: add a [[suite]]") {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		var suites []string
		for _, s := range p.Suites {
			suites = append(suites, s.Name+" "+s.Dir)
		}
		if got := strings.Join(suites, ", "); got != c.want || p.Dir != filepath.Join(dir, c.below) || len(p.Rules) != 1 {
			t.Errorf("%s: %s in %s with %d rules; want %s", name, got, p.Dir, len(p.Rules), c.want)
		}
	}
}

// TestErrorsNameThePlace breaks the whole file in one place at a time.
func TestErrorsNameThePlace(t *testing.T) {
	for _, c := range []struct{ old, new, place, words string }{
		{`name = "glass house"`, `nam = "x"`, ":3:1", `unknown key "project.nam"`},
		{`[workers]`, `[worker]`, ":38:2", "the tables are"},
		{`count = 6`, `count = -1`, ":39:1", "a number from 1"},
		{`count = 6`, `count = "six"`, ":39:9", ""},
		{`kind = "go"`, `kind = "go`, ":7:", ""},
		{`kind = "go"`, `kind = "cargo"`, ":7:1", `"cargo": go, command or host is expected`},
		{`name = "unit"`, `name = "a:b"`, ":6:1", "signs other than : # /"},
		{`name = "devices"`, `name = "unit"`, ":", "two suites are named"},
		{`run = "./host --fast"`, ``, ":14:1", "has no run"},
		{`kind = "host"`, `kind = "command"`, ":14:1", "add list and run"},
		{`run = "./host --fast"`, `run = "x"` + "\nresults = \"words\"", ":18:1", `"words": one of exit, tap, junit, gojson, events is expected`},
		{`timeout = "90s"`, `timeout = "90"`, ":11:1", "a duration like 30s"},
		{`timeout = "90s"`, `timeout = "-1s"`, ":11:1", "a duration like 30s"},
		{`slow = "took>2s"`, `slow = "took>soon"`, ":21:9", "not a duration"},
		{`slow = "took>2s"`, `é = "it (a"`, ":21:", "invalid"},
		{`fast = "took<1s not it"`, `fast = "took<1s (it"`, ":25:17", "never closed"},
		{`fast = "took<1s not it"`, "fast = \"saved:a\"\na = \"it saved:b\"\nb = \"saved:c or saved:a\"", ":26:1", "circle: a → b → a"},
		{`pick = "in:boiler/**"`, `pick = "inn:boiler/**"`, ":28:9", `did you mean "in"`},
		{`pick = "in:boiler/**"`, ``, ":27:1", "no pick"},
		{`holds = ["boiler-bus"]`, `clear = ["sleep"]`, ":28:1", `"sleep": the rules are`},
		{`only-if = "program:redis-server"`, `only-if = "redis"`, ":28:1", "made of fields"},
		{`holds =`, `hold =`, ":29:1", "[rule] takes pick, skip"}, {`holds =`, `uses =`, ":29:1", "it is now called holds"},
		{`boiler-bus = 2`, `boiler-bus = 0`, ":33:1", "a number from 1"},
		{`"lib/**" = "it"`, `"lib/**" = "it or"`, ":36:18", "expected at the end"},
		{`isolate = "test"`, `isolate = "worker"`, ":12:1", "one of test, group"},
		{`[workers]`, "[ledger]\nruns = -1\n[workers]", ":39:1", "keeps -1 runs: a number from 1"},
		{`[workers]`, "[ledger]\nweeks = 1\n[workers]", ":39:1", "runs, days"},
		{`resources = ["licence"]`, `start = "soon"`, ":42:1", "a duration like 90s"},
		{`together = "file"`, `together = "wood"`, ":18:1", "one of test, file, group, suite"},
	} {
		dir := t.TempDir()
		testfiles.Write(t, dir, map[string]string{FileName: strings.Replace(whole, c.old, c.new, 1)})
		_, err := Open(dir)
		if err == nil {
			t.Errorf("%s: no error", c.new)
			continue
		}
		if !strings.Contains(err.Error(), filepath.Join(dir, FileName)+c.place) || !strings.Contains(err.Error(), c.words) {
			t.Errorf("%s: %v, want %s and %q", c.new, err, c.place, c.words)
		}
	}
}

// TestSave writes picks and rules into a file and holds that nothing else in it
// changes.
func TestSave(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{FileName: whole})
	p, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	now := whole
	same := func(what string, err error, old, new string) {
		t.Helper()
		if now = strings.Replace(now, old, new, 1); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		if data, err := os.ReadFile(filepath.Join(dir, FileName)); err != nil || string(data) != now {
			t.Fatalf("%s: %v, the file is now\n%s\nwant\n%s", what, err, data, now)
		}
	}
	same("a pick", p.SavePick("wet", `name:"it's" valve`), "# the quick ones\n", "# the quick ones\nwet = \"name:\\\"it's\\\" valve\"\n")
	same("a pick again", p.SavePick("fast", "took<2s"), `"took<1s not it"`, "'took<2s'")
	same("a rule on a pick that has a rule", p.SaveRule("in:boiler/**", "skip", catalog.Rules{Skip: "cold"}), "redis-server\"\n", "redis-server\"\nskip = 'cold'\n")
	same("that rule taken off", p.ClearRule("in:boiler/**", "skip"), "skip = 'cold'\n", "")
	same("a rule on another", p.SaveRule("frost", "needs", catalog.Rules{Needs: []string{"TestA"}}), "redis-server\"\n", "redis-server\"\n\n[[rule]]\npick = 'frost'\nneeds = ['TestA']\n")
	same("the last rule of a rule taken off", p.ClearRule("frost", "needs"), "[[rule]]\npick = 'frost'\nneeds = ['TestA']\n", "")
	same("a rule of the source taken off", p.ClearRule("ice", "skip"), "redis-server\"\n", "redis-server\"\n\n[[rule]]\npick = 'ice'\nclear = ['skip']\n")
	for what, err := range map[string]error{"a name of two words": p.SavePick("two words", "it"), "a broken pick": p.SavePick("x", "(it"), "no condition": p.SaveRule("it", "only-if", catalog.Rules{OnlyIf: "nothing"})} {
		if err == nil {
			t.Errorf("%s is written", what)
		}
		same(what, nil, "", "")
	}
	testfiles.Write(t, dir, map[string]string{FileName: "[broken"})
	if err := p.SavePick("x", "it"); err == nil || !strings.Contains(err.Error(), "nothing is written") {
		t.Errorf("saved into a broken file: %v", err)
	}
}

// TestSaveElsewhere saves where there is no fern.toml, and for the person.
func TestSaveElsewhere(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config"))
	testfiles.Write(t, dir, map[string]string{"m/go.mod": "module example.org/x\n"})
	p, err := Open(filepath.Join(dir, "m"))
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(p.SavePick("a", "new"), SavePersonPick("a", "frost"), SavePersonPick("b", "ice")); err != nil {
		t.Fatal(err)
	}
	again, err := Open(filepath.Join(dir, "m"))
	if err != nil || again.Picks["a"] != "new" || !reflect.DeepEqual(again.Suites, p.Suites) {
		t.Errorf("opened again: %+v, %v", again, err)
	}
	if own, err := PersonPicks(); err != nil || !reflect.DeepEqual(own, map[string]string{"a": "frost", "b": "ice"}) {
		t.Errorf("the person's picks are %v, %v", own, err)
	}
	if got := Saved(again.Picks, map[string]string{"a": "frost"}); got["a"] != "frost" {
		t.Errorf("the nearer pick does not win: %v", got)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(whole)
	f.Add("[[suite]]\nname='x'\nkind='go'\n[tags]\n'' = ''")
	f.Add("tags.a = 'x'\npicks = {b = 'y', c.d = 1}\n[[suite]]")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := parse("/x", "/x/fern.toml", []byte(text))
		if err == nil && len(p.Suites) == 0 {
			t.Fatalf("%q gives a project without suites", text)
		}
	})
}
