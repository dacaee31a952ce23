"""Random suites in other languages: hosts in Python, JavaScript and Perl, and programs that write TAP or JUnit XML. Their tests pass,
fail, raise, skip, print, leave threads, exit, kill their process or are in files that break. Each outcome must equal the truth."""
import json, os, random, shutil, subprocess

ROOT = os.path.dirname(os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
TRUTH = {"pass": "passed", "print": "passed", "thread": "passed", "fail": "failed", "raise": "errored", "skip": "skipped", "exit": "errored", "quit": "errored", "kill": "errored", "late": "passed"}

PYTHON = {"pass": "pass", "fail": "assert 1 == 2", "raise": "raise KeyError('x')", "skip": "raise fernhost.Skip('dry')", "exit": "os._exit(3)", "quit": "os._exit(0)", "kill": "os.kill(os.getpid(), 9)",
          "print": "print('x' * 1000000)", "thread": "threading.Thread(target=lambda: (time.sleep(0.05), print('later')), daemon=True).start()", "late": "time.time = lambda: 1.0"}
NODE = {"pass": "", "fail": "require('assert').equal(1, 2)", "raise": "throw new TypeError('x')", "skip": "fern.skip('dry')", "exit": "process.exit(3)", "quit": "process.exit(0)", "kill": "process.kill(process.pid, 9); while (true) {}",
        "print": "console.log('x'.repeat(1000000))", "thread": "setTimeout(() => console.log('later'), 30)", "late": "Date.now = () => 1"}
PERL = {"pass": "1", "fail": "FernHost::equal('n', 1, 2)", "raise": "die 'x'", "skip": "FernHost::skip('dry')", "exit": "POSIX::_exit(3)", "quit": "POSIX::_exit(0)", "kill": "kill 9, $$; sleep 9",
        "print": "print 'x' x 1000000", "thread": "1", "late": "$main::left = 1"}


def host(p, files, language):
    """A project of plain tests, by file and name."""
    library, ending, program, head, one, serve, end, ways = {
        "python": ("python/fernhost.py", "py", "python3 run.py", "import os, threading, time\nimport fernhost\n", "def {name}():\n    {body}\n", "import fernhost\nfernhost.serve('made', 'test_*.py')\n", "", PYTHON),
        "node": ("node/fernhost.js", "js", "node run.js", "'use strict'\nconst fern = require('./fernhost')\n", "exports.{name} = () => {{ {body} }}\n", "require('./fernhost').serve('made', 'test_*.js')\n", "", NODE),
        "perl": ("perl/FernHost.pm", "pl", "perl run.pl", "use POSIX ();\n", "sub {name} {{ {body} }}\n", "use lib '.';\nuse FernHost;\nFernHost::serve('made', 'test_*.pl');\n", "1;\n", PERL),
    }[language]
    shutil.copy(os.path.join(ROOT, "hosts", library), p.dir)
    p.write("run." + ending, serve)
    p.write("fern.toml", f'[[suite]]\nname = "s"\nkind = "host"\nrun = "{program}"\n')
    for group, tests in files.items():
        broken = "((((\n" if tests is None else ""
        p.write(f"{group}.{ending}", head + broken + "".join(one.format(name=name, body=ways[way]) for name, way in (tests or {}).items()) + end)
    return {f"s:{group}#{name}": TRUTH[way] for group, tests in files.items() for name, way in (tests or {}).items()}


PROGRAM = """import os, sys
ways = {ways!r}
names = [n for n in (sys.stdin.read().split() if sys.argv[2:] == [] else open(sys.argv[2][1:]).read().split() if sys.argv[2][0] == '@' else sys.argv[2:])]
lines, bad = [], 0
for i, n in enumerate(names):
    way = ways[n]
    if way in ('exit', 'quit'): os._exit(3 if way == 'exit' else 0)
    if way == 'kill': os.kill(os.getpid(), 9)
    if way == 'print': print('# ' + 'x' * 100000, file=sys.stderr)
    failed = way in ('fail', 'raise'); bad |= failed
    if '{results}' == 'tap': lines.append(('not ok' if failed else 'ok') + ' %d - %s' % (i + 1, n) + (' # SKIP dry' if way == 'skip' else ''))
    else: lines.append('<testcase name="%s">%s</testcase>' % (n, '<failure/>' if failed else '<skipped message="dry"/>' if way == 'skip' else ''))
if '{results}' == 'tap': print('1..%d' % len(names) + '\\n' + '\\n'.join(lines))
else: open(sys.argv[1], 'w').write('<testsuite>' + ''.join(lines) + '</testsuite>')
sys.exit(bad)
"""


def program(p, tests, results, names):
    """A program that reports all results at its end, and gets the names of its tests in one of the ways."""
    p.write("run.py", PROGRAM.format(ways=tests, results=results))
    p.write("names", "".join(n + "\n" for n in tests))
    report = "{report}" if results == "junit" else "-"
    p.write("fern.toml", f'[[suite]]\nname = "s"\nkind = "command"\nlist = "cat names"\nrun = "python3 run.py {report} {names}"\nresults = "{results}"\n' + ('' if names else 'names = "stdin"\n'))
    truth = dict(TRUTH, **{"raise": "failed"})
    return {f"s:.#{name}": truth[way] for name, way in tests.items()}


LOOP = """import json, os, sys, time
ways = {ways!r}
def say(**event): print(json.dumps(event), flush=True)
say(event='run', format='fern-events/1')
for line in sys.stdin:
    n = line.rstrip('\\n'); way = ways[n]
    say(event='started', id=n)
    if way in ('exit', 'quit'): os._exit(3 if way == 'exit' else 0)
    if way == 'kill': os.kill(os.getpid(), 9)
    if way == 'print': print('x' * 100000, file=sys.stderr, flush=True)
    outcome = {{'fail': 'failed', 'raise': 'errored', 'skip': 'skipped'}}.get(way, 'passed')
    say(event='finished', id=n, outcome=outcome, seconds=0.001, message='dry')
say(event='end')
"""


def loop(p, tests):
    """A program that runs batch after batch, of many groups."""
    tests = {f"{'abcde'[i % 5]}/{name}": way for i, (name, way) in enumerate(tests.items())}
    p.write("run.py", LOOP.format(ways=tests))
    p.write("names", "".join(n + "\n" for n in tests))
    p.write("fern.toml", '[[suite]]\nname = "s"\nkind = "command"\nlist = "cat names"\nrun = "python3 run.py"\nresults = "events"\nnames = "stdin"\nisolate = "worker"\n')
    return {f"s:{name.split('/')[0]}#{name}": TRUTH[way] for name, way in tests.items()}


def made(rng, count):
    killers = ["exit", "quit", "kill"] if rng.random() < 0.8 else []
    return {f"test_{i:03d}": rng.choice(["pass"] * 12 + ["fail", "fail", "raise", "skip", "print", "thread", "late"] + killers) for i in range(count)}


def random_suites(p, expect, count, seed=11):
    rng, tests, red = random.Random(seed), 0, 0
    for n in range(count):
        shutil.rmtree(p.dir)
        os.mkdir(p.dir)
        kind = rng.choice(["python", "node", "perl", "tap", "junit", "loop"])
        if kind in ("tap", "junit"):
            truth, broken = program(p, made(rng, rng.randint(1, 120)), kind, rng.choice(["{names}", "@{names-file}", ""])), 0
        elif kind == "loop":
            truth, broken = loop(p, made(rng, rng.randint(1, 120))), 0
        else:
            files = {f"test_{chr(97 + i)}": made(rng, rng.randint(1, 30)) if rng.random() < 0.85 else None for i in range(rng.randint(1, 4))}
            if not any(files.values()):
                continue
            truth, broken = host(p, files, kind), sum(tests is None for tests in files.values())
        got = subprocess.run([p.program, "run", "--events", "e.jsonl", "--workers", str(rng.randint(1, 3))], cwd=p.dir, capture_output=True, text=True)
        ours, entries = {}, 0
        for line in open(os.path.join(p.dir, "e.jsonl")):
            e = json.loads(line)
            if e["event"] == "finished" and e.get("entry"):
                entries += 1
            elif e["event"] == "finished":
                ours[e["id"]] = e["outcome"]
        status = 1 if broken or set(truth.values()) & {"failed", "errored"} else 0
        differs = {k: (ours.get(k), v) for k, v in truth.items() if ours.get(k) != v}
        expect(ours == truth and entries == broken and got.returncode == status, f"suite {n}, {kind}: status {got.returncode}, want {status}; {entries} entries, want {broken}; {differs}\n{got.stdout[-3000:]}\n{got.stderr[-2000:]}")
        tests, red = tests + len(truth), red + status
    p.figures = f"{count} suites, {tests} tests, {red} red"


def random_imports(p, expect, count, seed=12):
    """Random graphs of imports in Python and JavaScript: a change of any file touches exactly the tests that reach it."""
    rng, changes = random.Random(seed), 0
    forms = {"py": ["import {n}", "import {n} as x", "from {n} import value", "def lazy():\n    import {n}", "from {n} import *"],
             "js": ["require('./{n}')", "const {{ value: v{n} }} = require('./{n}.js')", "exports.lazy = () => require(\"./{n}\")", "if (0) import('./{n}.js')"]}
    for n in range(count):
        shutil.rmtree(p.dir)
        os.mkdir(p.dir)
        end = rng.choice(["py", "js"])
        modules = [f"m{i}" for i in range(rng.randint(1, 12))]
        tests = [f"test_{i}" for i in range(rng.randint(1, 6))]
        graph = {m: rng.sample(modules[i + 1:], min(len(modules) - i - 1, rng.randint(0, 2))) for i, m in enumerate(modules)}  # without circles
        graph.update({t: rng.sample(modules, min(len(modules), rng.randint(0, 2))) for t in tests})
        shutil.copy(os.path.join(ROOT, "hosts", "python/fernhost.py" if end == "py" else "node/fernhost.js"), p.dir)
        p.write("run." + end, "import fernhost\nfernhost.serve('s', 'test_*.py')\n" if end == "py" else "require('./fernhost').serve('s', 'test_*.js')\n")
        p.write("fern.toml", f'[[suite]]\nname = "s"\nkind = "host"\nrun = "{"python3 run.py" if end == "py" else "node run.js"}"\n')
        p.write(".gitignore", "__pycache__\n.fern\n")
        for name, others in graph.items():
            body = "".join(rng.choice(forms[end]).format(n=other) + "\n" for other in others)
            body += {"py": "value = 1\n", "js": "exports.value = 1\n"}[end] + ({"py": "def test_it():\n    pass\n", "js": "exports.testIt = () => {}\n"}[end] if name in tests else "")
            p.write(f"{name}.{end}", body)
        for command in (["init", "-q", "."], ["add", "-A"], ["-c", "user.name=x", "-c", "user.email=x@x", "commit", "-qm", "x"]):
            subprocess.run(["git"] + command, cwd=p.dir, check=True)

        def reaches(name, changed):
            return name in changed or any(reaches(other, changed) for other in graph[name])

        for _ in range(3):
            changed = rng.sample(sorted(graph), min(len(graph), rng.randint(1, 2)))
            gone = rng.random() < 0.3
            for name in changed:
                if gone and name in modules:
                    os.remove(os.path.join(p.dir, f"{name}.{end}"))
                else:
                    with open(os.path.join(p.dir, f"{name}.{end}"), "a") as f:
                        f.write("\n")
            want = {t for t in tests if reaches(t, set(changed))}
            got = subprocess.run([p.program, "run", "-p", "touched:HEAD", "--allow-empty", "--events", ".fern/e.jsonl"], cwd=p.dir, capture_output=True, text=True)
            ran = {json.loads(line)["id"].split(":")[1].split("#")[0] for line in open(os.path.join(p.dir, ".fern/e.jsonl")) if '"event":"finished"' in line}
            expect(ran == want, f"graph {n} ({end}), {'without' if gone else 'with changed'} {changed}: {sorted(ran)} ran, want {sorted(want)}\n{graph}\n{got.stdout[-1500:]}\n{got.stderr[-1500:]}")
            subprocess.run(["git", "checkout", "-q", "."], cwd=p.dir, check=True)
            changes += 1
    p.figures = f"{count} graphs, {changes} changes"
