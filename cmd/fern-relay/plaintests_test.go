package main

import (
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/testfiles"
)

// plainTests copies an example of plain tests and the libraries, and returns the example's folder.
func plainTests(t *testing.T, example, program string) string {
	t.Helper()
	if _, err := exec.LookPath(program); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatalf("%s is missing", program)
		}
		t.Skipf("%s is missing", program)
	}
	root := t.TempDir()
	for _, dir := range []string{"hosts", "examples/" + example} {
		if err := os.CopyFS(filepath.Join(root, dir), os.DirFS("../../"+dir)); err != nil {
			t.Fatal(err)
		}
	}
	return filepath.Join(root, "examples", example)
}

// planted are the pollutions of the examples of plain tests. By the victim: the culprit, and the kind and the name of the state.
var planted = map[string]map[string][3]string{
	"nursery": {
		"test_counts_plants":           {"test_plants_a_palm", "variable", "beds.plan"},
		"test_bill_adds_up":            {"test_free_day", "function", "prices.price"},
		"test_share_is_exact":          {"test_rounded_share", "setting", "decimal context"},
		"test_five_in_crowns":          {"test_new_rate", "cache", "prices.converted"},
		"test_label":                   {"test_gallons", "attribute", "pumps.settings.unit"},
		"test_pump_stops_at_the_limit": {"test_broken_pump", "attribute", "pumps.Pump.run"},
		"test_warnings_are_logged":     {"test_quiet", "setting", "logger nursery.pumps"},
		"test_clock_goes":              {"test_frozen_clock", "function", "time.time"},
	},
	"orchard": {
		"testCountsTrees":   {"testPlantsACherry", "variable", "rows.plan"},
		"testLetters":       {"testLast", "function", "Array.prototype.last"},
		"testTotal":         {"testWeightless", "function", "scales.weightOf"},
		"testLabel":         {"testPounds", "attribute", "scales.settings.unit"},
		"testScaleStops":    {"testBrokenScale", "function", "scales.Scale.prototype.weigh"},
		"testClockGoes":     {"testFrozenClock", "function", "Date.now"},
		"testNobodyListens": {"testBell", "listener", "gates.bell ring"},
		"testEnglish":       {"testFrench", "environment", "ORCHARD_LANGUAGE"},
	},
}

// repaired are victims of each example that the test lets a patch repair. The adapter's tests have the other forms.
var repaired = map[string]string{"nursery": "test_five_in_crowns", "orchard": "testEnglish"}

// repair hunts a victim with a patch, applies it, and runs all tests: only the other victims fail.
func repair(t *testing.T, dir, victim string) {
	t.Helper()
	hunted := fern(t, dir, "hunt", "--patch", "p.diff", victim)
	apply := exec.Command("git", "apply", "-p1", "p.diff")
	apply.Dir = dir
	if out, err := apply.CombinedOutput(); err != nil {
		t.Fatalf("git apply: %v\n%s\n%s", err, out, hunted.stderr)
	}
	if got := fern(t, dir, "run", "--order", "as-written", "--workers", "1"); !strings.Contains(got.stdout, "40 picked: 33 passed, 7 failed") {
		t.Errorf("with the patch:\n%s%s", got.stdout, got.stderr)
	}
}

// TestPlantedPollutions hunts all victims of the examples of plain tests: each pollution is of another kind, and of each the culprit and
// the state are named, and the state is proved. Then patches repair some.
func TestPlantedPollutions(t *testing.T) {
	t.Parallel()
	for example, program := range map[string]string{"nursery": "python3", "orchard": "node"} {
		t.Run(example, func(t *testing.T) {
			t.Parallel()
			dir, want := plainTests(t, example, program), planted[example]
			if got := fern(t, dir, "run", "--order", "as-written", "--workers", "1"); got.status != 1 || !strings.Contains(got.stdout, "40 picked: 32 passed, 8 failed") {
				t.Fatalf("status %d\n%s%s", got.status, got.stdout, got.stderr)
			}
			got := fern(t, dir, "hunt", "--json")
			var found struct{ Victims []hunt.Finding }
			if err := json.Unmarshal([]byte(got.stdout), &found); err != nil {
				t.Fatalf("%v\n%s%s", err, got.stdout, got.stderr)
			}
			if len(found.Victims) != len(want) {
				t.Errorf("%d of %d victims are hunted", len(found.Victims), len(want))
			}
			for _, f := range found.Victims {
				w := want[f.ID[strings.Index(f.ID, "#")+1:]]
				if len(f.Culprits) != 1 || len(f.Culprits[0]) != 1 || !strings.HasSuffix(f.Culprits[0][0], "#"+w[0]) || len(f.Changed) == 0 || f.Changed[0].Kind != w[1] || f.Changed[0].Name != w[2] || !f.Changed[0].Proved {
					t.Errorf("%s is %s after %v, and leaves %+v: want %v", f.ID, f.Verdict, f.Culprits, f.Changed, w)
				}
			}
			repair(t, dir, repaired[example])
		})
	}
}

