package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"fernrelay/internal/testfiles"
)

// TestTroubleshooting provokes each message that the page on troubleshooting explains, and holds that the page explains
// each that is provoked here.
func TestTroubleshooting(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile("../../docs/troubleshooting.md")
	if err != nil {
		t.Fatal(err)
	}
	documented := map[string]bool{} // by message: it was provoked
	for _, row := range regexp.MustCompile("(?m)^\\| `([^`]+)` \\|").FindAllStringSubmatch(string(data), -1) {
		documented[row[1]] = false
	}
	suite := func(rest string) string { return "[[suite]]\nkind = \"command\"\nlist = \"echo a\"\n" + rest }
	ok := suite("run = \"true {name}\"\n")
	for _, c := range []struct{ config, command string }{
		{"", "list"},
		{"", "init"},
		{ok, "init"},
		{ok, ""},
		{ok, "rn"},
		{ok + "timeout = 30\n", "list"},
		{ok + "[workers]\ncount = \"3\"\n", "list"},
		{ok + "skip = true\n", "list"},
		{"[[suite]]\nkind = \"comand\"\n", "list"},
		{suite("run = \"true {names}\"\n"), "run"},
		{suite("run = \"true {name} {report}\"\n"), "run"},
		{"[[suite]]\nkind = \"command\"\nlist = \"no-such-program\"\nrun = \"true {name}\"\n", "list"},
		{"[[suite]]\nkind = \"command\"\nlist = \"printf 'a\\\\na\\\\n'\"\nrun = \"true {name}\"\n", "list"},
		{"[[suite]]\nkind = \"host\"\nrun = \"true\"\n", "list"},
		{ok + "[tags]\nfrost = \"name:a\"\n", "list -p frst"},
		{ok, "list -p colour:red"},
		{ok, "list -p 'name:a and'"},
		{ok, "run -p name:b"},
		{ok, "run b"},
		{ok, "list -p touched:main"},
		{suite("run = \"no-such-program {name}\"\n"), "run"},
		{suite("run = \"./script {name}\"\n"), "run"},
		{suite("run = \"true {name}\"\nresults = \"tap\"\n"), "run"},
		{"# a Go module", "run"},
		{suite("run = \"sh -c 'sleep 60' sh {name}\"\n") + "timeout = \"100ms\"\n", "run"},
		{ok, "run --resume"},
		{ok, "replay 99"},
		{ok, "merge nofile.xml"},
		{ok, "report last -o x.txt"},
		{ok, "run --shard 7/6"},
		{ok, "fleet status 1"},
		{ok, "fleet list --fleet nats://127.0.0.1:1"},
		{ok, "station --listen 0.0.0.0:4999"},
		{ok, "matrix"},
		{suite("run = \"sh -c 'echo 1..1; echo ok - a'\"\nresults = \"tap\"\n"), "run --order backwards"},
		{suite("run = \"echo 1..1; echo ok - a\"\nresults = \"tap\"\n"), "run"},
		{suite("run = \"sh -c 'echo ok - a; echo not ok - a; echo 1..2' sh {names}\"\nresults = \"tap\"\n"), "run"},
		{suite("run = \"sh -c 'rm -f armed; kill -9 $PPID' sh {name}\"\n"), "run; git init -q && git add . && git -c user.name=n -c user.email=e commit -qm x; fern-relay run; echo '#' >> fern.toml; fern-relay run --resume"},
		{ok, "list; ln -s /tmp .fern/build; fern-relay list"},
		{ok, "list; mkdir -p .fern/slots; echo x >.fern/slots/slots-x.jsonl; fern-relay list"},
	} {
		dir := t.TempDir()
		files := map[string]string{"script": "exit 0\n"}
		switch {
		case strings.HasPrefix(c.config, "#"):
			files["go.mod"], files["x_test.go"] = "module m\n", "package m\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) { x }\n"
		case c.config != "":
			files["fern.toml"] = c.config
		}
		testfiles.Write(t, dir, files)
		if err := os.Chmod(filepath.Join(dir, "script"), 0o755); err != nil {
			t.Fatal(err)
		}
		got := printed(t, dir, "fern-relay "+c.command+" 2>&1")
		explained := false
		for message := range documented {
			pattern := strings.ReplaceAll(regexp.QuoteMeta(message), "…", ".*")
			if regexp.MustCompile(pattern).MatchString(got) {
				documented[message], explained = true, true
			}
		}
		if !explained {
			t.Errorf("%s of\n%s\nprints what the page does not explain:\n%s", c.command, c.config, got)
		}
	}
	for message, provoked := range documented {
		if !provoked {
			t.Errorf("nothing here provokes %q", message)
		}
	}
}
