"""A test host for Fern Relay: tests in Python, run in any order in one process.

Copy this file beside your tests; it needs Python 3.8 and nothing else. Plain tests are
functions whose names begin with test_, in files that the main program names:

    import fernhost
    fernhost.serve("garden", "test_*.py", "checks/*.py")

The group of a test is its file, its name that of the function. A test passes unless it
raises: a failed check and an AssertionError are failures, anything else is an error. What
it prints becomes its output. A test may be an async function; a generator is an error, as
its body would not run. A file that cannot be imported is an error of its group, and the
others run. With a decorator, a test has tags and rules, and takes what it checks with:

    import fernhost as fern

    @fern.test("quick", needs=["fills_the_pond"])
    def opens_at_dawn(t):
        t.equal("litres", valves.open(3), 5)

    @fern.cases(dry=(0, 0), wet=(3, 9))  # a step each, which can run alone
    def test_flow(litres, want):
        assert valves.flow(litres) == want

    @fern.before                         # each test of this file; also after, before_file, after_file
    def empties_the_tank():
        valves.drain()

The program speaks the protocol fern-host/1, and sends its messages where no test can. For
a hunt it names what tests leave behind, and restores it piece by piece.
"""

import ast
import builtins
import copy
import functools
import gc
import glob
import importlib.util
import inspect
import io
import json
import linecache
import os
import re
import signal
import sys
import threading
import time
import traceback
import types
import warnings

PROTOCOL = "fern-host/1"
CAN = ["state", "restore", "reset", "steps", "side-by-side", "imports", "repair", "sources"]
LONGEST = 2000  # characters of a value that are reported
LOOKS = ("the variables, functions and classes of the project's modules, replaced functions of others, caches, settings of the interpreter"
         " and of logging, decimals, locale, warnings, signals and random numbers, threads, timers, listeners, open databases, the environment and the working folder")

_tests = {}  # (group, name): _Test, as declared
_declared = set()  # their functions
_patterns = ()  # of files with tests that are not imported yet
_broken = []  # files that cannot be imported
_imported = set()  # the absolute paths of those that were looked for tests
_sources = {}  # other contents of files, by their absolute paths
_watched = []  # more modules whose variables are reported
_resets = []  # what makes the state fresh again
_around = {}  # (module, when): functions that run before or after its tests or its file
_open_file = None  # the module whose before_file ran last
_kept = {}  # (kind, name): what puts the state back to when it was asked for last


class Skip(Exception):
    """Raised by a test that finds that it cannot run here."""


class Failed(AssertionError):
    """A check that failed, with both sides if it compared."""

    def __init__(self, message, expected=None, actual=None):
        super().__init__(message)
        self.expected, self.actual = expected, actual


class T:
    """What a test checks with."""

    def __init__(self, report, steps=()):
        self._report = report
        self._steps = steps  # the only ones that run; all if empty
        self._inside = False  # of one of them

    def equal(self, what, actual, expected):
        """Fails unless the two are equal."""
        if actual != expected:
            raise Failed("%s: got %r, want %r" % (what, actual, expected), repr(expected), repr(actual))

    def true(self, what, condition):
        """Fails unless the condition holds."""
        if not condition:
            raise Failed(what)

    def skip(self, reason):
        """Ends the test as skipped."""
        raise Skip(reason)

    def step(self, name, body, *args):
        """Runs a part of the test that is reported by its own name."""
        if self._steps and not self._inside and name not in self._steps:
            return
        inside, self._inside = self._inside, True
        began = time.monotonic()
        result = {"outcome": "passed"}
        try:
            _refuse(body(*args))
        except Skip:
            result = {"outcome": "skipped"}
        except BaseException as error:
            result = {"outcome": "failed", "message": _words(error)}
            raise
        finally:
            self._inside = inside
            self._report("step", step=name, seconds=time.monotonic() - began, **result)


class _Test:
    def __init__(self, body, tags=(), rules=None, group="", uses=(), timeout=0):
        source = inspect.unwrap(body)
        self.uses, self.timeout = list(uses), timeout
        self.body, self.tags, self.rules, self.module = body, list(tags), rules or {}, source.__module__
        self.path = inspect.getsourcefile(source)
        self.group = group or os.path.splitext(os.path.basename(self.path))[0]
        self.name = body.__name__
        self.file = os.path.relpath(self.path).replace(os.sep, "/")
        self.line = source.__code__.co_firstlineno

    def declare(self):
        if (self.group, self.name) in _tests:
            raise ValueError("the group %s has two tests named %s" % (self.group, self.name))
        _tests[self.group, self.name] = self
        _declared.add(self.body)


def test(tags="", group="", uses=(), timeout=0, **rules):
    """Declares a test, with tags in one string and rules by their names: skip, lone,
    expect_fail and only_if take a text; needs, after and holds a list of names. A change
    of a file that it uses touches it; timeout is in seconds."""
    words = {key.replace("_", "-"): value for key, value in rules.items()}

    def declare(body):
        _Test(body, sorted(set(tags.split())), words, group, uses, timeout).declare()
        return body

    return declare


def cases(**named):
    """Runs a test once with the arguments of each name, as a step of that name. All run, and
    the first that fails is the failure of the test."""

    def declare(body):
        @functools.wraps(body)
        def each(t):
            first = None
            for name, args in named.items():
                try:
                    t.step(name, lambda: _finish(body(*args if isinstance(args, tuple) else (args,))))
                except Exception as error:
                    first = first or error
            if first:
                raise first

        each.takes_checks = True
        return each

    return declare


def _declare_around(when):
    def declare(body):
        _around.setdefault((body.__module__, when), []).append(body)
        return body

    return declare


before, after = _declare_around("before"), _declare_around("after")
before_file, after_file = _declare_around("before_file"), _declare_around("after_file")


def watch(module):
    """Has the variables of a module outside the project's folder reported, so that a hunt can see what a test left."""
    if module not in _watched:
        _watched.append(module)


def on_reset(body):
    """Declares what makes the state as fresh as in a new process. Without any, a new
    process is begun instead."""
    _resets.append(body)
    return body


class _Bytes(io.RawIOBase):
    """Takes what a test writes past the text of the standard output."""

    def __init__(self, report):
        super().__init__()
        self._report = report

    def writable(self):
        return True

    def write(self, data):
        if data:
            self._report(bytes(data).decode("utf-8", "replace"))
        return len(data)


