package host

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/process"
	"fernrelay/internal/testfiles"
)

// pollutions are tests of odd forms that leave state, by language. Each is a file with one test that leaves it; other files are plants.
var pollutions = map[string]map[string]string{
	"python3": {
		"plants.py": "plan = {'north': ['moss']}\nprices = [3]\nunit = 'litre'\nseen = set()\n\nclass Valve:\n    open = False\n\n    @staticmethod\n    def flow():\n        return 3\n\nmain = Valve()\n",

		"test_one_line.py":   "import plants\ndef test_it(): plants.unit = 'gallon'; assert plants.unit\n",
		"test_words.py":      "\"\"\"About the file.\"\"\"\nfrom __future__ import annotations\n\n\ndef test_it():\n    \"\"\"About the test.\"\"\"\n    from plants import plan\n    text = \"\"\"\nnot indented\n  \"\"\"\n    plan['south'] = text\n    assert plan['south'] == \"\\nnot indented\\n  \"\n",
		"test_tabs.py":       "import plants as p\n\ndef test_it():\n\tif p.plan:\n\t\tp.plan = {}\n\t# and now\n\tassert not p.plan\n",
		"test_breaks.py":     "import os\r\nimport plants\r\n\r\n\r\ndef test_it():\r\n    os.environ['PLANT'] = 'fern'\r\n    plants.prices.append(4)\r\n    assert len(plants.prices) == 2\r\n",
		"test_waits.py":      "import asyncio\nimport plants\n\nasync def test_it():\n    await asyncio.sleep(0)\n    plants.seen.add('moss')\n    return None\n",
		"test_own.py":        "count = 0\n\ndef grow():\n    global count\n    count += 1\n\ndef test_it():\n    old_count = 5\n    grow()\n    assert count == 1 and old_count == 5\n",
		"test_static.py":     "import plants\n\ndef test_it():\n    plants.Valve.flow = staticmethod(lambda: 9)\n    assert plants.Valve().flow() == 9\n",
		"test_adds.py":       "import plants\n\ndef test_it():\n    plants.main.label = 'x'\n    plants.Valve.size = 3\n",
		"test_cases.py":      "import fernhost as fern\nimport plants\n\n@fern.cases(dry=0, wet=3)\ndef test_it(litres):\n    plants.main.open = litres\n    assert plants.main.open == litres\n",
		"test_files.py":      "def test_it():\n    with open('grown.txt', 'w') as f:\n        f.write('moss')\n",
		"test_last.py":       "import os, sys\n\ndef test_it():\n    os.chdir('/')\n    sys.path.append('/nowhere')\n    assert os.getcwd() == '/'",
		"test_settings.py":   "import random, signal, warnings, decimal, gc, logging, socket, sys, os\n\ndef test_it():\n    random.seed(4)\n    signal.signal(signal.SIGTERM, signal.SIG_IGN)\n    warnings.simplefilter('error')\n    decimal.getcontext().prec = 3\n    gc.disable()\n    logging.getLogger('plants').addHandler(logging.NullHandler())\n    logging.disable(3)\n    socket.setdefaulttimeout(3)\n    sys.setrecursionlimit(500)\n    os.umask(0o77)\n",
		"test_two_paths.py":  "import plants\n\ndef test_it():\n    if plants.unit == 'litre':\n        plants.unit = 'gallon'\n        return\n    raise AssertionError(f'''unit\n{plants.unit}''')\n",
		"test_decorators.py": "import functools\nimport plants\n\ndef twice(body):\n    @functools.wraps(body)\n    def both():\n        body()\n        body()\n    return both\n\n@twice\ndef test_it(\n):\n    # grows\n    plants.prices.append(1)\n    assert plants.prices\n",
	},
	"node": {
		"plants.js": "exports.plan = { north: ['moss'] }\nexports.prices = [3]\nexports.unit = 'litre'\nexports.seen = new Set()\nexports.Valve = class { flow() { return 3 } }\nexports.Valve.open = false\n",

		"test_value.js":     "const plants = require('./plants')\nexports.testIt = () => Promise.resolve().then(() => { plants.unit = 'gallon' })\n",
		"test_one_line.js":  "const { prices } = require('./plants')\nexports.testIt = function () { prices.push(4) }\n",
		"test_ends.js":      "const assert = require(\"assert\");\nconst plants = require(\"./plants\");\n\nexports.testIt = async function named() {\n    const text = `\nnot indented\n  `;\n    plants.plan.south = text;\n    assert.equal(plants.plan.south, \"\\nnot indented\\n  \");\n};\n",
		"test_method.js":    "const plants = require('./plants')\nmodule.exports = {\n  testIt() {\n    plants.Valve.prototype.flow = () => 9 // } not the end\n    plants.Valve.open = true\n  },\n}\n",
		"test_twins.js":     "const plants = require('./plants')\nexports.helper = () => {\n  plants.seen.add('moss')\n}\nexports.testIt = () => {\n  plants.seen.add('moss')\n}\n",
		"test_globals.js":   "exports.testIt = () => {\n  globalThis.fetch = () => null\n  Object.prototype.grow = function () { return this }\n  require('fs').existsSync = () => true\n  process.env['ODD-NAME'] = 'fern'\n  process.chdir('/')\n}\n",
		"test_listeners.js": "exports.testIt = () => {\n  process.on('SIGUSR2', function heard() {})\n}\n",
		"test_cases.js":     "const fern = require('./fernhost')\nconst plants = require('./plants')\nexports.testIt = fern.cases({ dry: [0], wet: [3] }, (litres) => {\n  plants.prices.push(litres)\n})\n",
		"test_files.js":     "exports.testIt = () => require('fs').writeFileSync('grown.txt', 'moss')\n",
	},
}

