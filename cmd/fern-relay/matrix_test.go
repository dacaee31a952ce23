package main

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/internal/testfiles"
)

// needServers skips a test of real servers where they are missing, and never on CI.
func needServers(t *testing.T) {
	t.Helper()
	for _, name := range []string{"redis-server", "redis-cli", "pg_isready"} {
		if _, err := exec.LookPath(name); err != nil {
			if os.Getenv("CI") != "" {
				t.Fatal(name, "is missing")
			}
			t.Skip(name, "is missing")
		}
	}
	needOtherUsers(t) // as whom root runs PostgreSQL
}

// needOtherUsers skips a test of root that becomes another user, where the root folder is closed to them.
func needOtherUsers(t *testing.T) {
	t.Helper()
	root, err := os.Stat("/")
	if err != nil {
		t.Fatal(err)
	}
	if os.Getuid() != 0 || root.Mode()&0o001 != 0 {
		return
	}
	if os.Getenv("CI") != "" {
		t.Fatal("the root folder is closed to other users")
	}
	t.Skip("the root folder is closed to other users")
}

// storesExample copies the example of stores to where the user postgres can reach it.
func storesExample(t *testing.T) string {
	t.Helper()
	dir := copied(t, "../../examples/stores")
	for _, above := range []string{dir, filepath.Dir(dir)} {
		if err := os.Chmod(above, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

func readMatrixFile(t *testing.T, text string) *matrix.File {
	t.Helper()
	f, err := matrix.Read(strings.NewReader(text))
	if err != nil {
		t.Fatalf("%v in\n%s", err, text)
	}
	return f
}

// TestStores runs the example on real servers: the two honest differences are explained, and the step after all crossings
// runs once they pass.
func TestStores(t *testing.T) {
	needServers(t)
	t.Parallel()
	dir := storesExample(t)
	got := fern(t, dir, "matrix", "run", "--json", "--strict", "-o", filepath.Join(dir, "report.html"), "--junit", filepath.Join(dir, "junit.xml"))
	if got.status != 1 {
		t.Fatalf("status %d\n%s\n%s", got.status, got.stdout, got.stderr)
	}
	f := readMatrixFile(t, got.stdout)
	explained := map[string]string{}
	for _, e := range f.Explained {
		explained[strings.Join(e.Tests, " ")] = e.Text
	}
	if len(explained) != 2 || explained["stores:.#TestAnyBytes"] != "1 test fails wherever store is postgres; mode makes no difference" ||
		explained["stores:.#TestHalfABatch"] != "1 test fails only where store is redis and mode is batch" {
		t.Errorf("explained are %q", explained)
	}
	bad := 0
	for _, c := range f.Crossings {
		if c.Outcome.Bad() {
			bad++
		}
		if want := c.Of["store"] != "memory"; want != (len(c.Services) == 1 && c.Services[0].Ready > 0) {
			t.Errorf("the services of %v are %v", c.Of, c.Services)
		}
	}
	if len(f.Crossings) != 6 || bad != 3 || len(f.Unexplained)+len(f.Flaky) > 0 || f.Then.Outcome != run.Skipped {
		t.Errorf("%d crossings, %d bad; unexplained %v, flaky %v, then %+v", len(f.Crossings), bad, f.Unexplained, f.Flaky, f.Then)
	}
	page, err := os.ReadFile(filepath.Join(dir, "report.html"))
	if err != nil || !strings.Contains(string(page), "1 test fails wherever store is postgres") {
		t.Errorf("the report does not explain the failures, %v", err)
	}
	if xml, err := os.ReadFile(filepath.Join(dir, "junit.xml")); err != nil || strings.Count(string(xml), `name="fern.crossing"`) != 6 {
		t.Errorf("the JUnit report has not six crossings, %v", err)
	}
	got = fern(t, dir, "matrix", "run", "-p", "not name:AnyBytes not name:HalfABatch")
	if got.status != 0 || !strings.Contains(got.stdout, "then ./announce: passed\n    all stores agree: 6 crossings passed") {
		t.Errorf("without the differences: status %d\n%s\n%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, dir, "list", "-p", "crossing:store=postgres was:failed"); !strings.Contains(got.stdout, "TestAnyBytes") || strings.Contains(got.stdout, "HalfABatch") {
		t.Errorf("failed in PostgreSQL are\n%s", got.stdout)
	}
	got = fern(t, dir, "ledger", "runs", "-p", "crossing:store=redis,mode=batch")
	if strings.Count(got.stdout, "in store=redis,mode=batch") != 2 || strings.Contains(got.stdout, "postgres") {
		t.Errorf("the runs of a crossing are\n%s%s", got.stdout, got.stderr)
	}
}

// TestStoresInTrouble has PostgreSQL never be ready, and kills Redis in the middle.
func TestStoresInTrouble(t *testing.T) {
	needServers(t)
	t.Parallel()
	dir := storesExample(t)
	config, err := os.ReadFile(filepath.Join(dir, "fern.toml"))
	if err != nil {
		t.Fatal(err)
	}
	text := strings.NewReplacer(`ready = "./postgres ready {port}"`, `ready = "false"`, `within = "60s"`, `within = "15s"`,
		`start = "redis-server`, `start = "sh -c 'echo $$ >pid; exec \"$0\" \"$@\"' redis-server`).Replace(string(config))
	testfiles.Write(t, dir, map[string]string{"fern.toml": text,
		"kill_test.go": "package stores\n\nimport (\n\t\"os\"\n\t\"strconv\"\n\t\"strings\"\n\t\"syscall\"\n\t\"testing\"\n\t\"time\"\n)\n\nfunc TestKill(t *testing.T) {\n\tdata, _ := os.ReadFile(\"pid\")\n\tif pid, err := strconv.Atoi(strings.TrimSpace(string(data))); err == nil {\n\t\t_ = syscall.Kill(pid, syscall.SIGKILL)\n\t\ttime.Sleep(time.Minute)\n\t}\n}\n"})
	got := fern(t, dir, "matrix", "run", "--at", "store=postgres,mode=single", "--at", "store=redis,mode=single", "--json")
	f := readMatrixFile(t, got.stdout)
	for _, c := range f.Crossings {
		want := "the service postgres: it is not ready after 15s: ready = \"false\"; it printed last:"
		if c.Of["store"] == "redis" {
			want = "the service redis: it ended: signal 9, killed"
		}
		if c.Outcome != run.Errored && c.Outcome != run.Failed || len(c.Failures) == 0 || !strings.HasPrefix(c.Failures[len(c.Failures)-1].Message, want) {
			t.Errorf("%v: %s, %+v", c.Of, c.Outcome, c.Failures)
		}
	}
	if got.status != 1 || len(f.Crossings) != 2 {
		t.Errorf("status %d, %d crossings\n%s", got.status, len(f.Crossings), got.stderr)
	}
}

// served is a project whose tests need a stand-in server, with more of fern.toml.
func served(t *testing.T, service, more string) string {
	t.Helper()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"fern.toml": fmt.Sprintf(`
[[suite]]
name = "served"
kind = "command"
list = "seq -f test%%g 200"
run = "./one {name}"
services = ["shelf"]

[[suite]]
name = "free"
kind = "command"
list = "seq -f free%%g 3"
run = "true {name}"

[workers]
count = 3

[[service]]
name = "shelf"
start = "sh -c 'echo $$ >{data}/pid; exec %s demo-store shelf 127.0.0.1:{port}'"
ready = "tcp:{port}"
every = "10ms"
env = { SHELF = "127.0.0.1:{port}", SHELF_DATA = "{data}" }
%s
%s`, program, service, more),
		"one": "#!/bin/sh\n[ \"$1\" != test50 ] || ! [ -e kill-it ] || kill -9 $(cat $SHELF_DATA/pid)\n[ \"$1\" != test60 ] || ! [ -e stay ] || { echo \"$SHELF\" >at; sleep 60; }\n[ -n \"$SHELF\" ]\n",
	})
	if err := os.Chmod(filepath.Join(dir, "one"), 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

// TestServices runs tests that need a server: all of them in one, those of a server that dies, that is never ready, and that is
// missing.
func TestServices(t *testing.T) {
	t.Parallel()
	dir := served(t, "", "")
	got := fern(t, dir, "run")
	if got.status != 0 || !strings.Contains(got.stderr, "shelf ready in") || !strings.Contains(got.stdout, "203 passed") {
		t.Errorf("status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	testfiles.Write(t, dir, map[string]string{"kill-it": ""})
	got = fern(t, dir, "run", "--order", "as-written")
	if got.status != 1 || strings.Count(got.stdout, "the service shelf: it ended: signal 9, killed") != 1 || !strings.Contains(got.stdout, "errored; ") {
		t.Errorf("with a server that dies: status %d\n%s", got.status, got.stdout)
	}
	for what, c := range map[string]struct {
		config, more string
		flags        []string
		status       int
		want         string
	}{
		"never ready": {`within = "200ms"`, "", nil, 1, "it is not ready after 200ms"},
		"missing":     {"", "[[service]]\nname = \"none\"\nstart = \"no-such-server\"\nready = \"true\"\n[matrix.vary]\nwith = [\"none\"]\n[[matrix.with]]\nof = { with = \"none\" }\nservices = [\"none\"]\n", []string{"--no"}, 0, "skipped: the service none needs no-such-server"},
	} {
		dir := served(t, strings.Replace(c.config, "within", "ready = \"false\"\nwithin", 1), c.more)
		if c.flags == nil {
			config, err := os.ReadFile(filepath.Join(dir, "fern.toml"))
			if err != nil {
				t.Fatal(err)
			}
			testfiles.Write(t, dir, map[string]string{"fern.toml": strings.Replace(string(config), "ready = \"tcp:{port}\"\n", "", 1)})
			got = fern(t, dir, "run", "-p", "suite:served")
		} else {
			got = fern(t, dir, "matrix", "run", "--strict=false")
		}
		if got.status != c.status || !strings.Contains(got.stdout, c.want) {
			t.Errorf("%s: status %d\n%s\n%s", what, got.status, got.stdout, got.stderr)
		}
		if what == "missing" {
			if got := fern(t, dir, "matrix", "run", "--strict"); got.status != 1 {
				t.Errorf("missing and strict: status %d\n%s", got.status, got.stdout)
			}
		}
	}
}

// TestServiceOutlivesNothing kills the program while a server runs: the next command has stopped it.
func TestServiceOutlivesNothing(t *testing.T) {
	t.Parallel()
	dir := served(t, "", "")
	testfiles.Write(t, dir, map[string]string{"stay": ""})
	cmd := command(dir, "run")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	address := ""
	for address == "" { // the test's deadline bounds the wait
		time.Sleep(10 * time.Millisecond)
		data, _ := os.ReadFile(filepath.Join(dir, "at"))
		address = strings.TrimSpace(string(data))
	}
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	fern(t, dir, "list")
	for begun := time.Now(); ; time.Sleep(10 * time.Millisecond) {
		conn, err := net.Dial("tcp", address)
		if err != nil {
			return
		}
		conn.Close()
		if time.Since(begun) > time.Minute {
			t.Fatal("the server still answers")
		}
	}
}

// crossed is a project with a matrix of two names, without services.
func crossed(t *testing.T, more string) string {
	t.Helper()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"fern.toml": "[[suite]]\nname = \"beds\"\nkind = \"command\"\nlist = \"seq -f bed%g 6\"\nrun = \"./one {name}\"\n[matrix.vary]\nsoil = [\"peat\", \"sand\"]\nlight = [\"sun\", \"shade\", \"moon\"]\n" +
			"[[matrix.with]]\nof = { soil = \"sand\" }\nenv = { SOIL = \"sand\" }\n[[matrix.with]]\nof = { soil = \"peat\", light = \"moon\" }\nleave-out = \"peat is dark\"\n" + more,
		"one": "#!/bin/sh\n[ \"$1\" != bed2 ] || [ -z \"$SOIL\" ] || { echo too dry; exit 1; }\n",
	})
	if err := os.Chmod(filepath.Join(dir, "one"), 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

// TestSharedService has crossings use one server if both say so, and each its own otherwise.
func TestSharedService(t *testing.T) {
	t.Parallel()
	config := "[[service]]\nname = \"shelf\"\nstart = \"sh -c 'echo started >>starts; exec " + program + " demo-store shelf 127.0.0.1:{port}'\"\nready = \"tcp:{port}\"\nevery = \"20ms\"\n" +
		"[[matrix.with]]\nof = { soil = \"sand\" }\nservices = [\"shelf\"]\n"
	for more, want := range map[string]int{"": 3, "share = [\"shelf\"]\n": 1} {
		dir := crossed(t, config+more)
		got := fern(t, dir, "matrix", "run", "--at", "soil=sand", "--at-once", "2")
		starts, _ := os.ReadFile(filepath.Join(dir, "starts"))
		if n := strings.Count(string(starts), "started"); n != want || strings.Count(got.stdout, "shelf ready in") != 3 {
			t.Errorf("with %q the server started %d times, want %d\n%s%s", more, n, want, got.stdout, got.stderr)
		}
	}
}

// TestMatrixOnCI runs crossings and shards of them as the jobs of a CI system, and joins the pieces.
func TestMatrixOnCI(t *testing.T) {
	t.Parallel()
	dir := crossed(t, "")
	var jobs []matrixJob
	got := fern(t, dir, "matrix", "jobs", "--shards", "2")
	if err := json.Unmarshal([]byte(got.stdout), &jobs); err != nil || len(jobs) != 10 || strings.Count(got.stdout, "\n") != 1 {
		t.Fatalf("%d jobs, %v: %s%s", len(jobs), err, got.stdout, got.stderr)
	}
	if j := jobs[1]; j != (matrixJob{"soil=peat,light=sun", 2, 2, "peat sun 2/2", "--at soil=peat,light=sun --shard 2/2"}) {
		t.Errorf("the second job is %+v", j)
	}
	var files []string
	for i, j := range jobs {
		if err := os.RemoveAll(filepath.Join(dir, ".fern")); err != nil { // each job has a checkout of its own
			t.Fatal(err)
		}
		got := fern(t, dir, append([]string{"matrix", "run", "--json"}, strings.Fields(j.Args)...)...)
		if got.status > 1 {
			t.Fatalf("%s: status %d\n%s", j.Label, got.status, got.stderr)
		}
		name := fmt.Sprintf("part%d.json", i)
		testfiles.Write(t, dir, map[string]string{name: got.stdout})
		files = append(files, name)
	}
	got = fern(t, dir, append([]string{"merge"}, files...)...)
	if want := "1 test fails wherever soil is sand; light makes no difference: .#bed2"; got.status != 1 || !strings.Contains(got.stdout, want) || !strings.Contains(got.stdout, "2 of 5 crossings that must pass passed") {
		t.Errorf("merged: status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	got = fern(t, dir, append([]string{"merge"}, files[1:8]...)...)
	if got.status != 3 || !strings.Contains(got.stderr, "the crossing soil=sand,light=moon never came back") || !strings.Contains(got.stdout, "of 2 shards these never came back: 1") {
		t.Errorf("with pieces missing: status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
}

// TestMatrixMistakes names the line and column of what is wrong with a matrix.
func TestMatrixMistakes(t *testing.T) {
	t.Parallel()
	for more, want := range map[string]string{
		"[[matrix.with]]\nof = { soil = \"clay\" }\nenv = { A = \"1\" }\n":                 "fern.toml:16:1: soil has no value clay: it is one of peat, sand",
		"[[matrix.with]]\nof = { ground = \"peat\" }\nenv = { A = \"1\" }\n":               "fern.toml:16:1: ground does not vary: it is one of soil, light",
		"[[matrix.add]]\nof = { soil = \"peat\", light = \"sun\" }\n":                      "fern.toml:16:1: the crossing peat sun is defined twice",
		"[[matrix.with]]\nof = { soil = \"peat\" }\nservices = [\"redis\"]\n":              "fern.toml:17:1: there is no service \"redis\"",
		"[[matrix.with]]\nof = { soil = \"peat\" }\nleave-out = \"a\"\nmay-fail = \"b\"\n": "fern.toml:18:1: what is left out cannot fail",
		"[[matrix.with]]\nof = { soil = \"peat\" }\npick = \"bed (\"\n":                    "fern.toml:17:",
		"[matrix.then]\nrun = \"'\"\n":                                                     "fern.toml:16:1: run = \"'\" is not a command line",
		"[[service]]\nname = \"a\"\nstart = \"b\"\n":                                       "fern.toml:15:1: service a has no ready",
		"[[service]]\nname = \"a\"\nstart = \"b\"\nready = \"c\"\nstop = \"X\"\n":          "fern.toml:19:1: stop of service a is \"X\"",
	} {
		if got := fern(t, crossed(t, more), "matrix"); got.status != 2 || !strings.Contains(got.stderr, want) {
			t.Errorf("%q: status %d, %swant %s", more, got.status, got.stderr, want)
		}
	}
	if got := fern(t, crossed(t, ""), "matrix", "run", "--at", "soil=clay"); got.status != 2 || !strings.Contains(got.stderr, "--at: soil has no value clay") {
		t.Errorf("--at: status %d, %s", got.status, got.stderr)
	}
	if got := fern(t, crossed(t, ""), "matrix", "--pairs"); got.status != 0 || !strings.Contains(got.stderr, "5 of 5 crossings have every pair of values") {
		t.Errorf("--pairs: status %d, %s", got.status, got.stderr)
	}
	if got := fern(t, crossed(t, ""), "matrix", "run", "--pairs", "--at", "soil=peat,light=moon"); got.status != 2 || !strings.Contains(got.stderr, "--pairs chooses no crossing") {
		t.Errorf("--pairs --at: status %d, %s", got.status, got.stderr)
	}
}

// TestMatrixResume kills a run of crossings, and runs the rest.
func TestMatrixResume(t *testing.T) {
	t.Parallel()
	dir := crossed(t, "")
	testfiles.Write(t, dir, map[string]string{"one": "#!/bin/sh\n[ \"$SOIL\" != sand ] || ! [ -e slow ] || { touch begun; sleep 60; }\n", "slow": ""})
	if err := os.Chmod(filepath.Join(dir, "one"), 0o755); err != nil {
		t.Fatal(err)
	}
	cmd := command(dir, "matrix", "run")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for begun := false; !begun; time.Sleep(10 * time.Millisecond) { // the test's deadline bounds the wait
		_, err := os.Stat(filepath.Join(dir, "begun"))
		begun = err == nil
	}
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	if err := os.Remove(filepath.Join(dir, "slow")); err != nil {
		t.Fatal(err)
	}
	if got := fern(t, dir, "run", "--resume"); got.status != 2 || !strings.Contains(got.stderr, "fern-relay matrix run --resume") {
		t.Errorf("run --resume: status %d, %s", got.status, got.stderr)
	}
	got := fern(t, dir, "matrix", "run", "--resume")
	if got.status != 0 || strings.Contains(got.stderr, "▸ peat") || strings.Count(got.stderr, "▸ sand") != 3 || !strings.Contains(got.stdout, "5 of 5 crossings") {
		t.Errorf("status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, dir, "matrix", "run", "--resume"); got.status != 2 || !strings.Contains(got.stderr, "nothing to resume") {
		t.Errorf("resumed again: status %d\n%s", got.status, got.stderr)
	}
}

// TestRehearsal finds a file that is not committed, a variable of this shell and a program that fern.toml does not declare.
func TestRehearsal(t *testing.T) {
	t.Parallel()
	dir := crossed(t, "")
	testfiles.Write(t, dir, map[string]string{
		"one":             "#!/bin/sh\ncase $1 in\nbed1) cat local.conf;;\nbed2) [ -n \"$BEDS_TOKEN\" ] || { echo denied; exit 1; };;\nbed3) beds-tool;;\nesac\n",
		".gitignore":      "local.conf\ntools/\n",
		"local.conf":      "",
		"tools/beds-tool": "#!/bin/sh\n",
	})
	for _, name := range []string{"one", "tools/beds-tool"} {
		if err := os.Chmod(filepath.Join(dir, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	git(t, dir, "init", "-q")
	git(t, dir, "add", ".")
	git(t, dir, "commit", "-qm", "beds")
	here := func(args ...string) result {
		cmd := command(dir, args...)
		cmd.Env = append(os.Environ(), "BEDS_TOKEN=1", "PATH="+filepath.Join(dir, "tools")+":"+os.Getenv("PATH"))
		return finish(t, cmd)
	}
	if got := here("matrix", "run"); got.status != 0 {
		t.Fatalf("here: status %d\n%s", got.status, got.stdout)
	}
	got := here("matrix", "run", "--as-ci")
	if got.status != 1 {
		t.Errorf("status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	for _, want := range []string{"2 tests fail in every crossing", "the file local.conf is not committed, and its failure names it",
		"the variable BEDS_TOKEN is set in this shell, and one:4 names it", "the program beds-tool ran, and fern.toml does not declare it"} {
		if !strings.Contains(got.stdout, want) {
			t.Errorf("%q is missing in\n%s\n%s", want, got.stdout, got.stderr)
		}
	}
}

// TestMatrixOnScreen runs the demo's matrix, reads the explanations, lists the tests of one, and watches a crossing.
func TestMatrixOnScreen(t *testing.T) {
	t.Parallel()
	for _, size := range []struct{ width, height int }{{160, 40}, {80, 24}} {
		t.Run(fmt.Sprintf("%dx%d", size.width, size.height), func(t *testing.T) {
			t.Parallel()
			s := open(t, size.width, size.height, t.TempDir(), []string{"XDG_CACHE_HOME=" + t.TempDir()}, "demo")
			s.shows("252 of 252")
			s.press("/")
			s.typed("name:sows or name:holds_5")
			s.shows("12 of 252 tests")
			s.press("Enter")
			s.shows("q quit")
			s.press("6")
			s.shows("7 crossings of store × season, about 0:", "left out: the model has no summer", "cellar", "waits for 5 of 5 crossings")
			s.whole()
			s.press("r")
			s.shows("tests fail only where store is shelf and season is summer", "tests fail wherever store is cellar", "season makes no difference", "3 crossings")
			s.shows("2 of 5")
			s.whole()
			s.press("Tab", "Enter")
			s.shows("sows_bracken", "got [south north]")
			s.press("Enter", "Tab", "g")
			s.shows("past  ▪")
			s.press("w")
			s.shows("12 of 12", "no failures")
			s.press("6", "q")
			s.ended()
		})
	}
}

// TestMatrixOnFleet has two machines take crossings of a matrix from one station. One lacks a service and leaves its crossings to
// the other.
func TestMatrixOnFleet(t *testing.T) {
	t.Parallel()
	r := newRig(t, 1, "")
	service := func(start string) string {
		return crossed(t, "[project]\nname = \"beds\"\n[[service]]\nname = \"shelf\"\nstart = \""+start+"\"\nready = \"tcp:{port}\"\nevery = \"20ms\"\n[[matrix.with]]\nof = { soil = \"peat\" }\nservices = [\"shelf\"]\n")
	}
	type part struct {
		name string
		got  result
	}
	parts := make(chan part)
	for name, start := range map[string]string{"moss": program + " demo-store shelf 127.0.0.1:{port}", "heath": "no-such-server"} {
		dir := service(start)
		go func() {
			cmd := command(dir, "matrix", "run", "--machine", name, "--json")
			cmd.Env = append(os.Environ(), "FERN_FLEET="+r.url(), "FERN_FLEET_RUN=beds")
			parts <- part{name, finish(t, cmd)}
		}()
	}
	for range 2 {
		p := <-parts
		if p.got.status == 2 {
			t.Fatalf("%s: %s", p.name, p.got.stderr)
		}
		f := readMatrixFile(t, p.got.stdout)
		passed := 0
		for _, c := range f.Crossings {
			if c.Of["soil"] == "peat" && c.Outcome == run.Passed {
				passed++
			}
		}
		if p.name == "moss" && (passed != 2 || p.got.status != 1 || len(f.Explained) != 1 || f.Explained[0].Text != "1 test fails wherever soil is sand; light makes no difference") {
			t.Errorf("%s: status %d, %d passed, %+v\n%s", p.name, p.got.status, passed, f.Explained, p.got.stderr)
		}
		if p.name == "heath" && !strings.Contains(p.got.stderr, "left to other machines: the service shelf needs no-such-server") {
			t.Errorf("%s: status %d\n%s", p.name, p.got.status, p.got.stderr)
		}
	}
}