class _Output(io.TextIOBase):
    """Stands in for the standard output while a test runs. Threads that outlive the test
    may still write to it."""

    encoding = "utf-8"

    def __init__(self, report):
        super().__init__()
        self._report, self.buffer = report, _Bytes(report)

    def writable(self):
        return True

    def write(self, text):
        if text:
            self._report(text.encode("utf-8", "replace").decode())
        return len(text)


def serve(name, *patterns):
    """Answers requests until bye, or until the input ends. The patterns name files with
    plain tests, which are imported when they are asked for."""
    global _patterns
    _patterns = patterns
    out, secret = os.fdopen(os.dup(1), "w", encoding="utf-8", newline="\n"), ""
    os.dup2(2, 1)  # what programs print that a test starts is no message
    turn = threading.Lock()

    def send(message):
        text = secret + json.dumps({"jsonrpc": "2.0", **message}) + "\n"
        with turn:
            out.write(text)
            out.flush()

    for line in io.TextIOWrapper(sys.stdin.buffer, encoding="utf-8"):
        request = json.loads(line)
        params = request.get("params") or {}
        try:
            send({"id": request["id"], "result": _answer(name, request["method"], params, send)})
        except Exception as error:
            send({"id": request["id"], "error": {"code": 1, "message": str(error) or type(error).__name__}})
        if request["method"] == "hello" and "channel" in params:
            os.set_inheritable(params["channel"]["descriptor"], False)
            out.close()
            out = os.fdopen(params["channel"]["descriptor"], "w", encoding="utf-8", newline="\n")
            secret = params["channel"]["secret"] + " "
        if request["method"] == "bye":
            return


def _answer(name, method, params, send):
    if method == "hello":
        _sources.update((os.path.abspath(path), text) for path, text in params.get("sources", {}).items())
        return {"protocol": PROTOCOL, "name": name, "channel": "channel" in params, "looks": LOOKS, "can": CAN}
    if method == "bye":
        return {}
    if method == "restore":
        _restore(params["kind"], params["name"])
        return {}
    if method == "reset":
        if not _resets:
            raise RuntimeError("nothing says how to make the state fresh: a new process is needed")
        for body in _resets:
            body()
        return {}
    _import_tests()
    if method == "discover":
        listed = [{"group": t.group, "name": t.name, "file": t.file, "line": t.line, "tags": t.tags, "rules": t.rules, "uses": t.uses, "timeout": t.timeout} for t in _tests.values()]
        return {"tests": listed, "broken": _broken}
    if method == "imports":
        return {"imports": _imports({t.path for t in _tests.values()} | {os.path.join(_home, b["file"]) for b in _broken})}
    if method == "repair":
        return {"contents": _repairs(_known(params), params["changed"], params.get("set"))}
    _remember_others()
    if method == "run":
        for asked in params["tests"]:
            _run(_known(asked), asked, send)
        _leave_file()
        return {}
    if method == "state":
        return {"values": [value.report() for value in _state()]}
    raise ValueError("there is no method %r" % method)


def _known(asked):
    if (asked["group"], asked["name"]) not in _tests:
        raise LookupError("there is no test %s of group %s" % (asked["name"], asked["group"]))
    return _tests[asked["group"], asked["name"]]


def _import_tests():
    """Imports the files of the patterns once, and declares their plain tests."""
    global _patterns
    patterns, _patterns = _patterns, ()
    with _Observed():
        _import_files(patterns)


def _import_files(patterns):
    for path in dict.fromkeys(path for pattern in patterns for path in sorted(glob.glob(pattern, recursive=True))):
        if os.path.abspath(path) == os.path.abspath(__file__):
            continue
        group = os.path.splitext(path)[0].replace(os.sep, "/")
        try:
            module = _import(path, group)
            for key, body in list(vars(module).items()):
                if key.startswith("test_") and inspect.isfunction(body) and inspect.unwrap(body).__module__ == module.__name__ and body not in _declared:
                    _Test(body, rules=_unasked(body), group=group).declare()
        except BaseException as error:  # also what would end the process
            broken = {"group": group, "file": path.replace(os.sep, "/"), "line": 1, "message": "it cannot be imported: %s: %s" % (type(error).__name__, error)}
            for frame in traceback.extract_tb(error.__traceback__):
                if os.path.abspath(frame.filename) == os.path.abspath(path):
                    broken["line"] = frame.lineno
            if isinstance(error, SyntaxError) and error.filename and os.path.abspath(error.filename) == os.path.abspath(path):
                broken["line"] = error.lineno or 1
            _broken.append(broken)


# Which files of the project import which, as their source says and as was seen when the tests were imported: a change touches the tests
# that import it.

_seen = {}  # by file: the files that it imported, all absolute


class _Observed:
    """Notes who imports what meanwhile, also by a name that is computed."""

    def __enter__(self):
        self.statement, self.function = builtins.__import__, importlib.import_module

        def statement(name, globals=None, locals=None, fromlist=(), level=0):
            module = self.statement(name, globals, locals, fromlist, level)
            named = module if fromlist else sys.modules.get(name, module)
            self.note(globals or sys._getframe(1).f_globals, [named] + [getattr(named, part, None) for part in fromlist or ()])
            return module

        def function(name, package=None):
            module = self.function(name, package)
            self.note(sys._getframe(1).f_globals, [module])
            return module

        builtins.__import__, importlib.import_module = statement, function

    def note(self, importer, modules):
        path = importer and importer.get("__file__")
        if not path:
            return
        for module in modules:
            if not isinstance(module, types.ModuleType):
                continue
            parts = module.__name__.split(".")
            for n in range(1, len(parts) + 1):
                file = getattr(sys.modules.get(".".join(parts[:n])), "__file__", None)
                if file:
                    _seen.setdefault(os.path.abspath(path), set()).add(os.path.abspath(file))

    def __exit__(self, *_):
        builtins.__import__, importlib.import_module = self.statement, self.function


def _imports(files):
    """The files that each of some files imports, and those that these import, relative to the working folder."""
    graph, first, main = {}, {os.path.abspath(path) for path in files}, os.path.abspath(sys.argv[0])
    waiting = sorted(first)
    while waiting:
        path = waiting.pop()
        if path in graph:
            continue
        found = {other for other in _seen.get(path, ()) if other.startswith(_home + os.sep)}
        try:
            with open(path, "rb") as file:
                tree = ast.parse(file.read())
            found |= {other for name in _imported_names(tree, path) for other in _files_of(name, os.path.dirname(path))}
        except (OSError, SyntaxError, ValueError):
            pass  # it is deleted or broken
        found -= {path}
        graph[path] = sorted(found | ({main} if path in first else set()))
        waiting += found
    return {_below(path): [_below(other) for other in others] for path, others in graph.items()}


