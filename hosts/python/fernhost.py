"""A test host for Fern Relay: tests in Python, run in any order in one process.

Copy this file beside your tests; it needs Python 3.8 and nothing else.

    import fernhost as fern

    @fern.test("quick", needs=["fills_the_pond"])
    def opens_at_dawn(t):
        t.equal("litres", valves.open(3), 5)

    fern.serve("garden")

The group of a test is its module, its name that of the function. A test passes
unless it raises: a failed check and an AssertionError are failures, anything else is
an error. What it prints becomes its output. A test may be an async function; a
generator is an error, as its body would not run. The program speaks the protocol
fern-host/1, and sends its messages where no test can.
"""

import copy
import inspect
import io
import json
import os
import sys
import time
import types

PROTOCOL = "fern-host/1"
LONGEST = 2000  # characters of a value that are told

_tests = {}  # (group, name): _Test, as declared
_watched = []  # modules whose variables are told
_resets = []  # what makes the state fresh again
_kept = {}  # (kind, name): the state when it was asked for last


class Skip(Exception):
    """Raised by a test that finds that it cannot run here."""


class Failed(AssertionError):
    """A check that failed, with both sides where it compared."""

    def __init__(self, message, expected=None, actual=None):
        super().__init__(message)
        self.expected, self.actual = expected, actual


class T:
    """What a test checks with."""

    def __init__(self, tell, steps=()):
        self._tell = tell
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
        """Runs a part of the test that is told by its own name."""
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
            result = {"outcome": "failed", "message": str(error) or type(error).__name__}
            raise
        finally:
            self._inside = inside
            self._tell("step", step=name, seconds=time.monotonic() - began, **result)


class _Test:
    def __init__(self, body, tags, rules, group):
        self.body, self.tags, self.rules = body, tags, rules
        self.group = group or os.path.splitext(os.path.basename(inspect.getsourcefile(body)))[0]
        self.name = body.__name__
        self.file = os.path.relpath(inspect.getsourcefile(body)).replace(os.sep, "/")
        self.line = body.__code__.co_firstlineno


def test(tags="", group="", **rules):
    """Declares a test, with tags in one string and rules by their names: skip, lone,
    expect_fail and only_if take a text; needs, after and holds a list of names."""
    words = {key.replace("_", "-"): value for key, value in rules.items()}

    def declare(body):
        made = _Test(body, sorted(set(tags.split())), words, group)
        if (made.group, made.name) in _tests:
            raise ValueError("the group %s has two tests named %s" % (made.group, made.name))
        _tests[made.group, made.name] = made
        watch(sys.modules[body.__module__])
        return body

    return declare


def watch(module):
    """Has the variables of a module told, so that a hunt can see what a test left."""
    if module not in _watched:
        _watched.append(module)


def on_reset(body):
    """Declares what makes the state as fresh as in a new process. Without any, a new
    process is begun instead."""
    _resets.append(body)
    return body


class _Bytes(io.RawIOBase):
    """Takes what a test writes past the text of the standard output."""

    def __init__(self, tell):
        super().__init__()
        self.tell = tell

    def writable(self):
        return True

    def write(self, data):
        if data:
            self.tell("output", text=bytes(data).decode("utf-8", "replace"))
        return len(data)


class _Output(io.TextIOBase):
    """Stands in for the standard output while tests run."""

    encoding = "utf-8"

    def __init__(self, tell):
        super().__init__()
        self.tell, self.buffer = tell, _Bytes(tell)

    def writable(self):
        return True

    def write(self, text):
        if text:
            self.tell("output", text=text.encode("utf-8", "replace").decode())
        return len(text)


