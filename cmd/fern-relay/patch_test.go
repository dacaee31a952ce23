package main

import (
	"encoding/json"
	"fmt"
	"maps"
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

// leak is a package of which TestWrites leaves something behind that makes TestReads fail.
type leak struct {
	name     string
	source   string // of the package, without its clause
	imports  string // of the tests
	writes   string // the body of TestWrites
	reads    string // the body of TestReads
	refused  string // why there is no patch; "" if there is one
	external bool   // the tests are of package NAME_test
	always   bool   // is also tried without FERN_ALL_PATCHES
}

// leaks are the kinds of state and the styles of code for which patches are tried.
var leaks = []leak{
	{name: "number", source: "var limit = 40", writes: "limit = 5", reads: "if limit != 40 { t.Error(limit) }", always: true},
	{name: "text", source: "var mode = \"drip\"", writes: "mode = \"flood\"", reads: "if mode != \"drip\" { t.Error(mode) }"},
	{name: "slice", source: "var beds = []int{1, 2}", writes: "beds[0] = 9", reads: "if beds[0] != 1 { t.Error(beds) }"},
	{name: "appended", source: "var beds = []int{1}", writes: "beds = append(beds, 2)", reads: "if len(beds) != 1 { t.Error(beds) }"},
	{name: "mapping", source: "var beds = map[string]int{\"north\": 1}", writes: "beds[\"south\"] = 2", reads: "if len(beds) != 1 { t.Error(beds) }"},
	{name: "deleted", source: "var beds = map[string]int{\"north\": 1}", writes: "delete(beds, \"north\")", reads: "if len(beds) != 1 { t.Error(beds) }"},
	{name: "replaced", source: "type pump struct{ rate int }\n\nvar main = &pump{40}", writes: "main = &pump{5}", reads: "if main.rate != 40 { t.Error(main.rate) }"},
	{name: "pointee", source: "type pump struct{ rate int }\n\nvar main = &pump{40}", writes: "main.rate = 5", reads: "if main.rate != 40 { t.Error(main.rate) }", always: true},
	{name: "structure", source: "type pump struct{ rate, height int }\n\nvar main pump", writes: "main.rate = 5", reads: "if main.rate != 0 { t.Error(main.rate) }"},
	{name: "array", source: "var beds [3]int", writes: "beds[1] = 7", reads: "if beds[1] != 0 { t.Error(beds) }"},
	{name: "function", source: "var now = func() int { return 1 }", writes: "now = func() int { return 2 }", reads: "if now() != 1 { t.Error(now()) }"},
	{name: "contract", source: "var source any = 1", writes: "source = \"two\"", reads: "if source != 1 { t.Error(source) }"},
	{name: "failure", source: "var last error", imports: "\"errors\"", writes: "last = errors.New(\"dry\")", reads: "if last != nil { t.Error(last) }"},
	{name: "two", source: "var limit, height = 40, 2", writes: "limit, height = 5, 1", reads: "if limit*height != 80 { t.Error(limit, height) }"},
	{name: "called", source: "var limit = 40\n\nfunc ration() { limit = 5 }", writes: "ration()", reads: "if limit != 40 { t.Error(limit) }"},
	{name: "helper", source: "var limit = 40", writes: "set(t, 5)", reads: "if limit != 40 { t.Error(limit) }\n}\n\nfunc set(t *testing.T, n int) {\n\tt.Helper()\n\tlimit = n"},
	{name: "steps", source: "var limit = 40", writes: "t.Run(\"dry\", func(t *testing.T) { limit = 5 })", reads: "if limit != 40 { t.Error(limit) }"},
	{name: "table", source: "var limit = 40", writes: "for _, n := range []int{9, 5} {\n\t\tlimit = n\n\t\tif limit != n {\n\t\t\tt.Error(n)\n\t\t}\n\t}", reads: "if limit != 40 { t.Error(limit) }"},
	{name: "beside", source: "var limit = 40", writes: "t.Parallel()\n\tlimit = 5", reads: "t.Parallel()\n\tif limit != 40 { t.Error(limit) }", refused: "-"},
	{name: "named", source: "var limit = 40", writes: "oldLimit := 3\n\tlimit = oldLimit", reads: "if limit != 40 { t.Error(limit) }"},
	{name: "exported", source: "var Limit = 40", imports: "\"leaks/exported\"", external: true, writes: "exported.Limit = 5", reads: "if exported.Limit != 40 { t.Error(exported.Limit) }", always: true},
	{name: "behind", source: "var limit = 40\n\nfunc Limit() int { return limit }\n\nfunc SetLimit(n int) { limit = n }", imports: "\"leaks/behind\"", external: true, writes: "behind.SetLimit(5)", reads: "if behind.Limit() != 40 { t.Error(behind.Limit()) }"},
	{name: "hidden", source: "var limit = 40\n\nfunc Ration() { limit = 5 }\n\nfunc Flow() int { return limit }", imports: "\"leaks/hidden\"", external: true, writes: "hidden.Ration()", reads: "if hidden.Flow() != 40 { t.Error(hidden.Flow()) }", refused: "is not exported", always: true},
	{name: "locked", source: "type store struct {\n\tmu sync.Mutex\n\tn  int\n}\n\nvar beds store", writes: "beds.n = 5", reads: "if beds.n != 0 { t.Error(beds.n) }", refused: "must not be copied", always: true},
	{name: "deep", source: "var beds = map[string][]int{\"north\": {1}}", writes: "beds[\"north\"][0] = 9", reads: "if beds[\"north\"][0] != 1 { t.Error(beds) }", refused: "-"},
	{name: "setenv", imports: "\"os\"", writes: "os.Setenv(\"GLASS_MODE\", \"flood\")", reads: "if os.Getenv(\"GLASS_MODE\") != \"\" { t.Error(os.Getenv(\"GLASS_MODE\")) }", always: true},
	{name: "checked", imports: "\"os\"", writes: "if err := os.Setenv(\"GLASS_RATE\", \"5\"); err != nil {\n\t\tt.Fatal(err)\n\t}", reads: "if os.Getenv(\"GLASS_RATE\") != \"\" { t.Error(\"set\") }"},
	{name: "unset", imports: "\"os\"", writes: "os.Unsetenv(\"HOME\")", reads: "if os.Getenv(\"HOME\") == \"\" { t.Error(\"unset\") }"},
	{name: "envhelper", source: "func flood() { os.Setenv(\"GLASS_FLOW\", \"9\") }", imports: "\"os\"", writes: "flood()", reads: "if os.Getenv(\"GLASS_FLOW\") != \"\" { t.Error(\"set\") }"},
	{name: "folder", imports: "\"os\"", writes: "if err := os.Chdir(os.TempDir()); err != nil {\n\t\tt.Fatal(err)\n\t}", reads: "if _, err := os.Stat(\"folder.go\"); err != nil { t.Error(err) }"},
	{name: "walked", imports: "\"os\"", writes: "os.Chdir(\"..\")", reads: "if _, err := os.Stat(\"walked.go\"); err != nil { t.Error(err) }"},
	{name: "file", imports: "\"os\"", writes: "if err := os.WriteFile(\"beds.lock\", nil, 0o644); err != nil {\n\t\tt.Fatal(err)\n\t}", reads: "if _, err := os.Stat(\"beds.lock\"); err == nil { t.Error(\"locked\") }", always: true},
	{name: "logged", imports: "\"bytes\"\n\t\"log\"", writes: "log.SetOutput(&bytes.Buffer{})\n\tlog.SetPrefix(\"flood \")", reads: "if log.Prefix() != \"\" { t.Error(log.Prefix()) }", always: true},
	{name: "client", imports: "\"net/http\"\n\t\"time\"", writes: "http.DefaultClient.Timeout = time.Second", reads: "if http.DefaultClient.Timeout != 0 { t.Error(http.DefaultClient.Timeout) }"},
	{name: "ignored", imports: "\"os/signal\"\n\t\"syscall\"", writes: "signal.Ignore(syscall.SIGHUP)", reads: "if signal.Ignored(syscall.SIGHUP) { t.Error(\"ignored\") }"},
	{name: "arguments", imports: "\"os\"", writes: "os.Args = []string{\"glass\"}", reads: "if os.Args[0] == \"glass\" { t.Error(os.Args) }"},
	{name: "intest", reads: "if count != 0 { t.Error(count) }\n}\n\nvar count int\n\nfunc TestNothing(t *testing.T) {", writes: "count++"},
	{name: "line", source: "var limit = 40", writes: "{ limit = 5 }", reads: "if limit != 40 { t.Error(limit) }"},
	{name: "nothing", source: "var beds []int", writes: "beds = []int{1}", reads: "if beds != nil { t.Error(beds) }"},
	{name: "channel", source: "var ready chan int", writes: "ready = make(chan int)", reads: "if ready != nil { t.Error(\"ready\") }"},
	{name: "alias", source: "type Rate = int\n\nvar Limit Rate = 40", imports: "glass \"leaks/alias\"", external: true, writes: "glass.Limit = 5", reads: "if glass.Limit != 40 { t.Error(glass.Limit) }"},
}

// files returns the sources of a package.
func (l *leak) files() map[string]string {
	source := "package " + l.name + "\n\n" + l.source + "\n"
	if strings.Contains(l.source, "sync.") {
		source = strings.Replace(source, "\n\n", "\n\nimport \"sync\"\n\n", 1)
	}
	if strings.Contains(l.source, "os.") {
		source = strings.Replace(source, "\n\n", "\n\nimport \"os\"\n\n", 1)
	}
	clause := l.name
	if l.external {
		clause += "_test"
	}
	test := fmt.Sprintf("package %s\n\nimport (\n\t\"testing\"\n\t%s\n)\n\nfunc TestWrites(t *testing.T) {\n\t%s\n}\n\nfunc TestReads(t *testing.T) {\n\t%s\n}\n", clause, l.imports, l.writes, l.reads)
	return map[string]string{l.name + "/" + l.name + ".go": source, l.name + "/" + l.name + "_test.go": test}
}

// TestPatches hunts the victims of packages that leave state behind, and holds that each patch applies with git, is
// formatted, and makes its victim pass in random orders; and that what cannot be repaired is refused with a reason. All
// kinds are tried if FERN_ALL_PATCHES is set.
func TestPatches(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	files := map[string]string{"go.mod": "module leaks\n\ngo 1.25\n"}
	var tried []leak
	for _, l := range leaks {
		if !l.always && os.Getenv("FERN_ALL_PATCHES") == "" {
			continue
		}
		tried = append(tried, l)
		for name, text := range l.files() {
			files[name] = text
		}
	}
	testfiles.Write(t, dir, files)
	shell := func(line string) string {
		cmd := exec.Command("sh", "-c", line)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Errorf("%s: %v\n%s", line, err, out)
		}
		return string(out)
	}
	shell("gofmt -w . && git init -q && git add . && git -c user.name=g -c user.email=g@example.com commit -qm start")
	fern(t, dir, "run")
	got := fern(t, dir, "hunt", "--patch", "all.diff")
	diff, err := os.ReadFile(filepath.Join(dir, "all.diff"))
	if err != nil {
		t.Fatalf("%v\n%s%s", err, got.stdout, got.stderr)
	}
	patched, repaired := []string{}, 0
	for _, l := range tried {
		has := strings.Contains(string(diff), "b/"+l.name+"/")
		said := ""
		for line := range strings.Lines(got.stderr) {
			if strings.Contains(line, ":"+l.name+"#") {
				said += line
			}
		}
		switch {
		case has:
			patched = append(patched, l.name)
			repaired++
			if l.refused != "" && l.refused != "-" {
				t.Errorf("%s has a patch, though %s", l.name, l.refused)
			}
		case l.refused == "":
			t.Errorf("%s has no patch:\n%s", l.name, said)
		case !strings.Contains(said, l.refused) && l.refused != "-":
			t.Errorf("%s is refused for another reason than %q:\n%s", l.name, l.refused, said)
		}
	}
	t.Logf("%d of %d packages have a patch", repaired, len(tried))
	shell("git apply --check all.diff && git apply all.diff")
	if out := shell("gofmt -l $(git ls-files '*.go')"); out != "" {
		t.Errorf("gofmt would change %s", out)
	}
	seeds := 3
	if os.Getenv("FERN_ALL_PATCHES") != "" {
		seeds = 20
	}
	for seed := range seeds {
		for _, name := range patched {
			shell(fmt.Sprintf("go test -vet=off -shuffle=%d ./%s", seed+1, name))
		}
	}
}