def _below(path):
    return os.path.relpath(path, _home).replace(os.sep, "/")


def _imported_names(tree, path):
    """The names of modules that a source may import, absolute, and those of their parents."""
    waiting = list(tree.body)
    while waiting:
        node, names = waiting.pop(), []
        for part in ("body", "orelse", "finalbody", "handlers", "cases"):  # no expression has an import in it
            waiting += getattr(node, part, ()) if isinstance(node, (ast.stmt, ast.excepthandler)) or part == "body" and hasattr(node, "pattern") else ()
        if isinstance(node, ast.Import):
            names = [alias.name for alias in node.names]
        elif isinstance(node, ast.ImportFrom):
            base = node.module or ""
            if node.level:
                folder = os.path.dirname(path)
                for _ in range(node.level - 1):
                    folder = os.path.dirname(folder)
                base = os.path.join(folder, *base.split(".")) if base else folder  # a path, as its name is not known
            names = [base] + [os.path.join(base, alias.name) if node.level else "%s.%s" % (base, alias.name) for alias in node.names]
        for name in names:
            parts = [name] if os.path.isabs(name) else name.split(".")
            yield from (".".join(parts[: n + 1]) for n in range(len(parts)))


@functools.lru_cache(maxsize=None)
def _files_of(name, folder):
    """The files of the project that a module of a name may be in, as a file in a folder imports it, also if they are deleted."""
    if os.path.isabs(name):
        roots, tail = [""], name
    else:
        roots, tail = [folder] + [root for root in sys.path if os.path.isabs(root)], os.path.join(*name.split("."))
    missing = []
    for root in dict.fromkeys(roots):
        for file in (os.path.join(root, tail) + ".py", os.path.join(root, tail, "__init__.py")):
            if not file.startswith(_home + os.sep):
                continue
            if os.path.exists(file):
                return [file]
            missing.append(file)
    return missing if not os.path.isabs(name) and name.split(".")[0] not in sys.modules else []


def _unasked(body):
    """The rule that skips a plain test with arguments that nobody passes; none for other tests."""
    names = [] if hasattr(body, "takes_checks") else [name for name in inspect.signature(body).parameters if name != "t"]
    return {"skip": "it takes %s, which nobody passes: make it a test of fern.cases" % ", ".join(names)} if names else {}


def _import(path, group):
    folder = os.path.dirname(os.path.abspath(path))
    if folder not in sys.path:
        sys.path.insert(0, folder)
    name = os.path.basename(group)
    if name in sys.modules:
        name = group.replace("/", ".")
    spec = importlib.util.spec_from_file_location(name, path)
    module = sys.modules[name] = importlib.util.module_from_spec(spec)
    try:
        _imported.add(os.path.abspath(path))
        if os.path.abspath(path) in _sources:
            exec(compile(_sources[os.path.abspath(path)], path, "exec"), vars(module))
        else:
            spec.loader.exec_module(module)
    except BaseException:
        del sys.modules[name]
        raise
    return module


def _run(asked_for, asked, send):
    over = False

    def report(method, **more):
        send({"method": method, "params": {"group": asked["group"], "name": asked["name"], **more}})

    def output(text):
        if not text:
            return
        if over:
            sys.__stderr__.write(text)  # of a thread that outlives the test
        else:
            report("output", text=text)

    report("started")
    printed, sys.stdout = sys.stdout, _Output(output)
    ours = sys.stdout
    began = time.monotonic()
    result = {"outcome": "passed"}
    try:
        _enter_file(asked_for)
        try:
            _call_around(asked_for.module, "before")
            takes = getattr(asked_for.body, "takes_checks", False) or inspect.signature(asked_for.body).parameters
            _finish(asked_for.body(T(report, asked.get("steps") or ())) if takes else asked_for.body())
        finally:
            _call_around(asked_for.module, "after")
    except BaseException as error:  # also what would end the process
        result = _verdict(error, asked_for)
        if result["outcome"] != "skipped":
            output(_stack(error, asked_for))
    finally:
        over = True
        if sys.stdout is ours:
            sys.stdout = printed
    report("finished", seconds=time.monotonic() - began, **result)


def _verdict(error, of):
    if isinstance(error, Skip):
        return {"outcome": "skipped", "message": str(error)}
    if not isinstance(error, AssertionError):
        return {"outcome": "errored", "class": type(error).__name__, "message": str(error), **_place(error, of)}
    result = {"outcome": "failed", "message": _words(error), **_place(error, of)}
    if isinstance(error, Failed) and error.expected is not None:
        result.update(expected=error.expected, actual=error.actual)
    elif not str(error):
        result.update(_sides(error))
    return result


def _call_around(module, when):
    for body in _around.get((module, when), ()):
        _finish(body())


def _enter_file(asked_for):
    global _open_file
    if _open_file != asked_for.module:
        _leave_file()
        _call_around(asked_for.module, "before_file")
        _open_file = asked_for.module


def _leave_file():
    global _open_file
    left, _open_file = _open_file, None
    _call_around(left, "after_file")


def _finish(returned):
    """Runs what an async function returned, and refuses what nobody would run."""
    if inspect.isawaitable(returned):
        import asyncio  # which takes as long as all the rest

        async def awaited():
            return await returned

        returned = asyncio.run(awaited())
    _refuse(returned)


def _refuse(returned):
    """Raises if a body returned something that has not run yet."""
    if inspect.isawaitable(returned):
        returned.close()
        raise TypeError("the body of a step is an async function, which nothing awaits: await its parts in the test")
    if inspect.isgenerator(returned) or inspect.isasyncgen(returned):
        raise TypeError("it is a generator, and its body did not run: remove yield")


def _place(error, of):
    """The deepest line of the test's own file that the error came through."""
    place = {"file": of.file, "line": of.line}
    for frame in traceback.extract_tb(error.__traceback__):
        if frame.filename == of.path:
            place["line"] = frame.lineno
    return place


def _stack(error, of):
    """The stack of an error without the frames of this file; empty if it has nothing but the test's own line."""
    lines = traceback.TracebackException.from_exception(error)
    lines.stack = traceback.StackSummary.from_list([f for f in lines.stack if f.filename != __file__])
    if len(lines.stack) < 2 and not lines.__cause__ and all(f.filename == of.path for f in lines.stack):
        return ""
    return "".join(lines.format())


