"""Ways in which a run could be wrongly green. Each is tried as a plain run and, where that makes sense, as shards, resumed after a
kill, in a fleet and in a crossing of a matrix; exit status and every outcome must equal the truth."""
import json, os, shutil, signal, subprocess, textwrap, threading
from concurrent.futures import ThreadPoolExecutor

ALL = ("run", "shards", "resume", "fleet", "crossing")
ways = []


class Way:
    """A project, and the truth about its run: the exit status, and the outcome of each test by its ID."""

    def __init__(self, words, make, status, outcomes, modes=ALL):
        self.words, self.make, self.status, self.outcomes, self.modes = words, make, status, outcomes, modes


def command(words, names, script, results, status, outcomes, run="sh run {names}", modes=ALL, more=""):
    """A suite whose program prints what the script prints."""
    def make(write):
        write("names", "".join(name + "\n" for name in names))
        write("run", script)
        write("gate", "test -e armed || exit 0\nrm armed\nkill -9 $PPID\nsleep 9\n")
        return f'[[suite]]\nname = "c"\nkind = "command"\nlist = "cat names"\nrun = "{run}"\nresults = "{results}"\n{more}\n'
    ways.append(Way(f"{results}: {words}", make, status, {"c:" + k: v for k, v in outcomes.items()}, modes))


def xml(text):
    return "cat <<'E'\n" + text + "\nE\n"


# ---- Names

A, B = '{"group":"m.A","name":"a"}', '{"group":"m.B","name":"a"}'
fail = "<failure message='no'/>"
command("two classes, one name in the list", ["a"], xml(f"<testsuite><testcase classname='m.A' name='a'/><testcase classname='m.B' name='a'>{fail}</testcase></testsuite>") + "exit 1", "junit", 1, {".#a": "failed"})
command("two classes, the first failed", ["a"], xml(f"<testsuite><testcase classname='m.A' name='a'>{fail}</testcase><testcase classname='m.B' name='a'/></testsuite>") + "exit 1", "junit", 1, {".#a": "failed"})
command("two classes, two groups", [A, B], xml(f"<testsuite><testcase classname='m.A' name='a'/><testcase classname='m.B' name='a'>{fail}</testcase></testsuite>") + "exit 1", "junit", 1, {"m.A#a": "passed", "m.B#a": "failed"}, modes=("run", "resume", "crossing"))
command("another class passed, and the picked one failed", [A], xml(f"<testsuite><testcase classname='m.B' name='a'/><testcase classname='m.A' name='a'>{fail}</testcase></testsuite>") + "exit 1", "junit", 1, {"m.A#a": "failed"})
command("another class passed, and the picked one did not run", [A], xml("<testsuite><testcase classname='m.B' name='a'/></testsuite>"), "junit", 1, {"m.A#a": "errored"})
command("another file passed, and the picked one did not run", ['{"group":"checks","name":"a","file":"t/one.py"}'], xml("<testsuite><testcase classname='x' name='a' file='t/two.py'/></testsuite>"), "junit", 1, {"checks#a": "errored"})
command("longer places", ['{"group":"m/A","name":"a"}', '{"group":"m/B","name":"a"}'], xml(f"<testsuite><testcase classname='org.m.B' name='a'>{fail}</testcase><testcase classname='org.m.A' name='a'/></testsuite>") + "exit 1", "junit", 1, {"m/A#a": "passed", "m/B#a": "failed"}, modes=("run", "resume", "crossing"))
command("one package of two", ['{"group":"p","name":"a"}', '{"group":"q","name":"a"}'], """printf '{"Action":"pass","Package":"x/p","Test":"a"}\\n{"Action":"fail","Package":"x/q","Test":"a"}\\n'; exit 1""", "gojson", 1, {"p#a": "passed", "q#a": "failed"}, modes=("run", "resume", "crossing"))

# ---- Several results of one test

twice = {"tap": ("echo ok 1 - a", "echo not ok 2 - a", "echo 1..2"), "gojson": ("""echo '{"Action":"pass","Package":"p","Test":"a"}'""", """echo '{"Action":"fail","Package":"p","Test":"a"}'""", ""),
         "events": ("""echo '{"event":"finished","id":"a","outcome":"passed"}'""", """echo '{"event":"finished","id":"a","outcome":"failed"}'""", """echo '{"event":"end"}'""")}