// TestBrittlePatch hunts a test that passes only after another, in a suite with build flags, and holds that the patch sets up in it what the other
// leaves.
func TestBrittlePatch(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"go.mod": "module m\n\ngo 1.25\n", "fern.toml": "[[suite]]\nkind = \"go\"\nbuild-flags = [\"-tags=it\"]\n",
		"p.go":      "//go:build it\n\npackage m\n\nvar mode = \"drip\"\n",
		"p_test.go": "//go:build it\n\npackage m\n\nimport \"testing\"\n\nfunc TestOpens(t *testing.T) {\n\tmode = \"flood\"\n}\n\nfunc TestFlows(t *testing.T) {\n\tif mode != \"flood\" {\n\t\tt.Error(mode)\n\t}\n}\n"})
	fern(t, dir, "run", "--order", "backwards")
	got := fern(t, dir, "hunt", "--patch", "p.diff")
	diff, err := os.ReadFile(filepath.Join(dir, "p.diff"))
	if err != nil || !strings.Contains(string(diff), "+\toldMode := mode\n+\tt.Cleanup(func() { mode = oldMode })\n+\tmode = \"flood\"\n") ||
		!strings.Contains(got.stderr, "TestFlows alone: 5 of 5 passed with it, 5 of 5 failed without") {
		t.Errorf("%v\n%s%s%s", err, diff, got.stdout, got.stderr)
	}
}

