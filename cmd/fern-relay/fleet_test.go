package main

import (
	"bufio"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/nats-io/nats.go"

	"fernrelay/core/run"
	"fernrelay/internal/fleet"
	"fernrelay/internal/testfiles"
)

// rig is a station and a project for machines that are processes on this computer.
type rig struct {
	t       *testing.T
	dir     string // of the project
	store   string // of the station
	port    string
	station *exec.Cmd
	id      string // of the fleet run
	count   int    // tests of the project
}

// fleetLease is the lease of the tests' runs.
const fleetLease = 2 * time.Second

// newRig starts a station and makes a project of tests that sleep. t03 fails, and gate waits until openGate is called.
func newRig(t *testing.T, tests int, config string) *rig {
	t.Helper()
	names := []string{"gate"}
	for i := 1; i < tests; i++ {
		names = append(names, fmt.Sprintf("t%02d", i))
	}
	r := &rig{t: t, id: "run-1", store: t.TempDir(), port: "0", count: tests}
	r.dir = scripts(t, config, strings.Join(names, " "), `
gate) echo "$1 $MACHINE" >> log; until [ -e open ]; do sleep 0.05; done;;
t03) echo "$1 $MACHINE" >> log; sleep 0.1; echo "want 3, got 4"; exit 1;;
*) echo "$1 $MACHINE" >> log; mkdir held 2>/dev/null || echo "$1" >> overlaps; sleep 0.1; rmdir held 2>/dev/null; exit 0;;`)
	r.startStation()
	t.Cleanup(func() {
		_ = r.station.Process.Kill()
		_ = r.station.Wait()
	})
	return r
}

// startStation starts the station, at the same port as before if it ran before.
func (r *rig) startStation(flags ...string) {
	r.t.Helper()
	r.station = command(r.dir, append([]string{"station", "--store", r.store, "--listen", "127.0.0.1:" + r.port}, flags...)...)
	out, err := r.station.StdoutPipe()
	if err == nil {
		err = r.station.Start()
	}
	if err != nil {
		r.t.Fatal(err)
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		r.t.Fatalf("the station says %q: %v", line, err)
	}
	_, rest, _ := strings.Cut(line, "nats://127.0.0.1:")
	r.port, _, _ = strings.Cut(rest, " ")
	go io.Copy(io.Discard, out)
}

func (r *rig) url() string { return "nats://127.0.0.1:" + r.port }

// openGate lets the test gate end.
func (r *rig) openGate() { writeFile(r.t, filepath.Join(r.dir, "open"), "") }

// begun counts how often a test began on a machine; "" for any.
func (r *rig) begun(test, machine string) (n int) {
	data, _ := os.ReadFile(filepath.Join(r.dir, "log"))
	for line := range strings.Lines(string(data)) {
		name, on, _ := strings.Cut(strings.TrimSpace(line), " ")
		if (test == "" || name == test) && (machine == "" || on == machine) {
			n++
		}
	}
	return n
}

// testMachine is a process that takes part in a run.
type testMachine struct {
	cmd  *exec.Cmd
	out  *lockedBuffer
	temp string
	done chan struct{}
}

// start starts a machine with two workers that meets the others at a URL.
func (r *rig) startAt(url, name string, args ...string) *testMachine {
	r.t.Helper()
	m := &testMachine{out: &lockedBuffer{}, temp: r.t.TempDir(), done: make(chan struct{})}
	m.cmd = command(r.dir, append([]string{"run", "--machine", name, "--workers", "2", "--lease", fleetLease.String()}, args...)...)
	m.cmd.Env = append(os.Environ(), "FERN_FLEET="+url, "FERN_FLEET_RUN="+r.id, "MACHINE="+name, "TMPDIR="+m.temp)
	m.cmd.Stdout, m.cmd.Stderr = m.out, m.out
	if err := m.cmd.Start(); err != nil {
		r.t.Fatal(err)
	}
	go func() { _ = m.cmd.Wait(); close(m.done) }()
	r.t.Cleanup(func() {
		_ = m.cmd.Process.Signal(syscall.SIGCONT)
		_ = m.cmd.Process.Kill()
		<-m.done
	})
	return m
}

func (r *rig) start(name string, args ...string) *testMachine {
	return r.startAt(r.url(), name, args...)
}