# A failed assert statement has no words: these are the ones of its line.


def _asserted(error):
    """The assert statement that failed and its frame; None if another statement raised the error."""
    trace = error.__traceback__
    while trace and trace.tb_next:
        trace = trace.tb_next
    if trace is None:
        return None, None
    try:
        tree = ast.parse("".join(linecache.getlines(trace.tb_frame.f_code.co_filename)))
    except SyntaxError:
        return None, None
    for node in ast.walk(tree):
        if isinstance(node, ast.Assert) and node.lineno <= trace.tb_lineno <= (node.end_lineno or node.lineno):
            return node, trace.tb_frame
    return None, None


def _valued(node, frame):
    """The value of a name, an attribute of a name or a constant; raises LookupError for what would have to run."""
    if isinstance(node, ast.Constant):
        return node.value
    if isinstance(node, ast.Name):
        if node.id in frame.f_locals:
            return frame.f_locals[node.id]
        return frame.f_globals[node.id]
    if isinstance(node, ast.Attribute):
        return vars(_valued(node.value, frame))[node.attr]
    raise LookupError


def _shown(value):
    try:
        return repr(value)[:LONGEST]
    except Exception as error:
        return "cannot be shown: %s" % error


def _words(error):
    """The words of an error: its own, or the assert statement with the values of the names in it."""
    if str(error) or not isinstance(error, AssertionError):
        return str(error) or type(error).__name__
    node, frame = _asserted(error)
    if node is None:
        return "assertion failed"
    source = "".join(linecache.getlines(frame.f_code.co_filename))
    words = " ".join((ast.get_source_segment(source, node) or "assertion failed").split())
    values = []
    for part in ast.walk(node.test):
        if isinstance(part, ast.Name):
            try:
                value = _valued(part, frame)
            except (LookupError, TypeError):
                continue
            if not callable(value) and not isinstance(value, types.ModuleType):
                values.append("%s = %s" % (part.id, _shown(value)[:200]))
    return words + ("" if not values else ", where " + ", ".join(dict.fromkeys(values)))


def _sides(error):
    """Both sides of a failed assert of two values that are equal or not; empty if they would have to run."""
    node, frame = _asserted(error)
    if node is None or not isinstance(node.test, ast.Compare) or len(node.test.ops) != 1 or not isinstance(node.test.ops[0], ast.Eq):
        return {}
    try:
        return {"actual": _shown(_valued(node.test.left, frame)), "expected": _shown(_valued(node.test.comparators[0], frame))}
    except (LookupError, TypeError):
        return {}


# What tests leave behind.


class _Value:
    """A piece of state: put_back makes it what it is now, remove undoes it if it was not there before."""

    def __init__(self, kind, name, text, put_back=None, remove=None):
        self.kind, self.name, self.text, self.put_back, self.remove = kind, name, text, put_back, remove

    def report(self):
        value = {"kind": self.kind, "name": self.name, "value": self.text[:LONGEST]}
        if len(self.text) > LONGEST:
            value["sum"] = "%x" % hash_of(self.text)
        return value


def hash_of(text):
    """A number that differs for texts that differ, and is the same in every process."""
    import zlib

    return zlib.crc32(text.encode("utf-8", "replace"))


_ADDRESS = re.compile(r" at 0x[0-9a-fA-F]+")


def _text(value, depth=6, seen=()):
    """A value in words that are the same in every process: deep, sorted and without addresses."""
    if depth == 0 or id(value) in seen:
        return "…"
    seen = seen + (id(value),)
    inner = lambda other: _text(other, depth - 1, seen)  # noqa: E731
    kind = type(value)
    if kind in (dict, types.MappingProxyType) or isinstance(value, dict):
        return "{%s}" % ", ".join(sorted("%s: %s" % (inner(key), inner(item)) for key, item in value.items()))
    if isinstance(value, (set, frozenset)):
        return "{%s}" % ", ".join(sorted(map(inner, value)))
    if isinstance(value, (list, tuple)):
        return "%s%s%s" % ("[" if isinstance(value, list) else "(", ", ".join(map(inner, value)), "]" if isinstance(value, list) else ")")
    if inspect.isroutine(value) or isinstance(value, type):
        code = getattr(value, "__code__", None)
        where = " (%s:%d)" % (os.path.basename(code.co_filename), code.co_firstlineno) if code else ""
        return "%s.%s%s" % (getattr(value, "__module__", None) or "builtins", getattr(value, "__qualname__", kind.__name__), where)
    if isinstance(value, types.ModuleType):
        return "module %s" % value.__name__
    if kind.__repr__ is object.__repr__:
        return "%s(%s)" % (kind.__qualname__, ", ".join("%s=%s" % (key, inner(item)) for key, item in sorted(getattr(value, "__dict__", {}).items())))
    try:
        return _ADDRESS.sub("", repr(value))
    except Exception as error:
        return "cannot be shown: %s" % error


def _filled(value, saved):
    """The value with the content of its copy: the same object, if it can change."""
    if isinstance(value, (dict, set)) and type(value) is type(saved):
        value.clear()
        value.update(saved)
    elif isinstance(value, (list, bytearray)) and type(value) is type(saved):
        value[:] = saved
    elif hasattr(value, "__dict__") and type(value) is type(saved) and not isinstance(value, (type, types.ModuleType)) and not inspect.isroutine(value):
        value.__dict__.clear()
        value.__dict__.update(saved.__dict__)
    else:
        return value
    return value


def _held(kind, name, owner, key, value):
    """The piece of state that an owner holds under a key, such as a variable of a module."""

    def remove():
        delattr(owner, key)

    try:
        saved = value if inspect.isroutine(value) or isinstance(value, type) else copy.deepcopy(value)
    except Exception:
        return _Value(kind, name, _text(value), None, remove)  # it cannot be put back
    return _Value(kind, name, _text(value), lambda: setattr(owner, key, _filled(value, saved)), remove)


def _is_ours(module):
    path = getattr(module, "__file__", None)
    if not path or path == __file__ or "site-packages" in path:
        return module in _watched
    return os.path.abspath(path).startswith(_home + os.sep) or module in _watched


_home = os.path.abspath(os.getcwd())


def _modules():
    return [(name, module) for name, module in sorted(sys.modules.copy().items()) if isinstance(module, types.ModuleType)]