// TestBorrowedSetUp hunts tests that pass only after another has set a variable whose value cannot be written down, and holds
// that the patch copies the statements which do, with the imports that they need.
func TestBorrowedSetUp(t *testing.T) {
	t.Parallel()
	cases := []struct {
		name, source, imports, writes, reads string
		want                                 string // in the diff; or why there is none
		refused                              bool
	}{
		{name: "mapping", source: "var beds = map[string]int{}", writes: "beds[\"north\"] = 1\n\tbeds[\"south\"] = 2", reads: "if beds[\"south\"] != 2 { t.Error(beds) }",
			want: "+\toldBeds := maps.Clone(beds)\n+\tt.Cleanup(func() { beds = oldBeds })\n+\tbeds[\"north\"] = 1\n+\tbeds[\"south\"] = 2\n"},
		{name: "imported", source: "var last error", imports: "\"errors\"", writes: "last = errors.New(\"dry\")", reads: "if last == nil { t.Error(\"none\") }",
			want: "+\toldLast := last\n+\tt.Cleanup(func() { last = oldLast })\n+\tlast = errors.New(\"dry\")\n"},
		{name: "own", source: "var beds []int", writes: "n := 3\n\tbeds = make([]int, n)", reads: "if len(beds) != 3 { t.Error(beds) }",
			want: "in a statement that can be copied", refused: true},
	}
	dir := t.TempDir()
	files := map[string]string{"go.mod": "module m\n\ngo 1.25\n"}
	for _, c := range cases {
		l := leak{name: c.name, source: c.source, imports: c.imports, writes: c.writes, reads: c.reads}
		maps.Copy(files, l.files())
	}
	testfiles.Write(t, dir, files)
	git(t, dir, "init", "-q")
	fern(t, dir, "run", "--order", "backwards")
	got := fern(t, dir, "hunt", "--patch", "p.diff")
	diff, err := os.ReadFile(filepath.Join(dir, "p.diff"))
	if err != nil {
		t.Fatal(err, got.stderr)
	}
	for _, c := range cases {
		if in := map[bool]string{false: string(diff), true: got.stderr}[c.refused]; !strings.Contains(in, c.want) {
			t.Errorf("%s: %q is not in\n%s", c.name, c.want, in)
		}
	}
	git(t, dir, "apply", "p.diff")
	if with := fern(t, dir, "run", "-p", "name:TestReads"); !strings.Contains(with.stdout, "3 picked: 2 passed, 1 failed") {
		t.Errorf("with the patches:\n%s", with.stdout)
	}
}