// wait waits for a machine to end, and returns its exit status.
func (r *rig) wait(m *testMachine) int {
	r.t.Helper()
	select {
	case <-m.done:
		return m.cmd.ProcessState.ExitCode()
	case <-time.After(90 * time.Second):
		r.t.Fatalf("a machine does not end:\n%s", m.out)
		return 0
	}
}

// ended waits for machines and checks that they leave no temporary files.
func (r *rig) ended(want []int, machines ...*testMachine) {
	r.t.Helper()
	for _, m := range machines {
		if got := r.wait(m); !slices.Contains(want, got) {
			r.t.Errorf("a machine ends with %d:\n%s", got, m.out)
		}
		if left, err := os.ReadDir(m.temp); err != nil || len(left) > 0 {
			r.t.Errorf("a machine leaves %v, %v", left, err)
		}
	}
}

// query runs a command about the fleet run.
func (r *rig) query(args ...string) result {
	r.t.Helper()
	cmd := command(r.dir, args...)
	cmd.Env = append(os.Environ(), "FERN_FLEET="+r.url(), "FERN_FLEET_RUN="+r.id)
	return finish(r.t, cmd)
}

// status returns the state of the run as fleet status prints it.
func (r *rig) status() fleet.Status {
	r.t.Helper()
	var s fleet.Status
	if got := r.query("fleet", "status", "--json"); got.status == 0 {
		if err := json.Unmarshal([]byte(got.stdout), &s); err != nil {
			r.t.Fatal(err)
		}
	}
	return s
}

// whole checks that each test of the run has exactly one outcome, as it should, and returns what collect prints.
func (r *rig) whole() string {
	r.t.Helper()
	file := filepath.Join(r.t.TempDir(), "events.jsonl")
	got := r.query("fleet", "collect", "--events", file, "--timeout", "60s")
	finished := map[string]int{}
	for _, e := range readEvents(r.t, file) {
		if e.Event != run.Finished {
			continue
		}
		finished[e.ID]++
		want := run.Passed
		if strings.HasSuffix(e.ID, "#t03") {
			want = run.Failed
		}
		if e.Outcome != want || e.Machine == "" || e.Worker == 0 {
			r.t.Errorf("%s is %s on worker %d of %q: %s", e.ID, e.Outcome, e.Worker, e.Machine, e.Message)
		}
	}
	for id, n := range finished {
		if n != 1 {
			r.t.Errorf("%s has %d outcomes", id, n)
		}
	}
	if len(finished) != r.count || got.status != 1 {
		r.t.Errorf("%d of %d tests have an outcome; collect ends with %d:\n%s%s", len(finished), r.count, got.status, got.stdout, got.stderr)
	}
	return got.stdout
}

// gateOn waits until a machine runs the test gate, and returns it and the other.
func (r *rig) gateOn(machines map[string]*testMachine) (with, other *testMachine, name string) {
	r.t.Helper()
	waitFor(r.t, "the test gate to begin", func() bool { return r.begun("gate", "") > 0 })
	for n, m := range machines {
		if r.begun("gate", n) > 0 {
			with, name = m, n
		} else {
			other = m
		}
	}
	return with, other, name
}

// repeats is how often each fault is tried: more by scripts/fleet-faults.
func repeats() int {
	n, err := strconv.Atoi(os.Getenv("FERN_TEST_REPEAT"))
	if err != nil {
		return 3
	}
	return n
}

// TestFleetFaults holds that whatever happens to machines, links and the station, each test has exactly one outcome, and
// exit statuses are true.
func TestFleetFaults(t *testing.T) {
	t.Parallel()
	faults := map[string]func(t *testing.T){
		"killed": killed, "stopped": stopped, "cut": cutOff, "station": stationKilled, "full": stationFull, "two runs": twoRuns,
		"twice": deliveredTwice, "other tests": otherTests, "last": lastKilled, "interrupted": interrupted, "interrupted twice": interruptedTwice, "gives up": givenUp,
	}
	var wg sync.WaitGroup
	room := make(chan bool, 8) // they mostly wait, so that more of them than processors run at once
	for name, fault := range faults {
		for n := range repeats() {
			wg.Go(func() {
				room <- true
				t.Run(fmt.Sprint(name, " ", n), fault)
				<-room
			})
		}
	}
	wg.Wait()
}

