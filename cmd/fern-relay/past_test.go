package main

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fernrelay/internal/testfiles"
)

// ask runs a command of the ledger and reads its JSON.
func ask[T any](t *testing.T, dir string, args ...string) T {
	t.Helper()
	got := fern(t, dir, append(append([]string{"ledger"}, args...), "--json")...)
	var answer T
	if err := json.Unmarshal([]byte(got.stdout), &answer); err != nil || got.status != 0 {
		t.Fatalf("ledger %s: status %d, %v: %s%s", args, got.status, err, got.stdout, got.stderr)
	}
	return answer
}

// TestLedgerAnswers runs a project five times, from the third on with a store that does not
// answer, and asks the ledger.
func TestLedgerAnswers(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "", "stores reads counts slow new", `
stores|reads) test ! -e away || { echo "$1: dial tcp 127.0.0.1:6379: connect: connection refused"; exit 1; };;
slow) test -e away && sleep 1; sleep 0.1;;`)
	git(t, dir, "init", "-q")
	git(t, dir, "add", "fern.toml", "list", "check")
	git(t, dir, "commit", "-qm", "first")
	revision := git(t, dir, "rev-parse", "--short", "HEAD")
	for n := 1; n <= 5; n++ {
		pick := "not name:new"
		if n == 3 {
			testfiles.Write(t, dir, map[string]string{"away": ""})
			before := time.Now().Add(-time.Hour) // else a hunt may take it for a file that run 2 left
			if err := os.Chtimes(filepath.Join(dir, "away"), before, before); err != nil {
				t.Fatal(err)
			}
		}
		if n == 5 {
			pick = ""
		}
		want := 0
		if n >= 3 {
			want = 1
		}
		if got := fern(t, dir, "run", "-p", pick, "--workers", "2", "--order", "backwards"); got.status != want {
			t.Fatalf("run %d ends with %d: %s%s", n, got.status, got.stdout, got.stderr)
		}
	}
	lines := strings.Split(strings.TrimSpace(fern(t, dir, "ledger", "runs", "--json").stdout), "\n")
	var latest, first runLine
	if err := json.Unmarshal([]byte(lines[0]), &latest); err != nil || len(lines) != 5 {
		t.Fatalf("%d runs, %v", len(lines), err)
	}
	if err := json.Unmarshal([]byte(lines[4]), &first); err != nil {
		t.Fatal(err)
	}
	if latest.Number != 5 || latest.Counts["failed"] != 2 || latest.Counts["passed"] != 3 || latest.Order != "backwards" || latest.Workers != 2 ||
		latest.Revision != revision || !latest.Dirty || first.Dirty || first.Pick != "not name:new" || latest.Machine == "" || latest.Wall <= 0 {
		t.Errorf("the runs are %+v to %+v", first, latest)
	}
	causes := ask[causesReport](t, dir, "causes")
	if causes.Failures != 2 || len(causes.Causes) != 1 || causes.Causes[0].Since != 3 || causes.Causes[0].Lacks == nil || causes.Causes[0].Lacks.Name != "127.0.0.1:6379" {
		t.Errorf("the causes are %+v", causes)
	}
	if words := fern(t, dir, "ledger", "causes", "last-1").stdout; !strings.Contains(words, "2 failures, 1 cause") || !strings.Contains(words, "nobody answers") || !strings.Contains(words, "since run 3") {
		t.Errorf("in words they are %s", words)
	}
	shaky := ask[shakyReport](t, dir, "shaky")
	if len(shaky.Tests) != 2 || shaky.Runs != 5 || shaky.Tests[0].Bad != 3 || shaky.Tests[0].Flips != 1 || shaky.Tests[0].FirstBad != 3 || shaky.Tests[0].LastWell != 2 ||
		shaky.Tests[0].Flaky.Low >= 0.25 || shaky.Tests[0].Flaky.High <= 0.25 {
		t.Errorf("shaky are %+v", shaky)
	}
	if picked := ask[shakyReport](t, dir, "shaky", "-p", "name:reads"); len(picked.Tests) != 1 || picked.Tests[0].ID != "c:.#reads" {
		t.Errorf("of the picked ones %+v", picked)
	}
	if got := fern(t, dir, "hunt", "stores"); got.status != 0 || strings.Contains(got.stdout, "to blame") || !strings.Contains(got.stdout, "passed in run 2 at this revision") || !strings.Contains(got.stdout, "differs from the commit (away)") {
		t.Errorf("the hunt ends with %d: %s%s", got.status, got.stdout, got.stderr)
	}
	card := ask[testReport](t, dir, "test", "stores")
	if card.ID != "c:.#stores" || card.EverBad != 3 || card.BadAt != revision || card.LastWell != 2 || card.WellAt != revision || len(card.Past) != 5 || card.Rate != 0.4 {
		t.Errorf("the card is %+v", card)
	}
	slow := ask[slowReport](t, dir, "slow")
	if slow.Tests[0].Name != "c:.#slow" || slow.Tests[0].Share < 0.5 || slow.Tests[0].Gain <= 0 || slow.Workers != 0 && slow.Groups[0].Tests != 5 {
		t.Errorf("slow are %+v", slow.Slowness)
	}
	c := ask[comparison](t, dir, "compare", "2", "3")
	if c.Before != 2 || c.After != 3 || len(c.Failing) != 2 || len(c.Slower) == 0 || c.Slower[0].ID != "c:.#slow" || len(c.New)+len(c.Gone)+len(c.Mended) != 0 {
		t.Errorf("run 3 against run 2 is %+v", c)
	}
	if c := ask[comparison](t, dir, "compare", "last"); c.Before != 4 || len(c.New) != 1 || c.New[0].ID != "c:.#new" {
		t.Errorf("the latest against the one before is %+v", c)
	}
	shown := ask[shownRun](t, dir, "show", "3")
	if len(shown.Tests) != 4 || shown.Tests[0].ID != "c:.#slow" || shown.Number != 3 {
		t.Errorf("run 3 is shown as %+v", shown)
	}
	for args, words := range map[string]string{"show 9": "run 9", "show soon": "last-1", "test nowhere": "nowhere", "forget": "say what to keep", "compare 1": "the first", "shaky --runs 0": "--runs is 0", "causes last-7": "no such run"} {
		if got := fern(t, dir, append([]string{"ledger"}, strings.Fields(args)...)...); got.status != 2 || !strings.Contains(got.stderr, words) {
			t.Errorf("ledger %s: status %d: %s", args, got.status, got.stderr)
		}
	}
	if got := fern(t, dir, "ledger", "forget", "--runs", "2"); !strings.Contains(got.stdout, "3 runs removed; 2 runs left") {
		t.Errorf("forget says %s%s", got.stdout, got.stderr)
	}
	testfiles.Write(t, dir, map[string]string{"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"./list\"\nrun = \"./check {name}\"\n[ledger]\nruns = 2\n"})
	fern(t, dir, "run")
	if got := fern(t, dir, "ledger"); !strings.HasPrefix(got.stdout, "2 runs of 5 tests") || !strings.Contains(got.stdout, "the latest 2 runs stay") {
		t.Errorf("the ledger says %s%s", got.stdout, got.stderr)
	}
	if got := fern(t, dir, "ledger", "check"); got.stdout != "the ledger is undamaged\n" {
		t.Errorf("check says %s%s", got.stdout, got.stderr)
	}
	file := filepath.Join(dir, ".fern", "ledger.db")
	for _, ending := range []string{"", "-wal", "-shm"} {
		_ = os.Remove(file + ending)
	}
	testfiles.Write(t, dir, map[string]string{".fern/ledger.db": strings.Repeat("spoiled", 2000)})
	if got := fern(t, dir, "run"); got.status != 1 || !strings.Contains(got.stderr, "It is now") || !strings.Contains(got.stderr, "kept as run 1") {
		t.Errorf("with a damaged ledger: %s%s", got.stdout, got.stderr)
	}
	if aside, _ := filepath.Glob(filepath.Join(dir, ".fern", "ledger-damaged-*.db")); len(aside) != 1 {
		t.Errorf("aside stand %v", aside)
	}
}