def _of_project():
    """The variables, functions and classes of the project's modules."""
    for _, module in _modules():
        if module.__name__ == "__main__" or not _is_ours(module):
            continue
        for key, value in sorted(vars(module).items()):
            name = "%s.%s" % (module.__name__, key)
            if key.startswith("__") or isinstance(value, types.ModuleType):
                continue
            if hasattr(value, "cache_info") and hasattr(value, "cache_clear"):
                yield _Value("cache", name, "%d entries" % value.cache_info().currsize, value.cache_clear if not value.cache_info().currsize else None)
                yield _held("function", name, module, key, value)
            elif (module.__name__, key) in _callables:  # also if it is something else now
                yield _held("function", name, module, key, value)
                if isinstance(value, type) and value.__module__ == module.__name__:
                    yield from _of_class(name, value)
            elif type(value).__module__ == "logging":
                continue  # a setting
            elif hasattr(value, "__dict__") and not callable(value) and type(value).__module__ != "builtins":
                yield from _of_object(name, module, key, value)
            elif not callable(value):
                yield _held("variable", name, module, key, value)


def _of_class(name, owner):
    for key, value in sorted(vars(owner).items()):
        if key.startswith("__") and key not in ("__init__", "__call__", "__enter__", "__exit__", "__iter__") or isinstance(value, (types.GetSetDescriptorType, types.MemberDescriptorType)):
            continue
        yield _held("attribute", "%s.%s" % (name, key), owner, key, value)


def _of_object(name, owner, key, value):
    """An object and each of its attributes, such as those of a settings object."""
    yield _Value("variable", name, "a %s" % type(value).__qualname__, lambda: setattr(owner, key, value))
    for inner, item in sorted(vars(value).items()):
        yield _held("attribute", "%s.%s" % (name, inner), value, inner, item)


_callables = {}  # (module, name): functions and classes of all modules before the first test
_others = {}  # (module, class): functions of the classes of other modules


def _remember_others():
    """Remembers the functions and classes of all modules, before the first test runs."""
    if _callables:
        return
    for name, module in _modules():
        for key, value in list(vars(module).items()):
            if callable(value):
                _callables[module.__name__, key] = value
                if isinstance(value, type) and value.__module__ == name and not _is_ours(module):
                    _others[value] = {k: v for k, v in list(vars(value).items()) if inspect.isroutine(v)}


def _of_others():
    """Functions of other modules, and of their classes, that are replaced."""
    for _, module in _modules():
        if _is_ours(module):
            continue
        for key, value in list(vars(module).items()):
            was = _callables.get((module.__name__, key), value)
            if was is not value:
                yield _Value("function", "%s.%s" % (module.__name__, key), _text(value), None, functools.partial(setattr, module, key, was))
    for owner, functions in list(_others.items()):
        for key, was in functions.items():
            if vars(owner).get(key, was) is not was:
                yield _Value("function", "%s.%s.%s" % (owner.__module__, owner.__qualname__, key), _text(vars(owner)[key]), None, functools.partial(setattr, owner, key, was))


def _setting(name, text, put_back):
    return _Value("setting", name, text, put_back)


def _of_interpreter():
    """Settings that all tests of a process share."""
    path, argv, limit, filters = list(sys.path), list(sys.argv), sys.getrecursionlimit(), list(warnings.filters)
    yield _setting("sys.path", _text(path), lambda: sys.path.__setitem__(slice(None), path))
    yield _setting("sys.argv", _text(argv), lambda: sys.argv.__setitem__(slice(None), argv))
    yield _setting("recursion limit", str(limit), lambda: sys.setrecursionlimit(limit))

    def filter_again():
        warnings.filters[:] = filters
        warnings._filters_mutated() if hasattr(warnings, "_filters_mutated") else None

    yield _setting("warnings.filters", _text(filters), filter_again)
    mask = os.umask(0)
    os.umask(mask)
    yield _setting("umask", oct(mask), lambda: os.umask(mask))
    collects = gc.isenabled()
    yield _setting("garbage collection", "on" if collects else "off", gc.enable if collects else gc.disable)
    if threading.current_thread() is threading.main_thread():
        for number in ("SIGINT", "SIGTERM", "SIGHUP", "SIGUSR1", "SIGUSR2", "SIGALRM", "SIGCHLD", "SIGPIPE"):
            if hasattr(signal, number):
                handler = signal.getsignal(getattr(signal, number))
                yield _setting("signal " + number, _text(handler), functools.partial(signal.signal, getattr(signal, number), handler) if handler else None)
    loaded = sys.modules.get
    if loaded("decimal"):
        context = loaded("decimal").getcontext().copy()
        yield _setting("decimal context", "%d digits, %s, %s" % (context.prec, context.rounding, _text(sorted(str(k) for k, on in context.traps.items() if on))), lambda: loaded("decimal").setcontext(context.copy()))
    if loaded("locale"):
        spoken = loaded("locale").setlocale(loaded("locale").LC_ALL)
        yield _setting("locale", spoken, lambda: loaded("locale").setlocale(loaded("locale").LC_ALL, spoken))
    if loaded("socket"):
        timeout = loaded("socket").getdefaulttimeout()
        yield _setting("socket timeout", _text(timeout), lambda: loaded("socket").setdefaulttimeout(timeout))
    if loaded("random"):
        state = loaded("random").getstate()
        yield _setting("random numbers", "the state %x" % hash_of(repr(state)), lambda: loaded("random").setstate(state))
    if loaded("logging"):
        yield from _of_logging(loaded("logging"))


def _of_logging(logging):
    yield _setting("logging disabled up to", str(logging.root.manager.disable), functools.partial(logging.disable, logging.root.manager.disable))
    loggers = [("root", logging.root)] + [(name, logger) for name, logger in sorted(logging.root.manager.loggerDict.items()) if isinstance(logger, logging.Logger)]
    for name, logger in loggers:
        level, handlers, spreads, off = logger.level, list(logger.handlers), logger.propagate, logger.disabled

        def back(logger=logger, level=level, handlers=handlers, spreads=spreads, off=off):
            logger.setLevel(level)
            logger.handlers[:] = handlers
            logger.propagate, logger.disabled = spreads, off

        text = "%s, %s%s%s" % (logging.getLevelName(level), "handlers " + ", ".join(type(h).__name__ for h in handlers) if handlers else "no handlers", "" if spreads else ", apart", ", off" if off else "")
        if logger is logging.root or text != "NOTSET, no handlers":
            plain = functools.partial(back, logger, 0, [], True, False)
            yield _Value("setting", "logger " + name, text, back, plain)


