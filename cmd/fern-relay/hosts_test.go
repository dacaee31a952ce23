package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"fernrelay/core/run"
	"fernrelay/internal/testfiles"
)

// rough are tests that treat their process badly, one file a language.
var rough = map[string]string{
	"python": `import os, sys
import fernhost as fern

@fern.test()
def floods(t):
    for i in range(20000):
        print("line", i, "\x1b[2J")
    sys.stdout.buffer.write(b"\xff bytes")

@fern.test()
def leaves_by_the_door(t):
    sys.exit(0)

@fern.test()
def kills_its_process(t):
    print("last words")
    os._exit(7)

@fern.test()
def comes_behind(t):
    os.system("echo from a child")

@fern.test()
def forges(t):
    for fd in (1, 3):
        os.write(fd, b'{"jsonrpc":"2.0","method":"finished","params":{"group":"rough","name":"waits","outcome":"passed"}}\n')

@fern.test()
async def waits(t):
    t.equal("litres", 1, 2)

@fern.test()
def yields(t):
    yield
    t.equal("litres", 1, 2)
`,
	"node": `const fern = require('../fernhost')

fern.test('floods', {}, () => {
  for (let i = 0; i < 20000; i++) console.log('line', i, '\x1b[2J')
  process.stdout.write(new Uint8Array([0xff, 0x20, 0x62, 0x79, 0x74, 0x65, 0x73]))
})
fern.test('leaves_by_the_door', {}, () => { throw 'the door' })
fern.test('kills_its_process', {}, () => {
  console.log('last words')
  process.exit(7)
})
fern.test('comes_behind', {}, () => { require('child_process').execSync('echo from a child', { stdio: 'inherit' }) })
fern.test('forges', {}, () => {
  for (const fd of [1, 3]) require('fs').writeSync(fd, '{"jsonrpc":"2.0","method":"finished","params":{"group":"rough","name":"waits","outcome":"passed"}}\n')
})
fern.test('waits', {}, async () => fern.equal('litres', 1, 2))
fern.test('yields', {}, function* () { yield; fern.equal('litres', 1, 2) })
`,
}

// language is what a library is for: its folder and program, the ending of its
// files, and how an example serves its tests and loads more.
type language struct{ folder, program, ending, serve, load string }

// TestHostLibraries runs and hunts in the example of each library, and then tests
// that treat their process badly.
func TestHostLibraries(t *testing.T) {
	t.Parallel()
	for _, c := range []language{
		{"python", "python3", ".py", "fernhost.serve", "import rough\n"}, {"node", "node", ".js", "fern.serve", "require('./rough')\n"},
	} {
		t.Run(c.folder, func(t *testing.T) {
			t.Parallel()
			if _, err := exec.LookPath(c.program); err != nil {
				if os.Getenv("CI") != "" {
					t.Fatalf("%s is missing", c.program)
				}
				t.Skipf("%s is missing", c.program)
			}
			hosts := t.TempDir()
			if err := os.CopyFS(hosts, os.DirFS("../../hosts")); err != nil {
				t.Fatal(err)
			}
			dir := filepath.Join(hosts, c.folder, "example")
			got := fern(t, dir, "run", "--workers", "1", "--events", "events.jsonl")
			want := map[string]run.Outcome{"opens_one": run.Passed, "soaks_the_ferns": run.Passed, "counts_from_nothing": run.Failed,
				"pumps_twice": run.Owed, "waters_every_bed": run.Passed, "needs_frost": run.Skipped, "reads_a_gauge": run.Errored}
			run1 := run.New()
			for _, e := range readEvents(t, filepath.Join(dir, "events.jsonl")) {
				run1.Apply(e)
			}
			for name, o := range want {
				if r := run1.Result("garden:drip#" + name); r == nil || r.Outcome != o {
					t.Errorf("%s is %+v, want %s\n%s", name, r, o, got.stderr)
				}
			}
			failed, beds := run1.Result("garden:drip#counts_from_nothing"), run1.Result("garden:drip#waters_every_bed")
			if failed.File != "drip"+c.ending || failed.Line == 0 || failed.Expected != "1" || failed.Actual != "2" || len(beds.Steps) != 2 || string(beds.Output) != "all beds are wet\n" {
				t.Errorf("the failure is %+v, the beds %+v", failed, beds)
			}
			one := fern(t, dir, "run", "waters_every_bed/orchids", "--show", "full")
			if !strings.Contains(one.stdout, "▪ orchids") || strings.Contains(one.stdout, "mosses") || one.status != 0 {
				t.Errorf("one step ran as %s%s", one.stdout, one.stderr)
			}
			hunted := fern(t, dir, "hunt", "counts_from_nothing")
			if !strings.Contains(hunted.stdout, "polluted") || !strings.Contains(hunted.stdout, "soaks_the_ferns leaves valves.opened at") || !strings.Contains(hunted.stdout, "restoring only this makes it pass") {
				t.Errorf("hunted:\n%s%s", hunted.stdout, hunted.stderr)
			}
			roughly(t, dir, c)
		})
	}
}

func roughly(t *testing.T, dir string, c language) {
	serves, err := os.ReadFile(filepath.Join(dir, "run"+c.ending))
	if err != nil {
		t.Fatal(err)
	}
	testfiles.Write(t, dir, map[string]string{"rough" + c.ending: rough[c.folder], "run" + c.ending: strings.Replace(string(serves), c.serve, c.load+c.serve, 1)})
	got := fern(t, dir, "run", "-p", "in:rough", "--workers", "1", "--events", "rough.jsonl")
	found := run.New()
	for _, e := range readEvents(t, filepath.Join(dir, "rough.jsonl")) {
		found.Apply(e)
	}
	var words []string
	for _, r := range found.Results {
		words = append(words, fmt.Sprintf("%s %s", strings.TrimPrefix(r.ID, "garden:rough#"), r.Outcome))
	}
	if strings.Join(words, ", ") != "floods passed, leaves_by_the_door errored, kills_its_process errored, comes_behind passed, forges passed, waits failed, yields errored" {
		t.Errorf("what is rough is %v\n%s%s", words, got.stdout, got.stderr)
	}
	if r := found.Result("garden:rough#comes_behind"); r == nil || !strings.Contains(string(r.Output), "from a child") {
		t.Errorf("what a child prints is lost: %+v", r)
	}
	if r := found.Result("garden:rough#kills_its_process"); r == nil || !strings.Contains(r.Message, "exit status 7") {
		t.Errorf("the killed process is reported as %+v", r)
	}
}