for results, (good, bad, end) in twice.items():
    head = """echo '{"event":"run","format":"fern-events/1"}'\n""" if results == "events" else ""
    command("passed, then failed", ["a"], f"{head}{good}\n{bad}\n{end}\nexit 1", results, 1, {".#a": "failed"})
    command("failed, then passed", ["a"], f"{head}{bad}\n{good}\n{end}\nexit 0", results, 1, {".#a": "failed"})
command("passed, then failed", ["a"], xml(f"<testsuite><testcase name='a'/><testcase name='a'>{fail}</testcase></testsuite>") + "exit 1", "junit", 1, {".#a": "failed"})
command("failed, then passed", ["a"], xml(f"<testsuite><testcase name='a'>{fail}</testcase><testcase name='a'/></testsuite>"), "junit", 1, {".#a": "failed"})
command("two documents", ["a"], "mkdir $2; echo \"<testsuite><testcase name='a'/></testsuite>\" > $2/1.xml; echo \"<testsuite><testcase name='a'><error/></testcase></testsuite>\" > $2/2.xml", "junit", 1, {".#a": "errored"}, run="sh run {names} {report}")
command("two documents", ["a"], "echo 1..1; echo ok 1 - a; echo 1..1; echo not ok 1 - a; exit 1", "tap", 1, {".#a": "failed"})
command("a second document that breaks off", ["a"], """printf '{"event":"run","format":"fern-events/1"}\\n{"event":"finished","id":"a","outcome":"passed"}\\n{"event":"end"}\\n{"event":"run","format":"fern-events/1"}\\n'""", "events", 1, {".#a": "passed"})
command("a step that failed after its test passed", ["a"], "echo ok 1 - $1; echo not ok 2 - late; echo 1..2", "tap", 1, {".#a": "failed"}, run="sh run {name}")

# ---- Beyond the tests

pass2 = "<testcase name='a'/><testcase name='b'/>"
two = {".#a": "passed", ".#b": "passed"}
whole = ("run", "resume", "fleet", "crossing")
command("an error of the suite", ["a", "b"], xml(f"<testsuite><error message='no fixture'/>{pass2}</testsuite>"), "junit", 1, two)
command("an error of a suite within", ["a", "b"], xml(f"<testsuites><testsuite name='x'><testsuite name='y'><error/></testsuite>{pass2}</testsuite></testsuites>"), "junit", 1, two)
command("errors that no case has", ["a", "b"], xml(f"<testsuite errors='1'>{pass2}</testsuite>"), "junit", 1, two)
command("failures that no case has, of all suites", ["a", "b"], xml(f"<testsuites failures='2'><testsuite>{pass2}</testsuite></testsuites>"), "junit", 1, two)
command("errors without cases", ["a", "b"], xml("<testsuite errors='1'/>"), "junit", 1, {".#a": "errored", ".#b": "errored"})
command("a document that is cut off", ["a", "b"], xml(f"<testsuite>{pass2}"), "junit", 1, two)
command("a case that failed by its status", ["a"], xml("<testsuite><testcase name='a' status='failed'/></testsuite>"), "junit", 1, {".#a": "failed"})
command("a case skipped and failed", ["a"], xml(f"<testsuite><testcase name='a'><skipped/>{fail}</testcase></testsuite>"), "junit", 1, {".#a": "failed"})
command("a stranger that failed", ["a", "b"], xml(f"<testsuite>{pass2}<testcase name='z'>{fail}</testcase></testsuite>"), "junit", 1, two)
plan = "printf '1..2\\nok 1 - a\\nok 2 - b\\n'\n"
for words, end in [("a bail-out", "echo 'Bail out!'"), ("a third point", "echo ok 3 - c"), ("a status", "exit 3"), ("a signal", "kill -SEGV $$"), ("a stranger that failed", "echo 'not ok 3 - z'")]:
    command(words, ["a", "b"], plan + end, "tap", 1, two)
command("a package that failed outside of its tests", ["a", "b"], """printf '{"Action":"pass","Package":"p","Test":"a"}\\n{"Action":"pass","Package":"p","Test":"b"}\\n{"Action":"fail","Package":"p"}\\n'""", "gojson", 1, two)
command("a test that began and did not end", ["a", "b"], """printf '{"Action":"pass","Package":"p","Test":"a"}\\n{"Action":"run","Package":"p","Test":"b"}\\n{"Action":"pass","Package":"p"}\\n'""", "gojson", 1, {".#a": "passed", ".#b": "errored"})
command("nothing", ["a"], "exit 0", "tap", 1, {".#a": "errored"})
command("no report", ["a"], "exit 0", "junit", 1, {".#a": "errored"}, run="sh run {names} {report}")
command("a killed process", ["a"], "kill -9 $$", "exit", 1, {".#a": "errored"}, run="sh run {name}")