// TestPlainTestsInPython runs files that break and tests that are rough, of a project as its owner writes it: every other test keeps its
// outcome, and each failure says why.
func TestPlainTestsInPython(t *testing.T) {
	t.Parallel()
	dir := plainTests(t, "nursery", "python3")
	withoutTests(t, dir, "test_*.py")
	testfiles.Write(t, dir, map[string]string{
		"test_syntax.py":  "import beds\n\ndef test_never(:\n    pass\n",
		"test_imports.py": "import beds\nimport no_such_module\n\ndef test_never():\n    pass\n",
		"test_exits.py":   "import sys\nsys.exit(3)\n",
		"test_rough.py": `import threading, time, sys, os
import fernhost as fern
import beds

started = []
order = []

@fern.before
def ready():
    order.append("before")

@fern.after
def cleaned():
    order.append("after")

@fern.before_file
def opened():
    order.append("opened")

def test_set_up():
    assert order == ["opened", "before"]

async def test_waits():
    import asyncio
    await asyncio.sleep(0)
    litres = 3
    want = 4
    assert litres == want

def test_deep():
    beds.plan["west"].append("moss")

def test_thread_prints_later():
    def speak():
        started.append(1)
        while len(started) == 1:
            time.sleep(0.01)
        print("from a thread")
        sys.stdout.flush()
    threading.Thread(target=speak, daemon=True).start()

def test_after_the_thread():
    started.append(2)
    time.sleep(0.1)

@fern.cases(dry=(0, 0), wet=(3, 9), flood=(9, 81))
def test_squares(litres, want):
    assert litres * litres == want, "%d litres" % litres

@fern.cases(one=1, two=3)
def test_even(n):
    assert n == 1

def test_prints():
    for i in range(50000):
        print("x" * 1000)

def test_speaks_to_the_error_output():
    print("words of another", file=sys.stderr)
    sys.stderr.flush()

@fern.test(timeout=0.5)
def test_slow():
    time.sleep(60)

def test_kills():
    print("words of its own")
    os._exit(3)

def test_last():
    pass
`})
	got := fern(t, dir, "run", "--order", "as-written", "--workers", "1", "--events", "e.jsonl")
	ran := run.New()
	for _, e := range readEvents(t, filepath.Join(dir, "e.jsonl")) {
		ran.Apply(e)
	}
	for name, want := range map[string]string{
		"test_set_up": "passed ", "test_waits": "failed assert litres == want, where litres = 3, want = 4", "test_deep": "errored KeyError: 'west'", "test_thread_prints_later": "passed ",
		"test_after_the_thread": "passed ", "test_squares": "passed ", "test_even": "failed assert n == 1, where n = 3", "test_prints": "passed ", "test_slow": "timed-out timed out at 500ms", "test_kills": "errored the process ended while it ran: exit status 3; its last words: words of its own", "test_speaks_to_the_error_output": "passed ", "test_last": "passed ",
	} {
		if r := ran.Result("py:test_rough#" + name); r == nil || !strings.HasPrefix(string(r.Outcome)+" "+r.Message, want) {
			t.Errorf("%s is %+v, want %q", name, r, want)
		}
	}
	if waits := ran.Result("py:test_rough#test_waits"); waits.Expected != "4" || waits.Actual != "3" || waits.Line != 28 {
		t.Errorf("the failed assert is %+v", waits.Failure)
	}
	if squares := ran.Result("py:test_rough#test_squares"); len(squares.Steps) != 3 || squares.Steps[1].Name != "wet" {
		t.Errorf("the cases are %+v", squares.Steps)
	}
	for group, want := range map[string]string{"test_syntax": "test_syntax.py:3 it cannot be imported: SyntaxError", "test_imports": "test_imports.py:2 it cannot be imported: ModuleNotFoundError: No module named 'no_such_module'",
		"test_exits": "test_exits.py:2 it cannot be imported: SystemExit: 3"} {
		if r := ran.Result("py:" + group + "#build"); r == nil || r.Outcome != run.Errored || !strings.HasPrefix(r.Where()+" "+r.Message, want) {
			t.Errorf("the broken file of %s is %+v, want %q", group, r, want)
		}
	}
	if got.status != 1 || !strings.Contains(got.stdout, "12 picked: 7 passed") {
		t.Errorf("status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	if one := fern(t, dir, "run", "test_squares/wet", "--show", "full"); one.status != 0 || strings.Contains(one.stdout, "flood") {
		t.Errorf("one case alone: status %d\n%s", one.status, one.stdout)
	}
	listed := fern(t, dir, "list")
	if !slices.ContainsFunc(strings.Split(listed.stderr, "\n"), func(line string) bool {
		return strings.Contains(line, "test_syntax.py:3: the tests of group test_syntax are missing")
	}) {
		t.Errorf("list does not say which files are broken:\n%s", listed.stderr)
	}
}

// withoutTests removes the example's own tests.
func withoutTests(t *testing.T, dir, pattern string) {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(dir, pattern))
	for _, file := range files {
		err = errors.Join(err, os.Remove(file))
	}
	if err != nil || len(files) == 0 {
		t.Fatalf("%d files, %v", len(files), err)
	}
}