def _of_objects():
    """Threads, timers, listeners and open databases."""
    for thread in threading.enumerate():
        if thread is threading.main_thread():
            continue
        target = getattr(thread, "function", None) or getattr(thread, "_target", None)
        what = _text(target) if target else type(thread).__qualname__
        if isinstance(thread, threading.Timer):
            yield _Value("timer", what, "waiting", None, thread.cancel)
        else:
            yield _Value("thread", what, "running")
    socket, sqlite3 = sys.modules.get("socket"), sys.modules.get("sqlite3")
    if not socket and not sqlite3:
        return
    for held in gc.get_objects():
        try:
            if socket and issubclass(type(held), socket.socket) and held.fileno() >= 0 and held.getsockopt(socket.SOL_SOCKET, socket.SO_ACCEPTCONN):
                yield _Value("listener", "%s:%s" % tuple(map(str, held.getsockname()[:2])) if isinstance(held.getsockname(), tuple) else str(held.getsockname()), "listening", None, held.close)
            elif sqlite3 and issubclass(type(held), sqlite3.Connection):
                file = held.execute("PRAGMA database_list").fetchone()[2]
                yield _Value("file", "sqlite " + (os.path.basename(file) or "in memory"), "open" + (", in a transaction" if held.in_transaction else ""), None if held.in_transaction else held.rollback, held.close)
        except Exception:
            continue  # it is closed, or belongs to another thread


def _of_system():
    for key, value in sorted(os.environ.items()):
        yield _Value("environment", key, value, functools.partial(os.environ.__setitem__, key, value), functools.partial(os.environ.pop, key, None))
    folder = os.getcwd()
    yield _Value("folder", "working folder", folder, lambda: os.chdir(folder))


def _state():
    """What tests could leave behind, each piece once. What puts it back is kept."""
    global _kept
    values = {}
    for part in (_of_project, _of_others, _of_interpreter, _of_objects, _of_system):
        for value in part():
            values.setdefault((value.kind, value.name), value)
    _kept = values
    return values.values()


def _restore(kind, name):
    """Puts one piece of state back to what it was when the state was asked for last."""
    kept = _kept
    if (kind, name) in kept:
        back = kept[kind, name].put_back
    else:
        _state()
        back = _kept[kind, name].remove if (kind, name) in _kept else lambda: None  # it is gone already
        globals()["_kept"] = kept
    if back is None:
        raise KeyError("the %s %s cannot be put back" % (kind, name))
    back()


# Repairs: other contents of a test's file, in which the test restores what it leaves. A hunt tries them.


class _Around:
    """Lines around the body of a test: enter opens a with statement; save comes before, begin first within try, and restore in finally."""

    def __init__(self, save=(), restore=(), enter="", imports=(), begin=()):
        self.save, self.restore, self.enter, self.imports, self.begin = list(save), list(restore), enter, list(imports), list(begin)


class _Cannot(Exception):
    """Says why a piece of state is not restored by a repair."""


def _repairs(of, changed, sets):
    """Contents of the file in which the test restores each of the pieces of state, or else sets them up for itself, the most natural first."""
    if os.path.abspath(of.path) not in _imported:
        raise _Cannot("no other content of %s can be tried, as the main program does not name it in serve" % of.file)
    source = _Source(of)
    pieces = []
    for piece in changed:
        try:
            ways = _ways(source, piece["kind"], piece["name"], piece.get("before"), piece.get("after") or "")
            pieces.append([_set(source, way, piece) for way in ways[-1:]] if sets else ways)
        except _Cannot as reason:
            raise _Cannot("%s %s: %s" % (piece["kind"], piece["name"], reason))
    contents = []
    for way in range(max(map(len, pieces), default=0)):
        chosen = [ways[min(way, len(ways) - 1)] for ways in pieces]
        for statement in (0,) if sets else (source.first_that_mentions(changed), 0):  # what changes it may be in a function that is called earlier
            content = source.surrounded(statement, chosen)
            if content not in contents:
                contents.append(content)
    return contents


def _ways(source, kind, name, before, after):
    """The ways to restore a piece of state, the most natural first."""
    if kind in ("variable", "attribute", "function"):
        return _ways_of_owned(source, name)
    if kind == "cache":
        expression, imports = source.expression(name)
        clear = [expression + ".cache_clear()"]
        return [_Around(restore=clear, imports=imports), _Around(clear, clear, imports=imports)]
    if kind == "environment":
        old = source.free("old_" + name)
        key = source.quoted(name)
        return [_Around(["%s = os.environ.get(%s)" % (old, key)], ["if %s is None:" % old, "\tos.environ.pop(%s, None)" % key, "else:", "\tos.environ[%s] = %s" % (key, old)], imports=["os"])]
    if kind == "folder":
        return [_saved(source, "old_folder", "os.getcwd()", "os.chdir(%s)", "os")]
    if kind == "file" and not name.startswith("sqlite "):
        path = source.quoted(name)
        if before is not None:
            old = source.free("old_content")
            return [_Around(["%s = pathlib.Path(%s).read_bytes()" % (old, path)], ["pathlib.Path(%s).write_bytes(%s)" % (path, old)], imports=["pathlib"])]
        if "folder" in after:
            return [_Around(restore=["shutil.rmtree(%s, ignore_errors=True)" % path], imports=["shutil"])]
        return [_Around(restore=["pathlib.Path(%s).unlink()" % path], imports=["pathlib"])]
    if kind == "setting":
        return [_way_of_setting(source, name, before or "NOTSET, no handlers", after)]
    raise _Cannot("a %s is not restored by a patch" % kind)


def _set(source, way, piece):
    """The way to restore a piece of state, which first gets the value that others leave."""
    if piece["kind"] == "environment" and "after" in piece:
        return _Around(way.save, way.restore, imports=way.imports, begin=["os.environ[%s] = %s" % (source.quoted(piece["name"]), source.quoted(piece["after"]))])
    try:
        value = ast.literal_eval(piece.get("after") or "")
    except (SyntaxError, ValueError):
        raise _Cannot("only the environment and simple values are set up by a patch")
    expression, _ = source.expression(piece["name"])
    return _Around(way.save, way.restore, imports=way.imports, begin=["%s = %s" % (expression, source.quoted(value) if isinstance(value, str) else repr(value))])


def _saved(source, name, save, restore, *imports):
    old = source.free(name)
    return _Around(["%s = %s" % (old, save)], [restore % old], imports=imports)