# ---- Owed

owed = '[[rule]]\npick = "name:/./"\nexpect-fail = "known"\n'
command("a crash that is expected to fail", ["a"], "kill -9 $$", "exit", 1, {".#a": "errored"}, run="sh run {name}", more=owed)
command("a hang that is expected to fail", ["a"], "sleep 9", "exit", 1, {".#a": "timed-out"}, run="sh run {name}", more='timeout = "200ms"\n' + owed, modes=("run", "crossing"))
command("no outcome of what is expected to fail", ["a"], "exit 0", "tap", 1, {".#a": "errored"}, more=owed)
command("a failure that is expected", ["a"], "exit 1", "exit", 0, {".#a": "owed"}, run="sh run {name}", more=owed)

# ---- Programs that take no names

for words, run in [("no names", "sh run"), ("only a file", "sh run {file}")]:
    names = ['{"group":"%s","name":"%s","file":"t"}' % tuple(pair) for pair in ("xa", "yb", "yc")]
    command(f"a program that takes {words}", names, f"echo ran >> ran; test $(grep -c . ran) = 1 || echo 'not ok 9 - again'\nprintf '1..3\\nok - x a\\nok - y b\\nnot ok - y c\\n'; exit 1", "tap", 1, {"x#a": "passed", "y#b": "passed", "y#c": "failed"}, run=run, modes=("run", "fleet"))

# ---- Hosts

HOST = '''
import sys, json
tests = [{"group": "g", "name": n} for n in "ab"]
def say(**m): print(json.dumps({"jsonrpc": "2.0", **m}), flush=True)
def note(kind, name, **more): say(method=kind, params={"group": "g", "name": name, **more})
how = sys.argv[1]
for line in sys.stdin:
    m = json.loads(line)
    result = {"hello": {"protocol": "fern-host/1", "name": "h"}, "discover": {"tests": tests}}.get(m["method"], {})
    if m["method"] == "run":
        for t in m["params"]["tests"]:
            note("started", t["name"])
            if how != "silent":
                note("finished", t["name"], outcome="maybe" if how == "unknown" else "passed")
            if how == "twice": note("finished", t["name"], outcome="failed", message="later")
        if how == "stranger": note("finished", "z", outcome="failed")
        if how == "error":
            say(id=m["id"], error={"code": 1, "message": "the fixtures leak"})
            continue
    say(id=m["id"], result=result)
    if m["method"] == "run" and how == "late": note("finished", "a", outcome="failed")
    if m["method"] == "bye": sys.exit(3 if how == "dies" else 0)
'''


def host(words, how, outcomes, modes=("run", "fleet", "crossing")):
    def make(write):
        write("host.py", HOST)
        return f'[[suite]]\nname = "h"\nkind = "host"\nrun = "python3 host.py {how}"\n'
    ways.append(Way("host: " + words, make, 1, {f"h:g#{n}": o for n, o in zip("ab", outcomes)}, modes))


host("passed, then failed", "twice", ["failed", "failed"])
host("a failure of a test that was not asked for", "stranger", ["passed", "passed"])
host("an error as the answer", "error", ["passed", "passed"])
host("a result after the answer", "late", ["passed", "passed"])
host("an outcome that nobody knows", "unknown", ["errored", "errored"])
host("no outcome", "silent", ["errored", "errored"])
host("a bad end", "dies", ["passed", "passed"])


def library(words, language, body, outcomes):
    def make(write):
        folder, program, ending = {"python": ("python", "python3", "py"), "node": ("node", "node", "js")}[language]
        write(f"fernhost.{ending}", open(os.path.join(os.path.dirname(__file__), "..", "..", "hosts", folder, f"fernhost.{ending}")).read())
        write(f"g.{ending}", textwrap.dedent(body))
        write(f"run.{ending}", "import fernhost, g\nfernhost.serve('h')\n" if language == "python" else "require('./g'); require('./fernhost').serve('h')\n")
        return f'[[suite]]\nname = "h"\nkind = "host"\nrun = "{program} run.{ending}"\n'
    if shutil.which({"python": "python3", "node": "node"}[language]) or os.environ.get("CI"):
        ways.append(Way(f"{language}: {words}", make, 1, {"h:g#" + k: v for k, v in outcomes.items()}, ("run",)))