// TestImport brings in reports of all formats, broken ones among them, twice, and writes reports
// of what came in, with names that a page must escape.
func TestImport(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "", "stores reads", "")
	const evil = `<script>alert("1")</script>`
	testfiles.Write(t, dir, map[string]string{
		"ci/1/a.xml": `<testsuite name="c:." timestamp="2026-10-01T10:00:00"><testcase classname="." name="stores" time="2"><failure message="panic: ` + "&lt;script&gt;" + `">boom</failure></testcase></testsuite>`,
		"ci/1/b.xml": `<testsuite name="house.Other" timestamp="2026-10-01T10:05:00"><testcase classname="house.Other" name="` + strings.NewReplacer("<", "&lt;", `"`, "&quot;").Replace(evil) + `" time="1"><error message="` + "&lt;/pre&gt;&lt;script&gt;" + `"/></testcase></testsuite>`,
		"ci/2/a.tap": "1..2\nok 1 - reads\nnot ok 2 - c:.\\#stores\n",
		"ci/3/go.json": `{"Time":"2026-10-03T10:00:00Z","Action":"run","Package":"house/beds","Test":"TestBed"}
{"Time":"2026-10-03T10:00:01Z","Action":"pass","Package":"house/beds","Test":"TestBed","Elapsed":1}
{"Action":"output","Package":"house/roof","Output":"cannot find glass\n"}
{"Action":"fail","Package":"house/roof"}
`,
		"ci/4/cut.xml":   `<testsuite name="s"><testcase name="a"/><testcase`,
		"ci/4/bomb.xml":  `<!DOCTYPE x [<!ENTITY a "ha">]><testsuite name="s"/>`,
		"ci/4/readme.md": "no report",
		"ci/4/pom.xml":   "<?xml version='1.0'?>\n<!-- of the build --><project><testsuite/></project>",
		"ci/4/conf.json": `{"name": "ci"}`,
		"ci/4/empty.xml": "<testsuites/>",
	})
	got := fern(t, dir, "ledger", "import", "ci")
	if got.status != 3 || !strings.Contains(got.stdout, "7 files read: 3 runs with 5 results kept; 2 files left out, broken") ||
		!strings.Contains(got.stderr, "cut.xml is left out: the XML is broken") || !strings.Contains(got.stderr, "bomb.xml is left out: it declares entities") ||
		!strings.Contains(got.stderr, "b.xml and 1 more: none of the results has the name of a test of this project") {
		t.Fatalf("status %d: %s%s", got.status, got.stdout, got.stderr)
	}
	if again := fern(t, dir, "ledger", "import", "ci/1", "ci/*/*.tap", "ci/3/go.json"); again.status != 0 || !strings.Contains(again.stdout, "0 runs with 0 results kept; 4 files left out, known already") {
		t.Errorf("again: %s%s", again.stdout, again.stderr)
	}
	if got := fern(t, dir, "ledger", "import", "nowhere"); got.status != 2 || !strings.Contains(got.stderr, "nowhere") {
		t.Errorf("of nothing: %d %s", got.status, got.stderr)
	}
	rows, err := csv.NewReader(strings.NewReader(fern(t, dir, "ledger", "export").stdout)).ReadAll()
	if err != nil || len(rows) != 6 {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	ids := map[string]int{}
	for _, row := range rows[1:] {
		ids[row[6]+" "+row[7]]++
	}
	for _, id := range []string{"c:.#stores failed", "house.Other#" + evil + " errored", "c:.#reads passed", "house/beds#TestBed passed"} {
		if ids[id] == 0 {
			t.Errorf("%s is not among %v", id, ids)
		}
	}
	if n := strings.Count(fern(t, dir, "ledger", "export", "--json").stdout, "\n"); n != 5 {
		t.Errorf("as JSON there are %d lines", n)
	}
	shown := ask[shownRun](t, dir, "show", "3")
	if shown.Imported == "ci/3/go.json" && !strings.Contains(shown.Note, "cannot find glass") {
		t.Errorf("the run of which a package failed is %+v", shown.Record)
	}
	if got := fern(t, dir, "replay", "1"); got.status != 2 || !strings.Contains(got.stderr, "was imported from ci/1 (2 files)") {
		t.Errorf("replay of an imported run: %d %s", got.status, got.stderr)
	}
	for ending, begin := range map[string]string{".html": "<!DOCTYPE html>", ".md": "# ", ".pdf": "%PDF-", ".xml": "<?xml"} {
		file := filepath.Join(dir, "out"+ending)
		if got := fern(t, dir, "report", "1", "-o", file); got.status != 0 {
			t.Fatalf("report %s: %s", ending, got.stderr)
		}
		data, err := os.ReadFile(file)
		if err != nil || !strings.HasPrefix(string(data), begin) || ending != ".md" && strings.Contains(string(data), "<script") { // Markdown has it as code
			t.Errorf("the report %s is %.200s, %v", ending, data, err)
		}
		if ending == ".pdf" && !strings.Contains(testfiles.PDFText(t, data), "2 failures") {
			t.Errorf("the PDF says:\n%s", testfiles.PDFText(t, data))
		}
		if ending == ".html" && (!strings.Contains(string(data), "&lt;script&gt;alert") || !strings.Contains(string(data), "2 failures, 2 causes")) {
			t.Errorf("the page does not say what it must: %s", data)
		}
	}
	if got := fern(t, dir, "report", "1", "-o", "out.doc"); got.status != 2 || !strings.Contains(got.stderr, ".html, .md, .pdf, .xml") {
		t.Errorf("an ending that is none: %d %s", got.status, got.stderr)
	}
}