// killed kills a machine while it runs a test: another machine runs its batch.
func killed(t *testing.T) {
	r := newRig(t, 16, "")
	machines := map[string]*testMachine{"moss": r.start("moss"), "heath": r.start("heath")}
	victim, other, name := r.gateOn(machines)
	if s := r.status(); s.EndsIn == nil {
		t.Errorf("no end is forecast of %+v", s)
	}
	if err := victim.cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	r.openGate()
	r.ended([]int{0, 1}, other)
	r.whole()
	if s := r.status(); s.EndsIn != nil {
		t.Errorf("%v s after its end, the run ends", *s.EndsIn)
	}
	if words := r.query("fleet", "status").stdout; !strings.Contains(words, name) || !strings.Contains(words, "lost at") {
		t.Errorf("the lost machine %s is not named:\n%s", name, words)
	}
}

// stopped stops a machine for longer than its lease, and lets it go on while another machine runs its batch: what has two
// outcomes is reported.
func stopped(t *testing.T) {
	r := newRig(t, 16, "")
	machines := map[string]*testMachine{"moss": r.start("moss"), "heath": r.start("heath")}
	victim, other, name := r.gateOn(machines)
	_ = victim.cmd.Process.Signal(syscall.SIGSTOP)
	waitFor(t, "the gate to begin elsewhere", func() bool { return r.begun("gate", "") > r.begun("gate", name) })
	_ = victim.cmd.Process.Signal(syscall.SIGCONT)
	waitFor(t, "the machine to see that its claim is over", func() bool { return r.status().State == fleet.Open })
	r.openGate()
	r.ended([]int{0, 1}, victim, other)
	r.whole()
}

// proxy forwards to the station until it is cut: then it forwards nothing, and closes no connection.
type proxy struct {
	listener net.Listener
	mu       sync.Mutex
	passes   *sync.Cond
	cut      bool
}

func newProxy(t *testing.T, to string) *proxy {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p := &proxy{listener: l}
	p.passes = sync.NewCond(&p.mu)
	t.Cleanup(func() { l.Close(); p.set(false) })
	go func() {
		for {
			from, err := l.Accept()
			if err != nil {
				return
			}
			into, err := net.Dial("tcp", to)
			if err != nil {
				from.Close()
				continue
			}
			go p.forward(from, into)
			go p.forward(into, from)
		}
	}()
	return p
}

func (p *proxy) set(cut bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.cut = cut
	p.passes.Broadcast()
}

func (p *proxy) forward(from, to net.Conn) {
	defer from.Close()
	defer to.Close()
	buffer := make([]byte, 64<<10)
	for {
		n, err := from.Read(buffer)
		p.mu.Lock()
		for p.cut {
			p.passes.Wait()
		}
		p.mu.Unlock()
		if err != nil {
			return
		}
		if _, err := to.Write(buffer[:n]); err != nil {
			return
		}
	}
}

// cutOff cuts a machine's link for longer than its lease: another runs its batch, and the machine goes on when the link is
// back.
func cutOff(t *testing.T) {
	r := newRig(t, 16, "")
	p := newProxy(t, "127.0.0.1:"+r.port)
	far := r.startAt("nats://"+p.listener.Addr().String(), "far")
	waitFor(t, "the gate to begin", func() bool { return r.begun("gate", "far") > 0 })
	near := r.start("near")
	p.set(true)
	waitFor(t, "the gate to begin on the other machine", func() bool { return r.begun("gate", "near") > 0 })
	p.set(false)
	r.openGate()
	r.ended([]int{0, 1}, far, near)
	r.whole()
}

// stationKilled kills the station in the middle, and starts it again.
func stationKilled(t *testing.T) {
	r := newRig(t, 16, "")
	one, other := r.start("moss"), r.start("heath")
	waitFor(t, "the run to be in its middle", func() bool { return r.begun("", "") >= 6 && r.begun("gate", "") > 0 })
	_ = r.station.Process.Kill()
	_ = r.station.Wait()
	r.openGate()
	r.startStation()
	r.ended([]int{0, 1}, one, other)
	r.whole()
}