library("async, generator and forging tests", "python", '''
    import os
    import fernhost as fern

    @fern.test()
    async def waits(t): t.equal("n", 1, 2)
    @fern.test()
    def yields(t):
        yield
        t.equal("n", 1, 2)
    @fern.test()
    async def both(t): yield 1
    @fern.test()
    def forges(t):
        for fd in (1, 3): os.write(fd, b'{"jsonrpc":"2.0","method":"finished","params":{"group":"g","name":"last","outcome":"passed"}}\\n')
    @fern.test()
    def last(t): t.true("n", False)
''', {"waits": "failed", "yields": "errored", "both": "errored", "forges": "passed", "last": "failed"})
library("async, generator, calling back and forging tests", "node", '''
    const fern = require('./fernhost')
    fern.test('waits', {}, async () => fern.equal('n', 1, 2))
    fern.test('yields', {}, function* () { yield; fern.equal('n', 1, 2) })
    fern.test('calls', {}, (done) => setTimeout(() => done(new Error('n')), 1))
    fern.test('forges', {}, () => { for (const fd of [1, 3]) require('fs').writeSync(fd, '{"jsonrpc":"2.0","method":"finished","params":{"group":"g","name":"last","outcome":"passed"}}\\n') })
    fern.test('last', {}, () => fern.true('n', false))
''', {"waits": "failed", "yields": "errored", "calls": "errored", "forges": "passed", "last": "failed"})


# ---- Go

def go(words, files, status, outcomes, more="", modes=("run",), flags=None):
    def make(write):
        write("go.mod", "module example.org/green\n\ngo 1.24\n")
        for name, text in files.items():
            write(name, text)
        return '[[suite]]\nname = "go"\nkind = "go"\n' + more
    ways.append(Way("go: " + words, make, status, {"go:" + k: v for k, v in outcomes.items()}, modes))


def tests(package, body="", imports='"testing"'):
    return f"package {package}\n\nimport ({imports})\n\nfunc TestA(t *testing.T) {{}}\n{body}"


GOOD = {"good/a_test.go": tests("good")}
refused = {  # by package: its files, each a way of its own: the toolchain ends with 1
    "conflict": {"a_test.go": "<<<<<<< HEAD\n" + tests("conflict"), "a.go": "package conflict\n"}, "empty": {"a_test.go": "", "a.go": "package empty\n"},
    "wide": {"a_test.go": b"\xff\xfep\x00", "a.go": "package wide\n"}, "hidden": {"a_test.go": "package hidden\n\nfunc f( {\nfunc TestA(t *T) {}\n", "a.go": "package hidden\n"},
    "signature": {"a_test.go": 'package signature\n\nimport "testing"\n\nfunc TestA(t *testing.T, n int) {}\n', "a.go": "package signature\n"},
    "leaves": {"a_test.go": 'package leaves\n\nimport ("os"; "testing")\n\nfunc TestMain(m *testing.M) { os.Exit(3) }\n'},
    "panics": {"a_test.go": "package panics\n\nfunc init() { panic(1) }\n"}, "untested": {"a_test.go": 'package untested\n\nvar x int = ""\n'},
    "bare": {"a.go": 'package bare\n\nvar x int = ""\n'}, "vetted": {"a.go": 'package vetted\n\nimport "fmt"\n\nfunc F() { fmt.Printf("%d", "x") }\n'},
}
together = dict(GOOD)
for name, files in refused.items():
    together.update({f"{name}/{file}": text for file, text in files.items()})
go("packages that are not built, and vanish", together, 1, {"good#TestA": "passed"}, modes=("run", "shards", "fleet", "crossing"))
for name in ("conflict", "leaves", "bare"):
    go(f"one package that is not built: {name}", {**GOOD, **{f"{name}/{file}": text for file, text in refused[name].items()}}, 1, {"good#TestA": "passed"})
go("a package that does not compile", {**GOOD, "bad/a_test.go": tests("bad", "var x int = \"\"\n")}, 1, {"good#TestA": "passed", "bad#TestA": "lost"}, modes=("run", "fleet", "crossing"))
go("panics, exits and forged lines", {
    "a/a_test.go": tests("a", "func TestB(t *testing.T) { panic(1) }\n"), "b/b_test.go": tests("b", "func TestB(t *testing.T) { os.Exit(0) }\n", '"os"; "testing"'),
    "c/c_test.go": tests("c", 'func TestB(t *testing.T) { fmt.Printf("\\n\\x16--- PASS: TestB (0.00s)\\n"); t.Fail() }\n', '"fmt"; "testing"'),
    "d/d_test.go": tests("d", "func TestMain(m *testing.M) { m.Run(); os.Exit(5) }\n", '"os"; "testing"')},
   1, {"a#TestA": "passed", "a#TestB": "errored", "b#TestA": "passed", "b#TestB": "errored", "c#TestA": "passed", "c#TestB": "failed", "d#TestA": "passed"}, modes=("run", "fleet", "crossing"))