// TestPatchOnScreen hunts in a copy of an example, reads the patch, applies it, and sees that the victim is mended.
func TestPatchOnScreen(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS("../../examples/pumps")); err != nil {
		t.Fatal(err)
	}
	fern(t, dir, "run")
	s := open(t, 160, 40, dir, nil)
	s.shows("Survey 7 of 7")
	s.press("4", "a")
	s.shows("TestFlowOfTwo fails only after", "1/1 caught")
	s.press("p")
	s.shows("a repair that was tried", "+    oldLimit := Limit", "5 of 5 passed with it", "A applies it to pumps_test.go")
	s.whole()
	s.press("A")
	s.shows("Change pumps_test.go in the project?")
	s.press("Right", "Enter")
	s.shows("written: ")
	s.press("v")
	s.shows("mended")
	s.press("q")
	s.ended()
	data, err := os.ReadFile(filepath.Join(dir, "pumps_test.go"))
	if err != nil || !strings.Contains(string(data), "t.Cleanup(func() { Limit = oldLimit })") {
		t.Errorf("the patch is not applied: %v\n%s", err, data)
	}
}

// TestHuntFromReport hunts, in another checkout without a past, what failed in the events of a run: it starts from the
// order of that run, and says which of its tests are not here.
func TestHuntFromReport(t *testing.T) {
	t.Parallel()
	there, here := t.TempDir(), t.TempDir()
	for _, dir := range []string{there, here} {
		if err := os.CopyFS(dir, os.DirFS("../../examples/pumps")); err != nil {
			t.Fatal(err)
		}
	}
	testfiles.Write(t, there, map[string]string{"more_test.go": "package pumps\n\nimport \"testing\"\n\nfunc TestMore(t *testing.T) {}\n"})
	events := filepath.Join(here, "ci.jsonl")
	if got := fern(t, there, "run", "--workers", "1", "--events", events, "--junit", filepath.Join(here, "ci.xml")); got.status != 1 {
		t.Fatalf("status %d\n%s", got.status, got.stderr)
	}
	testfiles.Write(t, here, map[string]string{"other.xml": `<testsuite name="u:g"><testcase name="a"><failure/></testcase></testsuite>`})
	if got := fern(t, here, "merge", "ci.xml", "other.xml", "--junit", "merged.xml"); got.status != 1 {
		t.Fatalf("status %d\n%s", got.status, got.stderr)
	}
	for report, words := range map[string]string{"ci.jsonl": "the report has 1 test that", "ci.xml": "the report has 1 test that", "merged.xml": "the report has 2 tests that"} {
		got := fern(t, here, "hunt", "--from", report, "--json")
		if got.status != 0 || !strings.Contains(got.stdout, `"culprits":[["go:.#TestDroughtRation"]]`) || !strings.Contains(got.stderr, words) {
			t.Errorf("hunt --from %s: status %d\n%s%s", report, got.status, got.stdout, got.stderr)
		}
	}
	for args, words := range map[string]string{"--from other.xml": "does not say what ran where", "--from nowhere.jsonl": "cannot be read", "--from ci.jsonl --verify": "does not go with --verify"} {
		if got := fern(t, here, append([]string{"hunt"}, strings.Fields(args)...)...); got.status != 2 || !strings.Contains(got.stderr, words) {
			t.Errorf("hunt %s: status %d, %s", args, got.status, got.stderr)
		}
	}
}