// stationFull lets the station have no room for events, until it is started with more.
func stationFull(t *testing.T) {
	r := newRig(t, 40, "")
	_ = r.station.Process.Kill()
	_ = r.station.Wait()
	r.startStation("--max-size", "24KB")
	one, other := r.start("moss"), r.start("heath")
	waitFor(t, "a machine to say that the station is full", func() bool { return strings.Contains(one.out.String()+other.out.String(), "is its disk full?") })
	_ = r.station.Process.Kill()
	_ = r.station.Wait()
	r.openGate()
	r.startStation("--max-size", "100MB")
	r.ended([]int{0, 1}, one, other)
	r.whole()
}

// twoRuns runs two runs at one station, whose machines share a resource.
func twoRuns(t *testing.T) {
	r := newRig(t, 12, "[[rule]]\npick = 'not name:gate'\nholds = [\"bench\"]\n[fleet]\nresources = [\"bench\"]\n")
	r.openGate()
	a, b := r.start("moss"), r.start("heath")
	r.id = "run-2"
	c, d := r.start("moss"), r.start("heath")
	r.ended([]int{0, 1}, c, d)
	r.whole()
	r.id = "run-1"
	r.ended([]int{0, 1}, a, b)
	r.whole()
	if data, err := os.ReadFile(filepath.Join(r.dir, "overlaps")); err == nil {
		t.Errorf("tests that hold the same resource ran side by side: %s", data)
	}
}

// deliveredTwice has the station offer a batch twice.
func deliveredTwice(t *testing.T) {
	r := newRig(t, 16, "")
	one, other := r.start("moss"), r.start("heath")
	waitFor(t, "the gate to begin", func() bool { return r.begun("gate", "") > 0 })
	nc, err := nats.Connect(r.url())
	if err != nil {
		t.Fatal(err)
	}
	defer nc.Close()
	status := r.status()
	for number := 1; number <= status.Batches.Done+status.Batches.Taken+status.Batches.Waiting; number++ {
		if _, err := nc.Request(fmt.Sprintf("fern.batch.%s.0.%d", status.Plan, number), nil, 5*time.Second); err != nil {
			t.Fatal(err)
		}
	}
	waitFor(t, "the gate to run twice", func() bool { return r.begun("gate", "") == 2 })
	r.openGate()
	r.ended([]int{0, 1}, one, other)
	if words := r.whole(); !strings.Contains(words, "ran twice") {
		t.Errorf("nothing is said to have run twice:\n%s", words)
	}
}

// otherTests refuses a machine with other tests and says which.
func otherTests(t *testing.T) {
	r := newRig(t, 10, "")
	one := r.start("moss")
	waitFor(t, "the gate to begin", func() bool { return r.begun("gate", "") > 0 })
	refused := r.start("heath", "-p", "not name:t05")
	r.ended([]int{2}, refused)
	if out := refused.out.String(); !strings.Contains(out, "1 tests of the run are missing here: c:.#t05") {
		t.Errorf("the difference is not named:\n%s", out)
	}
	r.openGate()
	r.ended([]int{1}, one)
	r.whole()
	late := r.start("sedge")
	r.ended([]int{0}, late)
	if out := late.out.String(); !strings.Contains(out, "nothing is left to do") {
		t.Errorf("a machine after the end says\n%s", out)
	}
	again := r.start("moss")
	r.ended([]int{2}, again)
	more := r.start("moss", "--again", "failed")
	r.ended([]int{1}, more)
	if out := r.query("fleet", "collect").stdout; !strings.Contains(out, "attempt 2 (failed): 1 picked: 1 failed") {
		t.Errorf("the second attempt is reported as\n%s", out)
	}
}

// lastKilled kills the only machine when all batches are done and before it merges.
func lastKilled(t *testing.T) {
	r := newRig(t, 10, "")
	m := r.start("moss")
	waitFor(t, "the gate to begin", func() bool { return r.begun("gate", "") > 0 })
	nc, err := nats.Connect(r.url())
	if err != nil {
		t.Fatal(err)
	}
	defer nc.Close()
	merge := "$KV.fern-runs.merge." + r.status().Plan
	if _, err := nc.Request(merge, []byte("the test"), 5*time.Second); err != nil { // so that the machine waits
		t.Fatal(err)
	}
	r.openGate()
	waitFor(t, "all batches to be done", func() bool { s := r.status(); return s.Batches.Taken+s.Batches.Waiting == 0 && s.Batches.Done > 0 })
	_ = m.cmd.Process.Kill()
	<-m.done
	gone := nats.NewMsg(merge)
	gone.Header.Set("KV-Operation", "DEL")
	if _, err := nc.RequestMsg(gone, 5*time.Second); err != nil {
		t.Fatal(err)
	}
	r.whole()
}