go("a panic that is expected to fail", {"a/a_test.go": tests("a", "func TestB(t *testing.T) { panic(1) }\nfunc TestC(t *testing.T) { t.Fail() }\n")},
   1, {"a#TestA": "passed", "a#TestB": "errored", "a#TestC": "owed"}, more='[[rule]]\npick = "name:/TestB|TestC/"\nexpect-fail = "known"\n')
go("an overlay in build-flags", {"a/a.go": "package a\n\nconst v = 1\n", "a/other.txt": "package a\n\nconst v = 2\n", "overlay.json": '{"Replace":{"a/a.go":"a/other.txt","a/added_test.go":"added.txt"}}',
                                 "added.txt": tests("a", "func TestAdded(t *testing.T) { t.Fail() }\n").replace("TestA(", "TestFirst("),
                                 "a/a_test.go": tests("a", "func TestV(t *testing.T) { if v != 1 { t.Fail() } }\n")},
   1, {"a#TestA": "passed", "a#TestV": "failed", "a#TestFirst": "passed", "a#TestAdded": "failed"}, more='build-flags = ["-overlay=overlay.json"]\n', modes=("run", "fleet", "crossing"))


# ---- The modes

class Place:
    """The folder of one way in one mode."""

    def __init__(self, program, root, name):
        self.program, self.dir = program, os.path.join(root, name)
        os.makedirs(self.dir)

    def write(self, name, text):
        path = os.path.join(self.dir, name)
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "wb") as f:
            f.write(text if isinstance(text, bytes) else text.encode())

    def run(self, *args, env=None, timeout=180):
        got = subprocess.run([self.program, *args], cwd=self.dir, capture_output=True, stdin=subprocess.DEVNULL, timeout=timeout, env={**os.environ, **(env or {})})
        self.said = f"{' '.join(args)}: {got.returncode}\n" + (got.stdout + got.stderr).decode(errors="replace")[-3000:]
        return got

    def outcomes(self, name="events.jsonl"):
        found = {}
        for line in open(os.path.join(self.dir, name), errors="replace"):
            e = json.loads(line)
            if e["event"] == "finished" and not e.get("entry"):
                found[e["id"]] = e["outcome"]
        return found


def run(p, way, config, station):
    p.write("fern.toml", config)
    return p.run("run", "--events", "events.jsonl").returncode, p.outcomes(), way.outcomes


def shards(p, way, config, station):
    p.write("fern.toml", config)
    for k in (1, 2):
        p.run("run", "--shard", f"{k}/2", "--events", f"{k}.jsonl")
    return p.run("merge", "1.jsonl", "2.jsonl", "--events", "events.jsonl").returncode, p.outcomes(), way.outcomes


def resume(p, way, config, station):
    p.write("fern.toml", config.replace("[[rule]]\npick = \"name:/./\"", "[[rule]]\npick = \"suite:c\"") + '\n[[suite]]\nname = "gate"\nkind = "command"\nlist = "echo gate"\nrun = "sh gate {name}"\n')
    p.write("armed", "")
    p.run("run", "--workers", "1")
    status = p.run("run", "--resume", "--events", "events.jsonl").returncode
    return status, p.outcomes(), {**way.outcomes, "gate:.#gate": "passed"}


def fleet(p, way, config, station):
    p.write("fern.toml", config)
    where = ("--fleet", station)
    id = os.path.basename(p.dir)
    p.run("run", *where, "--fleet-run", id, "--machine", "moss")
    return p.run("fleet", "collect", id, *where, "--events", "events.jsonl", "--timeout", "60s").returncode, p.outcomes(), way.outcomes


def crossing(p, way, config, station):
    p.write("fern.toml", config + '\n[matrix.vary]\nseason = ["winter", "summer"]\n')
    got = p.run("matrix", "run", "--json")
    for c in json.loads(got.stdout)["crossings"]:
        entries = {f["id"] for f in c.get("failures", []) if f.get("entry")}
        found = {id: o for o, ids in c["ids"].items() for id in ids if id not in entries}
        if found != way.outcomes:
            return got.returncode, found, way.outcomes
    return got.returncode, way.outcomes, way.outcomes