// TestPlainTestsInJavaScript does the same in JavaScript: an error that nobody handles is that of the test that began its work, also if
// another runs by then.
func TestPlainTestsInJavaScript(t *testing.T) {
	t.Parallel()
	dir := plainTests(t, "orchard", "node")
	withoutTests(t, dir, "test_*.js")
	testfiles.Write(t, dir, map[string]string{
		"test_syntax.js":  "'use strict'\n\nexports.testNever = ( => {}\n",
		"test_imports.js": "'use strict'\nrequire('./no_such_file')\nexports.testNever = () => {}\n",
		"test_exits.js":   "'use strict'\nprocess.exit(3)\n",
		"test_module.mjs": "export const testModule = () => {}\n",
		"run.js":          "require('../../hosts/node/fernhost').serve('orchard', 'test_*.js', 'test_*.mjs')\n",
		"test_rough.js": `'use strict'
const assert = require('assert')
const fern = require('../../hosts/node/fernhost')
const order = []

fern.before(() => { order.push('before') })
fern.beforeFile(() => { order.push('file') })

exports.testSetUp = () => assert.deepEqual(order, ['file', 'before'])
exports.testRejects = () => assert.rejects(Promise.resolve(1))
exports.testForgetsToWait = () => { Promise.reject(new Error('nobody waits')) }
exports.testAfterIt = () => {}
exports.testBeginsLateWork = () => { setTimeout(() => { throw new Error('too late') }, 50) }
exports.testWhileItIsLate = () => new Promise((done) => setTimeout(done, 300))
exports.testSquares = fern.cases({ dry: [0, 0], wet: [3, 9] }, (litres, want) => assert.equal(litres * litres, want))
exports.testPrints = () => { for (let i = 0; i < 50000; i++) console.log('x'.repeat(1000)) }
exports.testKills = () => process.exit(3)
exports.testLast = () => {}
`})
	got := fern(t, dir, "run", "--order", "as-written", "--workers", "1", "--events", "e.jsonl")
	ran := run.New()
	for _, e := range readEvents(t, filepath.Join(dir, "e.jsonl")) {
		ran.Apply(e)
	}
	for id, want := range map[string]string{
		"test_rough#testSetUp": "passed ", "test_rough#testRejects": "failed Missing expected rejection.", "test_rough#testForgetsToWait": "errored Error: nobody waits", "test_rough#testAfterIt": "passed ",
		"test_rough#testBeginsLateWork": "errored its process reported several outcomes, passed, errored, and the worst counts: after it had ended: Error: too late", "test_rough#testWhileItIsLate": "passed ",
		"test_rough#testSquares": "passed ", "test_rough#testPrints": "passed ", "test_rough#testKills": "errored the process ended while it ran: exit status 3", "test_rough#testLast": "passed ",
		"test_module#testModule": "passed ", "test_syntax#build": "errored it cannot be loaded: SyntaxError", "test_imports#build": "errored it cannot be loaded: Error: Cannot find module './no_such_file'",
		"test_exits#build": "errored it cannot be loaded: Error: it calls process.exit(3)",
	} {
		if r := ran.Result("js:" + id); r == nil || !strings.HasPrefix(string(r.Outcome)+" "+r.Message, want) {
			t.Errorf("%s is %+v, want %q", id, r, want)
		}
	}
	if rejects := ran.Result("js:test_rough#testRejects"); rejects.Expected+rejects.Actual != "" {
		t.Errorf("what compares nothing has sides: %+v", rejects.Failure)
	}
	if syntax := ran.Result("js:test_syntax#build"); got.status != 1 || syntax == nil || syntax.Where() != "test_syntax.js:3" {
		t.Errorf("status %d, the broken file is at %+v\n%s", got.status, syntax, got.stderr)
	}
}