// interrupted presses Ctrl-C once on a machine: it finishes its tests, and the rest returns to the queue.
func interrupted(t *testing.T) {
	r := newRig(t, 16, "")
	machines := map[string]*testMachine{"moss": r.start("moss"), "heath": r.start("heath")}
	victim, other, _ := r.gateOn(machines)
	_ = victim.cmd.Process.Signal(os.Interrupt)
	waitFor(t, "the machine to say what it does", func() bool { return strings.Contains(victim.out.String(), "starting no more") })
	r.openGate()
	r.ended([]int{0, 1, 3}, victim)
	r.ended([]int{0, 1}, other)
	r.whole()
	if n := r.begun("gate", ""); n != 1 && strings.Contains(victim.out.String(), "running: c:.#gate") {
		t.Errorf("the running test ran %d times", n)
	}
}

// interruptedTwice presses Ctrl-C twice: the running tests return to the queue at once.
func interruptedTwice(t *testing.T) {
	r := newRig(t, 16, "")
	machines := map[string]*testMachine{"moss": r.start("moss"), "heath": r.start("heath")}
	victim, other, name := r.gateOn(machines)
	_ = victim.cmd.Process.Signal(os.Interrupt)
	waitFor(t, "the machine to say what it does", func() bool { return strings.Contains(victim.out.String(), "starting no more") })
	_ = victim.cmd.Process.Signal(os.Interrupt)
	r.ended([]int{3}, victim)
	waitFor(t, "the gate to begin elsewhere", func() bool { return r.begun("gate", "") > r.begun("gate", name) })
	r.openGate()
	r.ended([]int{0, 1}, other)
	r.whole()
}

// givenUp kills every machine that takes a batch: after three, its test is lost, and the report names them.
func givenUp(t *testing.T) {
	r := newRig(t, 3, "")
	for _, name := range []string{"moss", "heath", "sedge"} {
		m := r.start(name)
		waitFor(t, "the gate to begin on "+name, func() bool { return r.begun("gate", name) > 0 })
		_ = m.cmd.Process.Kill()
		<-m.done
	}
	last := r.start("bracken")
	r.ended([]int{0, 1}, last)
	got := r.query("fleet", "collect")
	if got.status != 3 || !strings.Contains(got.stdout, " lost") {
		t.Errorf("collect ends with %d:\n%s", got.status, got.stdout)
	}
	file := filepath.Join(t.TempDir(), "events.jsonl")
	r.query("fleet", "collect", "--events", file)
	for _, e := range readEvents(t, file) {
		if e.Outcome == run.Lost && !strings.Contains(e.Message, "moss, heath, sedge") {
			t.Errorf("the lost test says %q", e.Message)
		}
	}
}

// TestFleetScreen watches a fleet run of which a machine is killed in the middle, on a wide and on a narrow screen.
func TestFleetScreen(t *testing.T) {
	t.Parallel()
	s := open(t, 160, 40, t.TempDir(), []string{"XDG_CACHE_HOME=" + t.TempDir()}, "demo", "--fleet")
	s.shows("fleet run build-418", "moss", "sedge", "2 workers")
	text := s.shows("lost ", "back in the queue", "started ", "s late", "ends in")
	if !strings.Contains(text, "2 of 3 machines") && !strings.Contains(text, "1 of 3 machines") {
		t.Errorf("the frame does not count the machines:\n%s", text)
	}
	s.whole()
	s.width, s.height = 80, 24
	s.tmux("resize-window", "-x", "80", "-y", "24")
	s.shows("247/247", "took ", "lost at", "failures, newest first")
	s.whole()
	s.tmux("resize-window", "-x", "160", "-y", "40")
	s.width, s.height = 160, 40
	s.shows("before it", "h hunts it here:", "workers idle")
	s.whole()
	s.press("q")
	s.ended()
}