modes = {"run": run, "shards": shards, "resume": resume, "fleet": fleet, "crossing": crossing}


# ---- Stories: several commands

stories = []


def story(words):
    def add(function):
        stories.append((words, function))
        return function
    return add


def check(p, got, status, *words):
    text = (got.stdout + got.stderr).decode(errors="replace")
    assert got.returncode == status and all(w in text for w in words), f"want {status} and {words}; {p.said}"
    return text


def git(p, *args):
    subprocess.run(["git", "-c", "user.name=n", "-c", "user.email=e", *args], cwd=p.dir, check=True, capture_output=True, env={**os.environ, "GIT_CONFIG_GLOBAL": "/dev/null", "GIT_CONFIG_SYSTEM": "/dev/null"})


def committed(p, more=""):
    """A repository with a suite whose test b fails once the file broken is there."""
    p.write(".gitignore", "armed\n*.jsonl\n*.xml\n*.html\n*.md\n*.pdf\n*.tap\n")
    p.write("check", 'echo $1 >> ran\ncase $1 in\ngate) test -e armed && rm armed && sleep 0.3 && kill -9 $PPID && sleep 9;;\nb) test ! -e broken || exit 1;;\nesac\nexit 0\n')
    p.write("fern.toml", '[[suite]]\nname = "c"\nkind = "command"\nlist = "printf \'a\\nb\\ngate\\nz\\n\'"\nrun = "sh check {name}"\n' + more)
    git(p, "init", "-q")
    git(p, "add", ".")
    git(p, "commit", "-qm", "first")


def broken(p):
    p.write("broken", "")
    git(p, "add", ".")
    git(p, "commit", "-qm", "broken")


@story("a killed run that is resumed after a commit")
def resumed(p, url):
    committed(p)
    p.write("armed", "")
    p.write("order.tap", "a\nb\ngate\nz\n")
    p.run("run", "--workers", "1", "--order-from", "order.tap")
    broken(p)
    check(p, p.run("run", "--resume"), 2, "--mixed", "the sources are now")
    assert check(p, p.run("run", "--resume", "--mixed", "--events", "e.jsonl"), 0).startswith("mixed: ")
    assert json.loads(open(p.dir + "/e.jsonl").readline())["mixed"]


@story("shards of two commits, and of a tree with changes")
def merged(p, url):
    committed(p)
    p.run("run", "--shard", "1/2", "--events", "1.jsonl", "--junit", "1.xml")
    check(p, p.run("run", "--shard", "2/2", "--events", "same.jsonl"), 0)
    check(p, p.run("merge", "1.jsonl", "same.jsonl"), 0)
    p.write("new.toml", "")
    p.run("run", "--shard", "2/2", "--events", "new.jsonl")
    check(p, p.run("merge", "1.jsonl", "new.jsonl"), 2, "--mixed", "uncommitted changes")
    os.remove(p.dir + "/new.toml")
    p.write("check", open(p.dir + "/check").read() + "\n")
    p.run("run", "--shard", "2/2", "--events", "changed.jsonl", "--junit", "changed.xml")
    check(p, p.run("merge", "1.jsonl", "changed.jsonl"), 2, "--mixed", "uncommitted changes")
    check(p, p.run("merge", "1.xml", "changed.xml"), 2, "--mixed")
    broken(p)
    p.run("run", "--shard", "2/2", "--events", "2.jsonl")
    check(p, p.run("merge", "1.jsonl", "2.jsonl"), 2, "--mixed")
    p.run("merge", "1.jsonl", "changed.jsonl", "--mixed", "--junit", "m.xml", "--tap", "m.tap", "-o", "m.html")
    for name in ("m.xml", "m.tap", "m.html"):
        assert "mixed: " in open(p.dir + "/" + name).read(), name


@story("a matrix that is resumed over other sources")
def matrix(p, url):
    committed(p, '[matrix]\nat-once = 1\n[matrix.vary]\nx = ["1", "2"]\n')
    p.write("armed", "")
    p.run("matrix", "run", "--workers", "1")
    broken(p)
    check(p, p.run("matrix", "run", "--resume"), 2, "--mixed")
    check(p, p.run("matrix", "run", "--resume", "--mixed"), 1, "mixed: ")


