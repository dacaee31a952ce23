"""Changes a Go module at random, in every way in which a build can miss a change, and compares each run with the toolchain's."""
import json, os, random, subprocess

TEST = 'package {name}\n\nimport "testing"\n\nfunc Test{title}(t *testing.T) {{\n\tif {value} != 1 {{\n\t\tt.Fatal("not 1")\n\t}}\n}}\n'


class Module:
    """A module whose tests depend on files in every way, and what surrounds it."""

    def __init__(self, p, seed):
        self.p, self.rng, self.root = p, random.Random(seed), os.path.join(p.dir, "module")
        self.out, self.env, self.flags, self.changed = os.path.join(p.dir, "outside"), {}, [], set()
        self.write("go.mod", "module example.org/changes\n\ngo 1.24\n")
        for name in ["plain", "linked", "embed", "hidden", "replaced", "header", "folder", "tagged"]:
            self.write(f"{name}/{name}.go", f"package {name}\n")
        self.value("plain/value.go", "plain", 1)
        self.test("plain", "value")
        self.value(self.out + "/value.go", "linked", 1)
        os.symlink(self.out + "/value.go", self.path("linked/value.go"))
        self.test("linked", "value")
        self.value(self.out + "/other.go", "linked", 2)
        for name, pattern, file in [("embed", "data", "data/text"), ("hidden", ".data/text", ".data/text")]:
            self.write(f"{name}/{file}", "1")
            self.write(f"{name}/value.go", f'package {name}\n\nimport "embed"\n\n//go:embed {pattern}\nvar files embed.FS\n\nfunc value() int {{\n\ttext, _ := files.ReadFile("{file}")\n\tentries, _ := files.ReadDir("{os.path.dirname(file)}")\n\treturn int(text[0]-\'0\') + len(entries) - 1\n}}\n')
            self.test(name, "value()")
        self.write(self.out + "/dep/go.mod", "module example.org/dep\n\ngo 1.24\n")
        self.write(self.out + "/dep/dep.go", "package dep\n\nconst Value = 1\n")
        self.write(self.out + "/other.mod", "module example.org/changes\n\ngo 1.24\n\nrequire example.org/dep v0.0.0\n\nreplace example.org/dep => ../outside/dep\n")
        self.write("replaced/dep.go", '//go:build dep\n\npackage replaced\n\nimport "example.org/dep"\n\nconst value = dep.Value\n')
        self.write("replaced/no.go", "//go:build !dep\n\npackage replaced\n\nconst value = 1\n")
        self.test("replaced", "value")
        self.write(self.out + "/include/value.h", "#define VALUE 1\n")
        self.write("header/value.go", 'package header\n\n// #cgo CFLAGS: -I${SRCDIR}/../../outside/include\n// #include "value.h"\nimport "C"\n\nconst value = C.VALUE\n')
        self.write("header/no.go", "//go:build !cgo\n\npackage header\n\nconst value = 3\n")
        self.test("header", "value")
        self.write(self.out + "/folder/folder.go", "package folder\n\nconst Value = 1\n")
        os.symlink(self.out + "/folder", self.path("folder/deep"))
        self.write("folder/value.go", 'package folder\n\nimport deep "example.org/changes/folder/deep"\n\nconst value = deep.Value\n')
        self.test("folder", "value")
        self.value("tagged/value.go", "tagged", 1, "//go:build !it\n\n")
        self.value("tagged/it.go", "tagged", 2, "//go:build it\n\n")
        self.test("tagged", "value")
        self.write(self.out + "/overlay.json", json.dumps({"Replace": {self.path("plain/value.go"): self.out + "/plain.go"}}))
        self.value(self.out + "/plain.go", "plain", 1)

    def path(self, name):
        return os.path.join(self.root, name)

    def write(self, name, text):
        self.p.write(os.path.join(self.root, name), text)

    def value(self, name, package, value, head=""):
        self.write(name, f"{head}package {package}\n\nconst value = {value}\n")

    def test(self, name, value):
        self.write(f"{name}/{name}_test.go", TEST.format(name=name, title=name.title(), value=value))

    def swap(self, name, old=None, new=None):
        """Writes a digit in place of another, with the same size and time, in place or as another file."""
        path = os.path.join(self.root, name)
        info, text = os.stat(path), open(path).read()
        at = max(text.rfind(old or "1"), text.rfind(new or "2"))
        if at < 0:
            return "nothing"
        text = text[:at] + ("2" if text[at] == "1" else "1") + text[at + 1:]
        if self.rng.random() < 0.5 or os.path.islink(path):
            with open(path, "w") as f:
                f.write(text)
        else:
            with open(path + ".new", "w") as f:
                f.write(text)
            os.rename(path + ".new", path)
        os.utime(path, ns=(info.st_atime_ns, info.st_mtime_ns))
        return "of the same size and time"

    def change(self):
        """Changes something and says what."""
        rng = self.rng
        def toggle(name, text):
            if os.path.exists(self.path(name)):
                os.remove(self.path(name))
                return "removed"
            self.write(name, text)
            return "written"
        def flag(name):
            if name in self.flags:
                self.flags.remove(name)
            else:
                self.flags.append(name)
            return "changed"
        def link():
            at = os.readlink(self.path("linked/value.go"))
            os.remove(self.path("linked/value.go"))
            os.symlink(self.out + ("/other.go" if at.endswith("/value.go") else "/value.go"), self.path("linked/value.go"))
            return "leads elsewhere"
        def cgo():
            self.env["CGO_ENABLED"] = "1" if self.env.get("CGO_ENABLED") == "0" else "0"
            return "is " + self.env["CGO_ENABLED"]
        changes = {
            "a source": lambda: self.swap("plain/value.go"), "a linked source": lambda: self.swap("linked/value.go"), "a link": link,
            "an embedded file": lambda: self.swap("embed/data/text"), "an embedded file in a folder with a dot": lambda: self.swap("hidden/.data/text"),
            "a file beside an embedded one": lambda: toggle("embed/data/more", "x"), "a replacement outside": lambda: self.swap(self.out + "/dep/dep.go"),
            "another go.mod": lambda: flag("-modfile=../outside/other.mod -tags=dep"), "a header outside": lambda: self.swap(self.out + "/include/value.h"),
            "a linked package": lambda: self.swap(self.out + "/folder/folder.go"), "a build tag": lambda: flag("-tags=it"),
            "an overlay": lambda: flag("-overlay=../outside/overlay.json"), "a file of an overlay": lambda: self.swap(self.out + "/plain.go"),
            "CGO_ENABLED": cgo, "a test file that fails": lambda: toggle("tagged/more_test.go", TEST.format(name="tagged", title="More", value="2")),
            "conflict markers": lambda: toggle("plain/conflict_test.go", "<<<<<<< HEAD\npackage plain\n"), "an empty file": lambda: toggle("embed/empty.go", ""),
            "a go.mod in a package": lambda: toggle("tagged/go.mod", "module example.org/tagged\n\ngo 1.24\n"),
            "a package without tests": lambda: toggle("bare/bare.go", "package bare\n\nconst value int = \"\"\n"),
            "a TestMain that exits": lambda: toggle("linked/main_test.go", 'package linked\n\nimport (\n\t"os"\n\t"testing"\n)\n\nfunc TestMain(m *testing.M) { m.Run(); os.Exit(3) }\n'),
            "a go.work": lambda: toggle("go.work", "go 1.24\n\nuse .\n\nreplace example.org/dep => ../outside/dep\n"),
        }
        what = rng.choice(sorted(self.changed) if self.changed and rng.random() < 0.65 else list(changes))
        self.changed ^= {what}  # each change takes itself back
        return what + " " + changes[what]()

    def environment(self):
        flags = [f for f in self.flags if "modfile" not in f or not os.path.exists(self.path("go.work"))]
        tags = [part.removeprefix("-tags=") for f in flags for part in f.split() if part.startswith("-tags=")]
        words = [part for f in flags for part in f.split() if not part.startswith("-tags=")] + (["-tags=" + ",".join(tags)] if tags else [])
        return {**os.environ, **self.env, "GOFLAGS": " ".join(words)}

    def toolchain(self):
        """The exit status and the outcomes of the toolchain, which knows headers only by their values here."""
        env = self.environment()
        header = open(self.out + "/include/value.h").read()
        env["CGO_CPPFLAGS"] = "-DHEADER_" + str("1" in header)
        got = subprocess.run(["go", "test", "-count=1", "-json", "./..."], cwd=self.root, env=env, capture_output=True, text=True)
        outcomes = {}
        for line in got.stdout.splitlines():
            e = json.loads(line) if line.startswith("{") else {}
            if e.get("Test") and e["Action"] in ("pass", "fail", "skip"):
                outcomes[e["Package"].removeprefix("example.org/changes/") + "#" + e["Test"]] = {"pass": "passed", "fail": "failed", "skip": "skipped"}[e["Action"]]
        return (1 if got.returncode else 0), outcomes, got.stdout[-3000:] + got.stderr[-2000:]

    def ours(self):
        events = os.path.join(self.p.dir, "events.jsonl")
        got = subprocess.run([self.p.program, "run", "--events", events], cwd=self.root, env=self.environment(), capture_output=True, text=True)
        outcomes = {}
        for line in open(events):
            e = json.loads(line)
            if e["event"] == "finished" and not e.get("entry") and e["outcome"] != "lost":
                outcomes[e["id"].removeprefix("go:")] = e["outcome"]
        return got.returncode, outcomes, got.stdout + got.stderr


def random_changes(p, expect, count, seed=7):
    m = Module(p, seed)
    m.ours()
    red = 0
    for n in range(count):
        what = [m.change() for _ in range(m.rng.choice([1, 1, 1, 2]))]
        ours, truth = m.ours(), m.toolchain()
        expect(ours[:2] == truth[:2], f"change {n}, {what}: status {ours[0]} and {ours[1]}, the toolchain has {truth[0]} and {truth[1]}\n{ours[2]}\n{truth[2]}")
        red += truth[0]
    p.figures = f"{count} changes, {red} runs red"