// TestPerlLibrary runs and hunts in the example of the Perl library, and beside a file that breaks and a test that kills its process.
func TestPerlLibrary(t *testing.T) {
	t.Parallel()
	if exec.Command("perl", "-MJSON::PP", "-e", "1").Run() != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("perl is missing")
		}
		t.Skip("perl is missing")
	}
	root := t.TempDir()
	if err := os.CopyFS(root, os.DirFS("../../hosts/perl")); err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(root, "example")
	if got := fern(t, dir, "run", "--order", "as-written", "--workers", "1"); got.status != 1 || !strings.Contains(got.stdout, "8 picked: 4 passed, 2 failed, 1 errored, 1 skipped") {
		t.Fatalf("status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	got := fern(t, dir, "hunt", "test_flow_is_limited", "test_counts_from_nothing", "--json")
	var found struct{ Victims []hunt.Finding }
	if err := json.Unmarshal([]byte(got.stdout), &found); err != nil || len(found.Victims) != 2 {
		t.Fatalf("%v\n%s%s", err, got.stdout, got.stderr)
	}
	for _, f := range found.Victims {
		want := map[bool][2]string{true: {"test_storm", "Valves::flow"}, false: {"test_soaks_the_ferns", "%Valves::opened"}}[strings.HasSuffix(f.ID, "limited")]
		if len(f.Culprits) != 1 || !strings.HasSuffix(f.Culprits[0][0], want[0]) || len(f.Changed) == 0 || f.Changed[0].Name != want[1] || !f.Changed[0].Proved {
			t.Errorf("%s is %s after %v, and leaves %+v: want %v", f.ID, f.Verdict, f.Culprits, f.Changed, want)
		}
	}
	testfiles.Write(t, dir, map[string]string{"test_broken.pl": "use strict;\n\nmy $x = ;\n", "test_rough.pl": "use POSIX ();\nsub test_first { print 'x' x 100000 }\nsub test_kills { POSIX::_exit(3) }\nsub test_last { 1 }\n1;\n"})
	rough := fern(t, dir, "run", "-p", "in:test_broken or in:test_rough", "--order", "as-written", "--workers", "1")
	for _, words := range []string{"garden:test_broken#build  errored  test_broken.pl:3", "it cannot be loaded: syntax error", "garden:test_rough#test_kills  errored", "the process ended while it ran: exit status 3", "3 picked: 2 passed, 1 errored"} {
		if !strings.Contains(rough.stdout, words) {
			t.Errorf("%q is missing in\n%s%s", words, rough.stdout, rough.stderr)
		}
	}
}