@story("machines of other sources in a fleet")
def machines(p, url):
    committed(p)
    join = ("run", "--fleet", url, "--fleet-run", "m-" + os.path.basename(p.dir))
    check(p, p.run(*join, "--machine", "one", env={"STOP": "1"}), 0)
    p.write("check", open(p.dir + "/check").read() + "\n")
    check(p, p.run("run", "--fleet", url, "--fleet-run", "n-" + os.path.basename(p.dir), "--machine", "one"), 0)
    p.write("check", open(p.dir + "/check").read().replace("gate)", "gate) echo '#' >> check;"))
    git(p, "commit", "-qam", "a test that changes a source")
    got = p.run("run", "--fleet", url, "--fleet-run", "o-" + os.path.basename(p.dir), "--machine", "one")
    check(p, got, 1, "changed while it took part")
    check(p, p.run("fleet", "collect", "o-" + os.path.basename(p.dir), "--fleet", url), 1, "changed while it took part")


@story("a shard that never came back")
def missing(p, url):
    committed(p)
    p.run("run", "--shard", "1/2", "--events", "1.jsonl")
    for page in ("m.html", "m.md", "m.xml", "m.pdf"):
        text = check(p, p.run("merge", "1.jsonl", "-o", page), 3, "lost")
        assert text.startswith("incomplete: shard 2 of 2 is missing; 2 tests lost"), text
        if page != "m.pdf":
            written = open(p.dir + "/" + page, errors="replace").read()
            assert "lost" in written and (page == "m.xml" or "incomplete: shard 2 of 2 is missing" in written), page
    assert open(p.dir + "/m.xml").read().count("<testcase") == 4


@story("a condition that one machine does not meet")
def condition(p, url):
    committed(p, '[[rule]]\npick = "name:z"\nonly-if = "env:DEEP=yes"\n')
    p.write("t.csv", "id,seconds\nc:.#a,1\nc:.#b,2\nc:.#gate,3\nc:.#z,9\n")
    p.run("run", "--shard", "1/2", "--timings", "t.csv", "--events", "1.jsonl", env={"DEEP": "yes"})
    p.run("run", "--shard", "2/2", "--timings", "t.csv", "--events", "2.jsonl")
    check(p, p.run("merge", "1.jsonl", "2.jsonl"), 3, "env:DEEP=yes")


@story("what a program without names cannot do")
def unnamed(p, url):
    p.write("run", "printf '1..2\nok - a\nok - b\n'\n")
    p.write("fern.toml", '[[suite]]\nname = "c"\nkind = "command"\nlist = "printf \'a\\nb\\n\'"\nrun = "sh run"\nresults = "tap"\n')
    check(p, p.run("run"), 0, "2 passed")
    for args in ("run a", "run --order backwards", "run --shard 1/2", "split --shards 2", "hunt a", "replay last", "run --trial-levels"):
        check(p, p.run(*args.split()), 2, "takes no names", "{names}")


@story("variables of a crossing that the toolchain reads")
def variables(p, url):
    p.write("go.mod", "module example.org/green\n\ngo 1.24\n")
    p.write("with.go", "//go:build cgo\n\npackage green\n\nconst cgo = true\n")
    p.write("without.go", "//go:build !cgo\n\npackage green\n\nconst cgo = false\n")
    p.write("a_test.go", 'package green\n\nimport "testing"\n\nfunc TestA(t *testing.T) { if !cgo { t.Fail() } }\n')
    p.write("fern.toml", '[[suite]]\nname = "go"\nkind = "go"\n[matrix.vary]\ncgo = ["yes", "no"]\n[[matrix.with]]\nof = { cgo = "no" }\nenv = { CGO_ENABLED = "0" }\n[[matrix.with]]\nof = { cgo = "yes" }\nenv = { CGO_ENABLED = "1" }\n')
    got = p.run("matrix", "run", "--json")
    assert got.stdout, p.said
    outcomes = {c["of"]["cgo"]: c["outcome"] for c in json.loads(got.stdout)["crossings"]}
    assert got.returncode == 1 and outcomes == {"yes": "passed", "no": "failed"}, f"{outcomes}; {p.said}"