// TestReportsDescribeTheirRun imports a run's own reports elsewhere, where its pick, order, machine and workers are known, too.
func TestReportsDescribeTheirRun(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "", "stores reads", "")
	if got := fern(t, dir, "run", "-p", "name:s", "--order", "shuffled", "--seed", "7", "--workers", "2", "--no-record", "--events", "r.jsonl", "--junit", "r.xml", "--tap", "r.tap"); got.status > 1 {
		t.Fatal(got.stderr)
	}
	want := readEvents(t, filepath.Join(dir, "r.jsonl"))[0].Meta
	if want == nil || want.Pick != "name:s" || want.Order != "shuffled 7" || want.Workers != 2 || !want.Trial || want.Machine == "" {
		t.Fatalf("the first event has %+v", want)
	}
	for _, file := range []string{"r.jsonl", "r.xml", "r.tap"} {
		elsewhere := scripts(t, "", "stores reads", "")
		if got := fern(t, elsewhere, "ledger", "import", filepath.Join(dir, file)); got.status != 0 {
			t.Fatal(got.stderr)
		}
		if shown := ask[shownRun](t, elsewhere, "show", "1"); shown.Meta != *want {
			t.Errorf("%s is imported as %+v, want %+v", file, shown.Meta, *want)
		}
	}
}