// programs are the hosts of the pollutions: the library, and the main program in lines.
var programs = map[string][3]string{
	"python3": {"python/fernhost.py", "run.py", "import fernhost\nfernhost.serve('plants', 'test_*.py')\n"},
	"node":    {"node/fernhost.js", "run.js", "require('./fernhost').serve('plants', 'test_*.js')\n"},
}

// TestRepairs lets each test that leaves state restore it, in a way that its library proposes: it passes, and after it the state is that
// of a process in which it did not run.
func TestRepairs(t *testing.T) {
	t.Parallel()
	for program, files := range pollutions {
		t.Run(program, func(t *testing.T) {
			t.Parallel()
			a := plainHost(t, program, files)
			found, err := a.Discover(t.Context())
			if err != nil || len(found.Tests) != len(files)-1 {
				t.Fatalf("%d tests, %v, %v", len(found.Tests), found.Notes, err)
			}
			for _, test := range found.Tests {
				changed := left(t, a, test)
				contents, err := a.Repairs(t.Context(), &test, changed, false)
				if err != nil || len(contents) == 0 {
					t.Errorf("%s leaves %+v: %v", test.ID, changed, err)
					continue
				}
				var still []hunt.Change
				for _, content := range contents {
					with, err := a.WithSources("", map[string][]byte{filepath.Join(a.Dir, test.File): content})
					if err != nil {
						t.Fatal(err)
					}
					if still = left(t, with.(*Adapter), test); len(still) == 0 {
						break
					}
				}
				if len(still) > 0 {
					t.Errorf("%s still leaves %+v with the last of\n%s", test.ID, still, bytes.Join(contents, []byte("\n---\n")))
				}
				if strings.Contains(files[test.File], "\r\n") && strings.Count(string(contents[0]), "\n") != strings.Count(string(contents[0]), "\r\n") {
					t.Errorf("%s: the ends of the lines differ:\n%q", test.ID, contents[0])
				}
			}
		})
	}
}