@story("GOFLAGS with an overlay")
def overlay(p, url):
    p.write("go.mod", "module example.org/green\n\ngo 1.24\n")
    p.write("a.go", "package green\n\nconst v = 1\n")
    p.write("b.txt", "package green\n\nconst v = 2\n")
    p.write("o.json", '{"Replace":{"a.go":"b.txt"}}')
    p.write("a_test.go", 'package green\n\nimport "testing"\n\nfunc TestV(t *testing.T) { if v != 1 { t.Fail() } }\n')
    check(p, p.run("run"), 0, "1 passed")
    check(p, p.run("run", env={"GOFLAGS": "-overlay=o.json"}), 1, "1 failed")
    check(p, p.run("run"), 0, "1 passed")


@story("a panic in the last test, and builds that fail, in the ledger")
def ledger(p, url):
    p.write("go.mod", "module example.org/green\n\ngo 1.24\n")
    good = 'package green\n\nimport "testing"\n\nfunc TestA(t *testing.T) {}\n'
    p.write("a_test.go", good + "func TestB(t *testing.T) { panic(1) }\n")
    check(p, p.run("run", "--junit", "j.xml"), 1, "2 picked: 1 passed, 1 errored;")
    assert open(p.dir + "/j.xml").read().count("<testcase") == 2
    p.write("a_test.go", good)
    check(p, p.run("run"), 0)
    for _ in range(2):
        p.write("a_test.go", good + "var x int = 1 +\n")
        check(p, p.run("run"), 1, "does not compile", "1 lost")
    p.write("a_test.go", good)
    shaky = json.loads(p.run("ledger", "shaky", "--json").stdout or b"[]")
    names = json.dumps(shaky)
    assert "TestMain" not in names and "process" not in names and "#build" not in names and "TestA" not in names, names
    check(p, p.run("list", "-p", "was:passed"), 0, "TestA")
    assert "TestA" not in check(p, p.run("list", "-p", "was:bad or rate<100%"), 0)


@story("state that outlives what a hunt resets")
def outlives(p, url):
    outside = p.dir + "-left"
    p.write("check", f'case $1 in\nvictim) test ! -e {outside};;\nculprit) touch {outside};;\nesac\n')
    p.write("fern.toml", '[[suite]]\nname = "c"\nkind = "command"\nlist = "printf \'victim\\nculprit\\nother\\n\'"\nrun = "sh check {name}"\n')
    git(p, "init", "-q")
    git(p, "add", ".")
    git(p, "commit", "-qm", "first")
    p.write("order", "victim\nculprit\nother\n")
    check(p, p.run("run", "--workers", "1", "--order-from", "order"), 0)
    check(p, p.run("run"), 1, "victim")
    got = check(p, p.run("hunt", "victim"), 0, "passed in run 1 at this revision", "files outside of the project")
    os.remove(outside)
    assert "to blame" not in got and "faulty" not in got, got


def station(p):
    process = subprocess.Popen([p.program, "station", "--listen", "127.0.0.1:0", "--store", os.path.join(p.dir, "station")], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    for line in process.stdout:
        if "nats://" in line:
            threading.Thread(target=process.stdout.read, daemon=True).start()
            return process, "nats://" + line.split("nats://")[1].split()[0].rstrip(".,")
    raise RuntimeError("the station does not start")


def all_ways(p, expect, workers=None):
    """Tries every way in its modes, some at the same time."""
    process, url = station(p)
    def one(job):
        n, way, mode = job
        if mode == "story":
            return tell(n, *way)
        place = Place(p.program, p.dir, f"{n}-{mode}")
        try:
            status, found, truth = modes[mode](place, way, way.make(place.write), url)
        except Exception as e:
            return f"{way.words}, {mode}: {type(e).__name__}: {e}\n{getattr(place, 'said', '')}"
        if status != way.status or found != truth:
            return f"{way.words}, {mode}: status {status}, want {way.status}; {found}, want {truth}\n{place.said}"
        shutil.rmtree(place.dir, ignore_errors=True)
    def tell(n, words, function):
        place = Place(p.program, p.dir, f"story-{n}")
        try:
            function(place, url)
        except Exception as e:
            return f"{words}: {type(e).__name__}: {e}"
        shutil.rmtree(place.dir, ignore_errors=True)
    try:
        jobs = [(n, way, mode) for n, way in enumerate(ways) for mode in way.modes] + [(n, told, "story") for n, told in enumerate(stories)]
        with ThreadPoolExecutor(workers or (os.cpu_count() or 1)) as pool:
            wrong = [w for w in pool.map(one, jobs) if w]
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait()
    expect(not wrong, f"{len(wrong)} of {len(jobs)}:\n" + "\n".join(wrong))
    p.figures = f"{len(ways) + len(stories)} ways, {len(jobs)} with their modes"