def _ways_of_owned(source, name):
    """The ways to restore what an owner holds: by the same object, or by its former content."""
    expression, imports = source.expression(name)
    try:
        value, held_as = source.value(name)
    except AttributeError:  # the test adds it
        return [_Around(restore=["del " + expression], imports=imports)]
    key = name.rpartition(".")[2]
    old = source.free("old_" + key)
    declared = ["global " + expression] if "." not in expression and not source.declares_global(expression) else []
    saved = "vars(%s)[%s]" % (expression.rpartition(".")[0], source.quoted(key)) if isinstance(held_as, (staticmethod, classmethod, property)) else expression
    again = _Around(declared + ["%s = %s" % (old, saved)], ["%s = %s" % (expression, old)], imports=imports)
    refill = ["%s.clear()", "%s.update(%s)"] if isinstance(value, (dict, set)) else ["%s[:] = %s"] if isinstance(value, (list, bytearray)) else None
    if not refill:
        return [again]
    filled = _Around(["%s = copy.deepcopy(%s)" % (old, expression)], [line % (expression, old)[: line.count("%s")] for line in refill], imports=["copy", *imports])
    return [again, filled] if source.assigns(key) else [filled, again]


def _way_of_setting(source, name, before, after):
    if name == "decimal context":
        return _Around(enter="decimal.localcontext()", imports=["decimal"])
    if name == "warnings.filters":
        return _Around(enter="warnings.catch_warnings()", imports=["warnings"])
    if name == "garbage collection":
        return _Around(restore=["gc.enable()" if before == "on" else "gc.disable()"], imports=["gc"])
    if name == "umask":
        way = _saved(source, "old_umask", "os.umask(0)", "os.umask(%s)", "os")
        return _Around(way.save + way.restore, way.restore, imports=["os"])
    if name.startswith("signal "):
        which = "signal.%s" % name[len("signal "):]
        return _saved(source, "old_handler", "signal.getsignal(%s)" % which, "signal.signal(%s, %%s)" % which, "signal")
    if name.startswith("logger "):
        return _way_of_logger(source, name[len("logger "):], before, after)
    known = {
        "sys.path": ("old_path", "list(sys.path)", "sys.path[:] = %s", "sys"),
        "sys.argv": ("old_argv", "list(sys.argv)", "sys.argv[:] = %s", "sys"),
        "recursion limit": ("old_limit", "sys.getrecursionlimit()", "sys.setrecursionlimit(%s)", "sys"),
        "locale": ("old_locale", "locale.setlocale(locale.LC_ALL)", "locale.setlocale(locale.LC_ALL, %s)", "locale"),
        "socket timeout": ("old_timeout", "socket.getdefaulttimeout()", "socket.setdefaulttimeout(%s)", "socket"),
        "random numbers": ("old_state", "random.getstate()", "random.setstate(%s)", "random"),
        "logging disabled up to": ("old_level", "logging.root.manager.disable", "logging.disable(%s)", "logging"),
    }
    if name not in known:
        raise _Cannot("this setting is not restored by a patch")
    return _saved(source, *known[name])


def _way_of_logger(source, name, before, after):
    """Restores what differs of a logger: its level, its handlers, or whether it passes on what it logs."""
    logger = source.free("logger")
    save, restore = ["%s = logging.getLogger(%s)" % (logger, "" if name == "root" else source.quoted(name))], []
    (level, *rest), (level_after, *rest_after) = before.split(", "), after.split(", ")
    parts = [("level", logger + ".level", logger + ".setLevel(%s)", level != level_after)]
    handlers = lambda all: [part for part in all if part not in ("apart", "off")]  # noqa: E731
    parts.append(("handlers", "list(%s.handlers)" % logger, logger + ".handlers[:] = %s", handlers(rest) != handlers(rest_after)))
    parts += [(key, "%s.%s" % (logger, key), "%s.%s = %%s" % (logger, key), (word in rest) != (word in rest_after)) for key, word in (("propagate", "apart"), ("disabled", "off"))]
    for key, saved, back, differs in parts:
        if differs:
            old = source.free("old_" + key)
            save.append("%s = %s" % (old, saved))
            restore.append(back % old)
    return _Around(save, restore, imports=["logging"])