// TestFleetHunt hunts with machines: one culprit among many tests, and a test that fails on one machine only.
func TestFleetHunt(t *testing.T) {
	t.Parallel()
	source := "package m\n\nimport (\"os\"; \"testing\")\n\nvar spoiled bool\n\n"
	for i := range 64 {
		body := ""
		if i == 40 {
			body = "spoiled = true"
		}
		source += fmt.Sprintf("func Test%02d(t *testing.T) { %s }\n", i, body)
	}
	source += "func TestVictim(t *testing.T) { if spoiled { t.Error(\"got 1, want 0\") } }\n" +
		"func TestFar(t *testing.T) { if os.Getenv(\"MACHINE\") == \"far\" { t.Error(\"no such device\") } }\n"
	r := newRig(t, 2, "")
	r.dir = t.TempDir()
	testfiles.Write(t, r.dir, map[string]string{"go.mod": "module example.org/m\n\ngo 1.26\n", "m_test.go": source})
	if got := fern(t, r.dir, "run", "--workers", "1"); got.status != 1 {
		t.Fatalf("the run ends with %d:\n%s%s", got.status, got.stdout, got.stderr)
	}
	hunt := func(id, victim, want string) {
		t.Helper()
		r.id = id
		cmd := command(r.dir, "hunt", victim)
		cmd.Env = append(os.Environ(), "FERN_FLEET="+r.url(), "FERN_FLEET_RUN="+id)
		out := &lockedBuffer{}
		cmd.Stdout, cmd.Stderr = out, out
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		waitFor(t, "the hunt to be offered", func() bool { return r.status().State == fleet.Open })
		far, near := r.start("far"), r.start("near")
		if err := cmd.Wait(); err != nil || !strings.Contains(out.String(), want) {
			t.Errorf("the hunt says, %v:\n%s", err, out)
		}
		r.ended([]int{0}, far, near)
		served := 0
		for _, m := range r.status().Machines {
			served += m.Tests
		}
		if served < 10 {
			t.Errorf("the machines ran %d trials", served)
		}
	}
	hunt("hunt-1", "TestVictim", "TestVictim fails only after Test40")
	hunt("hunt-2", "TestFar", "TestFar depends on the machine: in the same order it always fails on far and never on")
}

// TestFleetModule runs a real module on three machines: each test has the outcome that it has on one, and the merged report is
// that of one.
func TestFleetModule(t *testing.T) {
	t.Parallel()
	r := newRig(t, 2, "")
	r.dir = copyModule(t, "github.com/pelletier/go-toml/v2")
	one, many := filepath.Join(t.TempDir(), "one.xml"), filepath.Join(t.TempDir(), "many.xml")
	if got := fern(t, r.dir, "run", "--workers", "2", "--junit", one); got.status != 0 {
		t.Fatalf("the run ends with %d:\n%s%s", got.status, got.stdout, got.stderr)
	}
	r.ended([]int{0}, r.start("moss"), r.start("heath"), r.start("sedge"))
	if got := r.query("fleet", "collect", "--junit", many); got.status != 0 {
		t.Fatalf("collect ends with %d:\n%s%s", got.status, got.stdout, got.stderr)
	}
	cases := func(file string) map[string]string {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		var report struct {
			Suites []struct {
				Name  string `xml:"name,attr"`
				Cases []struct {
					Name    string    `xml:"name,attr"`
					Failure *struct{} `xml:"failure"`
					Skipped *struct{} `xml:"skipped"`
					Steps   []struct {
						Name string `xml:"name,attr"`
					} `xml:"properties>property"`
				} `xml:"testcase"`
			} `xml:"testsuite"`
		}
		if err := xml.Unmarshal(data, &report); err != nil {
			t.Fatal(err)
		}
		all := map[string]string{}
		for _, s := range report.Suites {
			for _, c := range s.Cases {
				all[s.Name+" "+c.Name] = fmt.Sprint(c.Failure != nil, c.Skipped != nil, len(c.Steps))
			}
		}
		return all
	}
	want, got := cases(one), cases(many)
	if len(want) < 900 || !maps.Equal(want, got) {
		t.Errorf("%d tests on one machine, %d on three; they differ", len(want), len(got))
	}
}