// TestRunHunts hunts what failed in a run at its end, and holds that its reports have the finding and keep it when they
// are merged.
func TestRunHunts(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS("../../examples/pumps")); err != nil {
		t.Fatal(err)
	}
	const words = "polluted: TestFlowOfTwo fails only after TestDroughtRation"
	got := fern(t, dir, "run", "--hunt", "2m", "--junit", "a.xml", "--events", "a.jsonl", "--summary", "a.md")
	if got.status != 1 || !strings.Contains(got.stdout, words) || !strings.Contains(got.stdout, "1 failed: 1 order-dependent (after TestDroughtRation, proved)") {
		t.Errorf("status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	events := readEvents(t, filepath.Join(dir, "a.jsonl"))
	if last := events[len(events)-1]; last.Event != run.RunEnds || events[len(events)-2].Event != run.Found {
		t.Errorf("the events end with %+v", last)
	}
	summary := read(t, dir, "a.md")
	if lines := strings.Split(strings.TrimSpace(summary), "\n"); len(lines) > 15 || !strings.Contains(summary, "**polluted** TestFlowOfTwo fails only after TestDroughtRation. TestDroughtRation leaves ") ||
		!strings.Contains(summary, "go:.#TestFlowOfTwo | fern-relay run --no-record --workers 1 --order-from /dev/stdin`") || !strings.Contains(lines[len(lines)-1], "the rest: `a.xml`, `a.jsonl`") {
		t.Errorf("the summary is\n%s", summary)
	}
	fern(t, dir, "report", "last", "-o", "kept.html")
	page := read(t, dir, "kept.html")
	if verdict, message := strings.Index(page, words), strings.Index(page, "<pre>flow_test.go"); verdict < 0 || message >= 0 && message < verdict {
		t.Errorf("the report of the kept run has the verdict at %d and the message at %d", verdict, message)
	}
	known := fern(t, dir, "hunt", "--from", "a.jsonl", "--json")
	wrong := strings.ReplaceAll(read(t, dir, "a.jsonl"), `"culprits":[["go:.#TestDroughtRation"]]`, `"culprits":[["go:.#TestFlowOfOne"]]`)
	testfiles.Write(t, dir, map[string]string{"wrong.jsonl": wrong})
	misled := fern(t, dir, "hunt", "--from", "wrong.jsonl", "--json")
	for _, got := range []result{known, misled} {
		var found struct{ Victims []hunt.Finding }
		if err := json.Unmarshal([]byte(got.stdout), &found); err != nil || len(found.Victims) != 1 || found.Victims[0].Culprits[0][0] != "go:.#TestDroughtRation" || !found.Victims[0].Changed[0].Proved {
			t.Fatalf("hunted from the report: %v, %+v\n%s", err, found, got.stderr)
		}
		if n := found.Victims[0].Trials; got.stdout == known.stdout && n > 12 {
			t.Errorf("the culprit that the report names takes %d trials", n)
		}
	}
	for _, file := range []string{"a.xml", "a.jsonl"} {
		got := fern(t, dir, "merge", file, "--events", "merged.jsonl", "-o", "merged.md")
		data, err := os.ReadFile(filepath.Join(dir, "merged.md"))
		if !strings.Contains(got.stdout, words) || err != nil || !strings.Contains(string(data), "fails only after TestDroughtRation") {
			t.Errorf("%s merged, %v:\n%s\n%s", file, err, got.stdout, data)
		}
		events := readEvents(t, filepath.Join(dir, "merged.jsonl"))
		if !slices.ContainsFunc(events, func(e run.Event) bool {
			return e.Event == run.Found && e.Finding.Culprits[0][0] == "go:.#TestDroughtRation"
		}) {
			t.Errorf("%s merged has no finding", file)
		}
	}
}

// TestPatchOfSeveral writes one patch for three victims, of which two have one culprit and all are in one file. git applies it, and
// then every order passes.
func TestPatchOfSeveral(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"go.mod": "module several\n\ngo 1.24\n", "s_test.go": `package several

import "testing"

var limit, mode = 40, "drip"

func TestLimits(t *testing.T) { limit = 5 }

func TestFloods(t *testing.T) {
	mode = "flood"
}

func TestReads(t *testing.T) {
	if limit != 40 {
		t.Error(limit)
	}
}

func TestReadsToo(t *testing.T) {
	if limit != 40 {
		t.Error(limit)
	}
}

func TestDrips(t *testing.T) {
	if mode != "drip" {
		t.Error(mode)
	}
}
`})
	git(t, dir, "init", "-q")
	git(t, dir, "add", "s_test.go", "go.mod")
	git(t, dir, "commit", "-qm", "all")
	if got := fern(t, dir, "run"); got.status != 1 {
		t.Fatal(got.stdout, got.stderr)
	}
	got := fern(t, dir, "hunt", "--patch", "repair.diff")
	if !strings.Contains(got.stderr, "the patch above repairs it, too") {
		t.Errorf("hunt says %s", got.stderr)
	}
	git(t, dir, "apply", "repair.diff")
	for _, order := range []string{"as-written", "backwards", "shuffled"} {
		if got := fern(t, dir, "run", "--order", order); got.status != 0 {
			t.Errorf("with the patch, in the order %s: %s%s", order, got.stdout, got.stderr)
		}
	}
}