def serve(name):
    """Answers requests until bye, or until the input ends."""
    out, secret = os.fdopen(os.dup(1), "w", encoding="utf-8", newline="\n"), ""
    os.dup2(2, 1)  # what programs print that a test starts is no message

    def send(message):
        out.write(secret + json.dumps({"jsonrpc": "2.0", **message}) + "\n")
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
        return {"protocol": PROTOCOL, "name": name, "channel": "channel" in params}
    if method == "discover":
        return {"tests": [{"group": t.group, "name": t.name, "file": t.file, "line": t.line, "tags": t.tags, "rules": t.rules} for t in _tests.values()]}
    if method == "run":
        for asked in params["tests"]:
            _run(_tests.get((asked["group"], asked["name"])), asked, send)
        return {}
    if method == "state":
        return {"values": list(_state())}
    if method == "restore":
        _restore(params["kind"], params["name"])
        return {}
    if method == "reset":
        if not _resets:
            raise RuntimeError("nothing says how to make the state fresh: a new process is needed")
        for body in _resets:
            body()
        return {}
    if method == "bye":
        return {}
    raise ValueError("there is no method %r" % method)


def _run(asked_for, asked, send):
    def tell(method, **more):
        send({"method": method, "params": {"group": asked["group"], "name": asked["name"], **more}})

    if asked_for is None:
        raise KeyError("there is no test %s of group %s" % (asked["name"], asked["group"]))
    tell("started")
    printed, sys.stdout = sys.stdout, _Output(tell)
    began = time.monotonic()
    try:
        _finish(asked_for.body(T(tell, asked.get("steps") or ())))
        result = {"outcome": "passed"}
    except Skip as reason:
        result = {"outcome": "skipped", "message": str(reason)}
    except AssertionError as error:
        result = {"outcome": "failed", "message": str(error) or "assertion failed", **_place(error, asked_for)}
        if isinstance(error, Failed) and error.expected is not None:
            result.update(expected=error.expected, actual=error.actual)
    except BaseException as error:  # also what would end the process
        result = {"outcome": "errored", "message": "%s: %s" % (type(error).__name__, error), **_place(error, asked_for)}
    finally:
        sys.stdout = printed
    tell("finished", seconds=time.monotonic() - began, **result)


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
    trace = error.__traceback__
    while trace:
        if trace.tb_frame.f_code.co_filename == of.body.__code__.co_filename:
            place["line"] = trace.tb_lineno
        trace = trace.tb_next
    return place


def _state():
    """What tests could leave behind: variables of watched modules, the environment
    and the working folder. It is kept as well, so that it can be put back."""
    _kept.clear()
    for module in _watched:
        for key, value in sorted(vars(module).items()):
            if key.startswith("__") or isinstance(value, (types.ModuleType, types.FunctionType, type)):
                continue
            try:
                _kept["variable", "%s.%s" % (module.__name__, key)] = module, key, copy.deepcopy(value)
            except Exception:
                pass  # then it cannot be put back
            try:
                text = repr(value)[:LONGEST]
            except Exception as error:
                text = "cannot be told: %s" % error
            yield {"kind": "variable", "name": "%s.%s" % (module.__name__, key), "value": text}
    for key, value in sorted(os.environ.items()):
        _kept["environment", key] = value
        yield {"kind": "environment", "name": key, "value": value}
    _kept["folder", "working folder"] = os.getcwd()
    yield {"kind": "folder", "name": "working folder", "value": os.getcwd()}


def _restore(kind, name):
    """Puts one piece of state back to what it was when the state was asked for last."""
    kept = _kept.get((kind, name))
    if kind == "environment" and kept is None:
        os.environ.pop(name, None)
    elif kept is None:
        raise KeyError("the %s %s cannot be put back" % (kind, name))
    elif kind == "environment":
        os.environ[name] = kept
    elif kind == "folder":
        os.chdir(kept)
    else:
        module, key, value = kept
        now = getattr(module, key, None)
        if type(now) is type(value) and isinstance(now, (dict, set)):  # others may hold it
            now.clear()
            now.update(value)
        elif type(now) is type(value) and isinstance(now, list):
            now[:] = value
        else:
            setattr(module, key, value)
