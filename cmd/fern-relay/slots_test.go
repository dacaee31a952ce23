package main

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/internal/testfiles"
)

// TestSlots runs scripts on three workers that each have a store of their own, which
// is prepared before and cleaned after: none meets what another wrote.
func TestSlots(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"fern.toml": `[[suite]]
name = "c"
kind = "command"
list = "./list"
run = "./check {name} {space} {port}"
[workers]
count = 3
prepare = "./store make {space} {slot}"
clean = "./store drop {space} {slot}"
[workers.env]
STORE = "stores/{space}{slot}"
`,
		"list":  "#!/bin/sh\nfor i in 1 2 3 4 5 6 7 8 9; do echo \"{\\\"name\\\":\\\"t$i\\\",\\\"group\\\":\\\"g$i\\\"}\"; done\n",
		"store": "#!/bin/sh\ncase $1 in make) mkdir -p stores/$2$3; echo made >> log;; drop) rm -r stores/$2$3; echo dropped >> log;; esac\n",
		"check": `#!/bin/sh
set -e
test -d "$STORE"; test "stores/$2$FERN_SLOT" = "$STORE"; test "$2" = "$FERN_SPACE"; test "$3" = "$FERN_PORT"; test -d "$TMPDIR"
mkdir "$STORE/busy"
sleep 0.05
rmdir "$STORE/busy"
echo "$STORE $3" >> used
`,
	})
	for _, script := range []string{"list", "store", "check"} {
		if err := os.Chmod(filepath.Join(dir, script), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	got := fern(t, dir, "run")
	if got.status != 0 {
		t.Fatalf("status %d:\n%s%s", got.status, got.stdout, got.stderr)
	}
	read := func(name string) []string {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		return strings.Split(strings.TrimSpace(string(data)), "\n")
	}
	used := read("used")
	if len(used) != 9 || len(slices.Compact(slices.Sorted(slices.Values(used)))) != 3 {
		t.Errorf("used are %v", used)
	}
	if log := read("log"); len(log) != 6 || log[0] != "made" || log[5] != "dropped" {
		t.Errorf("the stores were %v", log)
	}
	if left, _ := os.ReadDir(filepath.Join(dir, "stores")); len(left) != 0 {
		t.Errorf("left are %v", left)
	}

	testfiles.Write(t, dir, map[string]string{"store": "#!/bin/sh\ntest $1 = make && mkdir -p stores/$2$3 || { echo no room; exit 1; }\n"})
	got = fern(t, dir, "run", "--workers", "1")
	if got.status != 0 || !strings.Contains(got.stdout, "beside the tests: clean of worker 1: ") || !strings.Contains(got.stdout, "exit status 1: no room") {
		t.Errorf("a clean that fails ends with status %d:\n%s%s", got.status, got.stdout, got.stderr)
	}
	testfiles.Write(t, dir, map[string]string{"store": "#!/bin/sh\necho no room; exit 4\n"})
	got = fern(t, dir, "run")
	if got.status != 1 || !strings.Contains(got.stdout, "9 errored") || !strings.Contains(got.stdout, "prepare of worker") || !strings.Contains(got.stdout, "exit status 4: no room") {
		t.Errorf("a prepare that fails ends with status %d:\n%s%s", got.status, got.stdout, got.stderr)
	}
}
