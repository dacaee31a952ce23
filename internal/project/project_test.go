package project

import (
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"fernrelay/internal/testfiles"
)

const whole = `# A comment.
[project]
name = "glass house"

[[suite]]
name = "unit"
kind = "go"
dir = "src"
build_flags = ["-race"]
args = ["-short"]
timeout = "90s"

[[suite]]
name = "devices"
kind = "host"
run = "./host --fast"

[tags]
slow = "took>2s"
it = "in:**/it/**"

[workers]
count = 6
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
	if p.Dir != dir || p.Name != "glass house" || p.Workers != 6 || strings.Join(tags, " ") != "it=in:**/it/** slow=took>2s" {
		t.Errorf("opened %+v with the tags %v", p, tags)
	}
	want := []Suite{
		{Name: "unit", Kind: Go, Dir: "src", BuildFlags: []string{"-race"}, Args: []string{"-short"}, Timeout: 90 * time.Second},
		{Name: "devices", Kind: Host, Dir: ".", Run: "./host --fast", Timeout: DefaultTimeout},
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
	if err != nil || p.Name != "sub" || len(p.Suites) != 1 || p.Suites[0].Name != "go" || p.Suites[0].Dir != "." {
		t.Errorf("opened %+v, %v", p, err)
	}
}

// TestErrorsNameThePlace breaks the whole file in one place at a time.
func TestErrorsNameThePlace(t *testing.T) {
	for _, c := range []struct{ old, new, place, words string }{
		{`name = "glass house"`, `nam = "x"`, ":3:1", `unknown key "project.nam"`},
		{`[workers]`, `[worker]`, ":22:2", "the tables are"},
		{`count = 6`, `count = -1`, ":23:1", "a number from 1"},
		{`count = 6`, `count = "six"`, ":23:9", ""},
		{`kind = "go"`, `kind = "go`, ":7:", ""},
		{`kind = "go"`, `kind = "cargo"`, ":7:9", `"cargo": go or host is expected`},
		{`name = "unit"`, `name = "a:b"`, ":5:1", "without : and #"},
		{`name = "devices"`, `name = "unit"`, ":", "two suites are named"},
		{`run = "./host --fast"`, ``, ":14:9", "has no run"},
		{`timeout = "90s"`, `timeout = "90"`, ":11:12", "a duration like 30s"},
		{`timeout = "90s"`, `timeout = "-1s"`, ":11:12", "a duration like 30s"},
		{`slow = "took>2s"`, `slow = "took>soon"`, ":19:1", "not a duration"},
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

func FuzzParse(f *testing.F) {
	f.Add(whole)
	f.Add("[[suite]]\nname='x'\nkind='go'\n[tags]\n'' = ''")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := parse("/x", "/x/fern.toml", []byte(text))
		if err == nil && len(p.Suites) == 0 {
			t.Fatalf("%q gives a project without suites", text)
		}
	})
}