// TestMergedReport writes the report of shards of which one is missing and one broken.
func TestMergedReport(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "", "a b c d e f", "b) echo leaks; exit 1;;")
	for k := 1; k <= 2; k++ {
		fern(t, dir, "run", "--shard", fmt.Sprint(k, "/3"), "--junit", fmt.Sprint(k, ".xml"))
	}
	testfiles.Write(t, dir, map[string]string{"half.xml": "<testsuite name='c:.'><testca"})
	for _, ending := range []string{".html", ".md"} {
		got := fern(t, dir, "merge", "1.xml", "2.xml", "half.xml", "-o", "all"+ending)
		data, err := os.ReadFile(filepath.Join(dir, "all"+ending))
		if got.status != 3 || err != nil {
			t.Fatalf("status %d, %v: %s", got.status, err, got.stderr)
		}
		if ending == ".md" && !strings.Contains(string(data), "| `c:.` `b` | ▲ failed |") {
			t.Errorf("the summary does not list the tests: %s", data)
		}
		for _, words := range []string{"shard 3 of 3 is missing", "half.xml is broken", "shard 1 of 3", "leaks", "it failed"} {
			if !strings.Contains(strings.ReplaceAll(string(data), `\_`, "_"), words) {
				t.Errorf("all%s does not say %q:\n%s", ending, words, data)
			}
		}
	}
}