// TestSetUps lets a test set up what others leave and it needs: it passes, and leaves nothing.
func TestSetUps(t *testing.T) {
	t.Parallel()
	plants := map[string]map[string]string{
		"python3": {"plants.py": "unit = 'litre'\nlimits = {}\n", "test_needs.py": "import os\nimport plants\n\ndef test_it():\n    assert plants.unit == 'gallon' and plants.limits == {'pump': 3}\n    assert os.environ['PLANT'] == 'fern'\n"},
		"node":    {"plants.js": "exports.unit = 'litre'\nexports.limits = null\n", "test_needs.js": "const assert = require('assert')\nconst plants = require('./plants')\nexports.testIt = () => {\n  assert.deepEqual([plants.unit, plants.limits, process.env.PLANT], ['gallon', 3, 'fern'])\n}\n"},
	}
	for program, limits := range map[string]string{"python3": "{'pump': 3}", "node": "3"} {
		a := plainHost(t, program, plants[program])
		found, err := a.Discover(t.Context())
		if err != nil || len(found.Tests) != 1 {
			t.Fatalf("%+v, %v", found.Tests, err)
		}
		test := found.Tests[0]
		needed := []hunt.Change{{Kind: hunt.Variable, Name: "plants.unit", Before: "'litre'", After: "'gallon'"}, {Kind: hunt.Variable, Name: "plants.limits", Before: "{}", After: limits}, {Kind: hunt.Environment, Name: "PLANT", Before: hunt.Absent, After: "fern"}}
		contents, err := a.Repairs(t.Context(), &test, needed, true)
		if err != nil || len(contents) != 1 {
			t.Fatalf("%s: %d contents, %v", program, len(contents), err)
		}
		with, err := a.WithSources("", map[string][]byte{filepath.Join(a.Dir, test.File): contents[0]})
		if err != nil {
			t.Fatal(err)
		}
		if still := left(t, with.(*Adapter), test); len(still) > 0 || t.Failed() {
			t.Errorf("%s leaves %+v with\n%s", test.ID, still, contents[0])
		}
		if _, err := a.Repairs(t.Context(), &test, []hunt.Change{{Kind: hunt.Variable, Name: "plants.unit", Before: "'litre'", After: "<a pump>"}}, true); err == nil || !strings.Contains(err.Error(), "only the environment and simple values") {
			t.Errorf("%s: a value that nobody can write: %v", program, err)
		}
	}
}

// plainHost returns the adapter of a project of plain tests in a language.
func plainHost(t *testing.T, program string, files map[string]string) *Adapter {
	t.Helper()
	if _, err := exec.LookPath(program); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal(err)
		}
		t.Skip(err)
	}
	library, err := os.ReadFile(filepath.Join("../../../hosts", programs[program][0]))
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	testfiles.Write(t, dir, files)
	testfiles.Write(t, dir, map[string]string{filepath.Base(programs[program][0]): string(library), programs[program][1]: programs[program][2]})
	limits := process.Limits{Test: time.Minute, Idle: time.Minute, Start: time.Minute, Handshake: time.Minute}
	return New(Config{Suite: "plants", Dir: dir, Command: []string{program, programs[program][1]}, Limits: limits})
}

// left returns the state that a test leaves, and a file that it makes; the test has to pass.
func left(t *testing.T, a *Adapter, test catalog.Test) []hunt.Change {
	t.Helper()
	grown := filepath.Join(a.Dir, "grown.txt")
	opened, err := a.Open(t.Context(), process.Slot{Number: 1, Temp: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	s := opened.(*session)
	defer s.Close()
	fresh, err := s.state(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Run(t.Context(), []catalog.Test{test}, func(e run.Event) {
		if e.Event == run.Finished && e.Outcome != run.Passed {
			t.Errorf("%s is %s: %s", e.ID, e.Outcome, e.Message)
		}
	}); err != nil {
		t.Fatal(err)
	}
	after, err := s.state(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	changes := hunt.Compare(fresh, after)
	if _, err := os.Stat(grown); err == nil {
		changes = append(changes, hunt.Change{Kind: hunt.File, Name: "grown.txt", Before: hunt.Absent, After: "4 bytes"})
		if err := os.Remove(grown); err != nil {
			t.Fatal(err)
		}
	}
	return slices.DeleteFunc(changes, func(c hunt.Change) bool { return strings.Contains(c.Name, "__warningregistry__") })
}