class _Source:
    """The source of a test's file, and the function of the test in it."""

    def __init__(self, of):
        with open(of.path, "rb") as file:
            self.text = io.TextIOWrapper(file, "utf-8", newline="").read()
        self.tree, self.module, self.lines = ast.parse(self.text), of.module, self.text.splitlines(keepends=True)
        body = inspect.unwrap(of.body)
        at = body.__code__.co_firstlineno
        found = [n for n in ast.walk(self.tree) if isinstance(n, (ast.FunctionDef, ast.AsyncFunctionDef)) and n.name == body.__name__ and _first_line(n) <= at <= n.body[0].lineno]
        if not found:
            raise _Cannot("the source of %s has changed since it was imported" % of.name)
        self.function = found[0]
        self.taken = {n.id for n in ast.walk(self.function) if isinstance(n, ast.Name)}
        self.ending = "\r\n" if "\r\n" in self.text else "\n"

    def free(self, name):
        """A name that the test does not use yet."""
        name = re.sub(r"\W", "_", name).lower()
        while name in self.taken:
            name += "_"
        self.taken.add(name)
        return name

    def quoted(self, text):
        """A text as a literal, with the quotes that the file uses more often."""
        return json.dumps(text, ensure_ascii=False) if self.text.count('"') >= self.text.count("'") else repr(text)

    def owner(self, name):
        """The module that a name of a piece of state begins with, and the attributes below it."""
        parts = name.split(".")
        for n in range(len(parts) - 1, 0, -1):
            if ".".join(parts[:n]) in sys.modules:
                return ".".join(parts[:n]), parts[n:]
        raise _Cannot("no module has it")

    def value(self, name):
        """The value of a piece of state, and what its owner holds for it."""
        module, parts = self.owner(name)
        value = held = sys.modules[module]
        for part in parts:
            held = vars(value).get(part) if hasattr(value, "__dict__") else None
            last, value = value, getattr(value, part)
        if hasattr(last, "__dict__") and parts[-1] not in vars(last):
            raise AttributeError(name)  # it is that of a class
        return value, held

    def expression(self, name):
        """The expression for a piece of state in this file, and the module that it has to import for it."""
        module, parts = self.owner(name)
        if module == self.module:
            return ".".join(parts), []
        for node in ast.walk(self.tree):
            for alias in getattr(node, "names", ()) if isinstance(node, (ast.Import, ast.ImportFrom)) else ():
                whole = alias.name if isinstance(node, ast.Import) else "%s.%s" % (node.module, alias.name)
                if whole == module and (node in self.tree.body or node in ast.walk(self.function)):
                    return ".".join([alias.asname or alias.name] + parts), []
        return name, [module]

    def assigns(self, key):
        """Whether the test gives a name or an attribute of this name another value."""
        for node in ast.walk(self.function):
            for target in getattr(node, "targets", ()) if isinstance(node, ast.Assign) else ():
                if key in (getattr(target, "attr", None), getattr(target, "id", None)):
                    return True
        return False

    def declares_global(self, name):
        return any(isinstance(n, ast.Global) and name in n.names for n in ast.walk(self.function))

    def first_that_mentions(self, changed):
        """The first statement of the body with a name of one of the pieces of state; the first of all unless each is mentioned."""
        return min((self.first_with(piece["name"].rpartition(".")[2]) for piece in changed), default=0)

    def first_with(self, word):
        for at, statement in enumerate(self.function.body):
            if any(word in (getattr(n, "id", None), getattr(n, "attr", None), getattr(n, "value", None)) for n in ast.walk(statement)):
                return at
        return 0

    def surrounded(self, at, arounds):
        """The whole file with lines around the body of the test from a statement on."""
        body = self.function.body
        while at < len(body) - 1 and (at == 0 and ast.get_docstring(self.function, clean=False) is not None or isinstance(body[at], (ast.Global, ast.Nonlocal))):
            at += 1
        first, last = self.lines[_first_line(body[at]) - 1], body[-1].end_lineno
        outer = re.match(r"\s*", self.lines[self.function.lineno - 1]).group()
        lines = list(self.lines)
        if not lines[last - 1].endswith("\n"):
            lines[last - 1] += self.ending
        if body[0].lineno == self.function.lineno:  # its body is on the line of its name
            start = _column(first, body[at].col_offset)
            indent, unit = outer + "    ", "    "
            before, inside = lines[: last - 1] + [first[:start].rstrip() + self.ending], [indent + first[start:].rstrip() + self.ending]
        else:
            indent = re.match(r"\s*", first).group()
            unit = indent[len(outer):] or "    "
            begin = _first_line(body[at]) - 1
            while begin > self.function.lineno and re.match(r"\s*#", lines[begin - 1]):
                begin -= 1  # with the comment above it
            before, inside = lines[:begin], lines[begin:last]
        if isinstance(body[-1], ast.Try) and body[-1].finalbody and not any(a.save or a.enter or a.begin for a in arounds):
            return self.longer_finally(body[-1], arounds)
        enters = list(dict.fromkeys(a.enter for a in arounds if a.enter))
        restores = [line for a in reversed(arounds) for line in a.restore]
        depth, kept = unit * (bool(enters) + bool(restores)), self.within_texts()
        inside = [depth + line if line.strip() and number not in kept else line for number, line in enumerate(inside, last - len(inside) + 1)]
        added = [indent + line for a in arounds for line in a.save]
        if enters:
            added.append(indent + "with %s:" % ", ".join(enters))
            indent += unit
        after = []
        if restores:
            added.append(indent + "try:")
            added += [indent + unit + line for a in arounds for line in a.begin]
            after = [indent + "finally:"] + [indent + unit + line.replace("\t", unit) for line in restores]
        changed = before + [line + self.ending for line in added] + inside + [line + self.ending for line in after] + lines[last:]
        return self.with_imports("".join(changed), [module for a in arounds for module in a.imports])

    def longer_finally(self, statement, arounds):
        """The whole file with lines at the end of the finally clause that ends the test."""
        lines, last = list(self.lines), statement.finalbody[-1]
        indent = re.match(r"\s*", lines[_first_line(last) - 1]).group()
        lines[last.end_lineno:last.end_lineno] = [indent + line.replace("\t", "    ") + self.ending for a in reversed(arounds) for line in a.restore]
        return self.with_imports("".join(lines), [module for a in arounds for module in a.imports])

    def within_texts(self):
        """The numbers of the lines that begin inside a string."""
        return {number for n in ast.walk(self.function) if isinstance(n, ast.JoinedStr) or isinstance(n, ast.Constant) and isinstance(n.value, (str, bytes)) for number in range(n.lineno + 1, n.end_lineno + 1)}

    def with_imports(self, text, modules):
        """A text of this file that imports modules: those of the standard library above the others."""
        lines = text.splitlines(keepends=True)
        for module in sorted(set(modules)):
            tops = [n for n in ast.parse("".join(lines)).body if isinstance(n, (ast.Import, ast.ImportFrom)) and getattr(n, "module", None) != "__future__"]
            if any(isinstance(n, ast.Import) and any(a.name == module and not a.asname for a in n.names) for n in tops):
                continue
            ordered = [n for n in tops if _is_standard(n) == _is_standard_name(module)]
            line = "import " + module + self.ending
            later = [n for n in ordered if isinstance(n, ast.Import) and n.names[0].name > module]
            if later:
                lines.insert(later[0].lineno - 1, line)
            elif ordered:
                lines.insert(ordered[-1].end_lineno, line)
            elif tops and _is_standard_name(module):
                lines[tops[0].lineno - 1:tops[0].lineno - 1] = [line, self.ending]
            elif tops:
                lines[tops[-1].end_lineno:tops[-1].end_lineno] = [self.ending, line]
            else:
                self._first_import(lines, line)
        return "".join(lines)

    def _first_import(self, lines, line):
        """Adds the first import, below the words about the file."""
        body = ast.parse("".join(lines)).body
        above = [n for n in body[:2] if isinstance(n, ast.ImportFrom) or isinstance(n, ast.Expr) and isinstance(n.value, ast.Constant)]
        at = above[-1].end_lineno if above else _first_line(body[0]) - 1
        lines[at:at] = [self.ending, line] if above else [line, self.ending, self.ending]


def _first_line(node):
    return min([node.lineno] + [d.lineno for d in getattr(node, "decorator_list", ())])


def _column(line, offset):
    """The index in a line of an offset in bytes."""
    return len(line.encode()[:offset].decode())


def _is_standard(node):
    return _is_standard_name(node.names[0].name if isinstance(node, ast.Import) else "." if node.level else node.module)


def _is_standard_name(name):
    try:
        origin = importlib.util.find_spec(name.split(".")[0]).origin or ""
    except (ImportError, ValueError, AttributeError):
        return False  # there is none
    return origin in ("built-in", "frozen") or origin.startswith(os.path.dirname(os.__file__)) and not re.search("(site|dist)-packages", origin)