// TestRename holds that a suite that gets another name is offered its past, and that a rename brings it along, also if
// the tests have run under the new name since.
func TestRename(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "", "deep/leak victim", "victim) exit 1;;")
	fern(t, dir, "run")
	fern(t, dir, "run")
	testfiles.Write(t, dir, map[string]string{"fern.toml": strings.Replace(read(t, dir, "fern.toml"), `name = "c"`, `name = "checks"`, 1)})
	got := fern(t, dir, "list", "-p", "was:failed")
	if !strings.Contains(got.stderr, "suite checks has no past, but the ledger knows 2 of its tests as suite c: fern-relay ledger rename c checks gives it that past") {
		t.Errorf("nothing is said: %s%s", got.stdout, got.stderr)
	}
	fern(t, dir, "run", "-p", "name:victim")
	if got := fern(t, dir, "ledger", "rename", "c", "checks"); got.status != 0 || !strings.Contains(got.stdout, "2 tests of c renamed to checks") {
		t.Errorf("%d %s%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, dir, "list", "-p", "was:failed", "--json"); !strings.Contains(got.stdout, "checks:.#victim") || got.stderr != "" {
		t.Errorf("afterwards: %s%s", got.stdout, got.stderr)
	}
	for id, ran := range map[string]string{"checks:.#victim": "3", "checks:deep#deep/leak": "2"} {
		if got := fern(t, dir, "ledger", "test", id, "--json"); !strings.Contains(got.stdout, `"runs":`+ran+",") {
			t.Errorf("%s has the past %s%s", id, got.stdout, got.stderr)
		}
	}
	if got := fern(t, dir, "ledger", "rename", "checks:deep", "checks:shallow"); got.status != 0 || !strings.Contains(got.stdout, "1 test of checks:deep") {
		t.Errorf("a group: %d %s%s", got.status, got.stdout, got.stderr)
	}
	for _, args := range [][]string{{"nowhere", "checks"}, {"checks", "a:b"}, {"checks", "checks"}} {
		if got := fern(t, dir, append([]string{"ledger", "rename"}, args...)...); got.status != 2 {
			t.Errorf("rename %s: %d %s%s", args, got.status, got.stdout, got.stderr)
		}
	}
	if got := fern(t, dir, "ledger", "check"); got.status != 0 || !strings.Contains(got.stdout, "undamaged") {
		t.Errorf("the ledger: %s%s", got.stdout, got.stderr)
	}
}

// TestImportFindings brings in what hunts found elsewhere, unless the victim was hunted here later.
func TestImportFindings(t *testing.T) {
	t.Parallel()
	dir := scripts(t, "", "spoils victim", "")
	events := func(at, words string) string {
		return `{"event":"run","format":"fern-events/1","at":"` + at + `","meta":{"revision":"4f2a9c1"}}
{"event":"finished","at":"` + at + `","worker":1,"batch":1,"id":"c:.#spoils","outcome":"passed","seconds":0.1}
{"event":"finished","at":"` + at + `","worker":1,"batch":1,"id":"c:.#victim","outcome":"failed","seconds":0.1,"message":"dirty"}
{"event":"finding","at":"` + at + `","id":"c:.#victim","finding":{"verdict":"polluted","words":"` + words + `","culprits":[["c:.#spoils"]],"order":["c:.#spoils","c:.#victim"],"remedy":"spoils leaves x = 5."}}
{"event":"finding","at":"` + at + `","id":"c:.#spoils","finding":{"verdict":"guilty","words":"no verdict of ours"}}
{"event":"end","at":"` + at + `"}
`
	}
	testfiles.Write(t, dir, map[string]string{"new.jsonl": events("2026-10-02T10:00:00Z", "the newer words"), "old.jsonl": events("2026-09-02T10:00:00Z", "the older words")})
	if got := fern(t, dir, "ledger", "import", "new.jsonl"); got.status != 0 || !strings.Contains(got.stdout, "1 run with 2 results kept; 1 finding of hunts") {
		t.Fatalf("%d %s%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, dir, "ledger", "import", "old.jsonl"); got.status != 0 || strings.Contains(got.stdout, "finding") {
		t.Errorf("an older finding takes the place of a newer one: %d %s%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, dir, "report", "1", "-o", "out.md"); got.status != 0 {
		t.Fatal(got.stderr)
	}
	page, err := os.ReadFile(filepath.Join(dir, "out.md"))
	if err != nil || !strings.Contains(string(page), "polluted: the newer words. spoils leaves x = 5.") || strings.Contains(string(page), "guilty") {
		t.Errorf("%v: the report says\n%s", err, page)
	}
	if got := fern(t, dir, "hunt", "--verify"); got.status != 0 || !strings.Contains(got.stdout, "victim is mended: it no longer depends on spoils") {
		t.Errorf("the finding is tried: %d %s%s", got.status, got.stdout, got.stderr)
	}
}
