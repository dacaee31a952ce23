package engine

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/core/split"
	"fernrelay/internal/adapter"
	"fernrelay/internal/process"
)

// puppet is an adapter whose tests do what their names say.
type puppet struct {
	scope catalog.Level
	mu    sync.Mutex
	slots map[int]string // the folder for temporary files by slot
	runs  []string       // the names of each Session.Run, joined
	tried map[string]int // by name of those that go by it

	signal  chan struct{} // closed by the test signal
	proceed chan struct{} // closed once the test named signal may end
}

func (p *puppet) Discover(context.Context) (adapter.Found, error)      { return adapter.Found{}, nil }
func (p *puppet) Touched([]string) (func(*catalog.Test) string, error) { return nil, nil }
func (p *puppet) Scope() catalog.Level                                 { return p.scope }

func (p *puppet) Prepare(_ context.Context, tests []*catalog.Test, _ func(string)) error {
	for _, t := range tests {
		if t.Name == "unbuildable" {
			return errors.New("no compiler")
		}
		if t.SkipReason != "" {
			return errors.New("asked to build what is skipped")
		}
	}
	return nil
}

func (p *puppet) Open(_ context.Context, slot process.Slot) (adapter.Session, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.slots[slot.Number] = slot.Temp
	return &puppetSession{p}, nil
}

// puppetSession is a session of the puppet.
type puppetSession struct{ puppet *puppet }

func (s *puppetSession) Run(ctx context.Context, tests []catalog.Test, sink run.Sink) error {
	var names []string
	for _, t := range tests {
		names = append(names, t.Name)
	}
	s.puppet.mu.Lock()
	s.puppet.runs = append(s.puppet.runs, strings.Join(names, " "))
	s.puppet.mu.Unlock()
	for _, t := range tests {
		sink(run.Event{Event: run.Started, ID: t.ID})
		o := run.Passed
		switch {
		case strings.HasPrefix(t.Name, "fail"):
			o = run.Failed
		case t.Name == "slow":
			time.Sleep(5 * time.Millisecond)
		case t.Name == "collapse":
			return errors.New("the session collapsed")
		case strings.HasPrefix(t.Name, "twice bad"): // but passes from then on
			s.puppet.mu.Lock()
			if s.puppet.tried[t.Name]++; s.puppet.tried[t.Name] <= 2 {
				o = run.Failed
			}
			s.puppet.mu.Unlock()
		case t.Name == "flood":
			for range 3000 {
				sink(run.Event{Event: run.Output, ID: t.ID, Text: strings.Repeat("wet ", 256)})
			}
			sink(run.Event{Event: run.Output, ID: t.ID, Text: "the end"})
		case t.Name == "signal":
			close(s.puppet.signal)
			<-s.puppet.proceed
		case t.Name == "wait":
			<-ctx.Done()
			return ctx.Err()
		}
		sink(run.Event{Event: run.Finished, ID: t.ID, Outcome: o, Seconds: run.Took(0.01)})
		if strings.HasPrefix(t.Name, "worse later") {
			sink(run.Event{Event: run.Finished, ID: t.ID, Outcome: run.Failed, Seconds: run.Took(0.01)})
		}
	}
	return nil
}

func (s *puppetSession) Probe(context.Context, []catalog.Test, []string) ([]hunt.Value, error) {
	return nil, nil
}
func (s *puppetSession) Restore(context.Context, []catalog.Test, hunt.Change, run.Sink) error {
	return nil
}
func (s *puppetSession) Reset(context.Context) error { return nil }
func (s *puppetSession) Close() error                { return nil }

func test(group, name string, seconds float64, rules catalog.Rules) catalog.Test {
	return catalog.Test{ID: catalog.ID("s", group, name), Suite: "s", Group: group, Name: name, Expected: seconds, Ruled: &rules, SkipReason: rules.Skip}
}

func play(t *testing.T, ctx context.Context, p *puppet, tests []catalog.Test, workers int) (*run.Run, []run.Event) {
	t.Helper()
	adapters := map[string]adapter.Adapter{"s": p}
	p.slots = map[int]string{}
	r := run.New()
	var events []run.Event
	err := Run(ctx, newJob(adapters, tests, schedule.Options{Workers: workers, Resources: map[string]int{"bus": 2}}, workers), func(e run.Event) {
		r.Apply(e)
		events = append(events, e)
	})
	if err != nil {
		t.Fatal(err)
	}
	return r, events
}

// TestWorseOutcomes holds that a test whose process reports a worse outcome later has that one, is counted once, and is judged by its
// rules again.
func TestWorseOutcomes(t *testing.T) {
	r, events := play(t, t.Context(), &puppet{}, []catalog.Test{
		test("a", "pass", 1, catalog.Rules{}), test("a", "worse later", 1, catalog.Rules{}),
		test("a", "worse later, as said", 1, catalog.Rules{ExpectFail: "known"}), test("a", "behind", 1, catalog.Rules{}),
	}, 1)
	end := events[len(events)-1]
	for name, want := range map[string]run.Outcome{"pass": run.Passed, "worse later": run.Failed, "worse later, as said": run.Owed, "behind": run.Passed} {
		if got := r.Result("s:a#" + name); got == nil || got.Outcome != want {
			t.Errorf("%s: %+v, want %s", name, got, want)
		}
	}
	if r.Summary() != "2 passed, 1 failed, 1 owed" || end.Counts[run.Passed] != 2 || end.Counts[run.Failed] != 1 || end.Counts[run.Owed] != 1 || end.Counts[run.Surprise] != 0 {
		t.Errorf("the run is %s, and its end counts %v", r.Summary(), end.Counts)
	}
	replaced := 0
	for _, e := range events {
		if e.Again != "" {
			replaced++
		}
	}
	if replaced != 2 {
		t.Errorf("%d outcomes say that they replace another, want 2", replaced)
	}
}

// TestEveryTestHasOneOutcome runs all that can happen to a test.
func TestEveryTestHasOneOutcome(t *testing.T) {
	p := &puppet{}
	tests := []catalog.Test{
		test("a", "pass", 1, catalog.Rules{}), test("a", "fail", 1, catalog.Rules{}),
		test("a", "fail as said", 1, catalog.Rules{ExpectFail: "known"}), test("a", "pass all the same", 1, catalog.Rules{ExpectFail: "known"}),
		test("a", "left out", 1, catalog.Rules{Skip: "no pump"}),
		test("b", "collapse", 1, catalog.Rules{}), test("b", "behind", 1, catalog.Rules{}),
		test("c", "only skipped", 1, catalog.Rules{Skip: "no valve"}),
	}
	for i := range 40 {
		tests = append(tests, test(fmt.Sprint("more", i%7), fmt.Sprint("m", i), 0.1, catalog.Rules{}))
	}
	r, events := play(t, context.Background(), p, tests, 3)
	for name, want := range map[string]run.Outcome{
		"a#pass": run.Passed, "a#fail": run.Failed, "a#fail as said": run.Owed, "a#pass all the same": run.Surprise,
		"a#left out": run.Skipped, "b#collapse": run.Errored, "b#behind": run.Errored, "c#only skipped": run.Skipped,
	} {
		if got := r.Result("s:" + name); got == nil || got.Outcome != want {
			t.Errorf("%s: %+v, want %s", name, got, want)
		}
	}
	finished := map[string]int{}
	for _, e := range events {
		if e.Event == run.Finished {
			finished[e.ID]++
			if e.Worker < 1 || e.Worker > 3 || e.Batch < 1 {
				t.Errorf("%s finished on worker %d in batch %d", e.ID, e.Worker, e.Batch)
			}
		}
	}
	for _, test := range tests {
		if finished[test.ID] != 1 {
			t.Errorf("%s finished %d times", test.ID, finished[test.ID])
		}
	}
	last := events[len(events)-1]
	if events[0].Event != run.RunBegins || last.Event != run.RunEnds || last.Counts[run.Passed] != 41 || last.Counts[run.Errored] != 2 {
		t.Errorf("it begins with %+v and ends with %+v", events[0], last)
	}
	if !slices.IsSortedFunc(events, func(a, b run.Event) int { return a.At.Compare(b.At) }) {
		t.Errorf("the events are not in the order of time")
	}
	seen := map[string]bool{}
	for slot, temp := range p.slots {
		if _, err := os.Stat(temp); err == nil || seen[temp] {
			t.Errorf("slot %d: the folder %s is left, or shared", slot, temp)
		}
		seen[temp] = true
	}
}

func TestPrepareFails(t *testing.T) {
	r, _ := play(t, context.Background(), &puppet{}, []catalog.Test{test("a", "unbuildable", 1, catalog.Rules{}), test("b", "other", 1, catalog.Rules{})}, 2)
	if r.Counts[run.Errored] != 2 || r.Result("s:a#unbuildable").Message != "no compiler" {
		t.Errorf("is %s", r.Summary())
	}
}

// TestCancel ends a run in its middle: what has no outcome is lost.
func TestCancel(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(100*time.Millisecond, cancel)
	tests := []catalog.Test{test("a", "wait", 9, catalog.Rules{}), test("a", "behind", 1, catalog.Rules{}),
		test("b", "wait", 8, catalog.Rules{}), test("c", "never taken", 1, catalog.Rules{})}
	r, events := play(t, ctx, &puppet{}, tests, 2)
	if r.Counts[run.Lost] != 4 || r.ExitStatus() != 3 || events[len(events)-1].Event != run.RunEnds {
		t.Errorf("is %s", r.Summary())
	}
}

func TestQueue(t *testing.T) {
	tests := []catalog.Test{
		test("a", "1", 1, catalog.Rules{}), test("b", "1", 5, catalog.Rules{}), test("a", "2", 1, catalog.Rules{}), test("c", "1", 3, catalog.Rules{}),
	}
	for _, c := range []struct {
		scope   catalog.Level
		inOrder bool
		want    string
	}{
		{catalog.GroupLevel, false, "b1 | c1 | a1 a2"},
		{catalog.SuiteLevel, false, "b1 | c1 | a1 a2"},
		{catalog.GroupLevel, true, "a1 a2 | b1 | c1"},
		{catalog.SuiteLevel, true, "a1 | b1 | a2 | c1"},
	} {
		var batches []string
		for _, b := range newJob(map[string]adapter.Adapter{"s": &puppet{scope: c.scope}}, tests, schedule.Options{Workers: 2, InOrder: c.inOrder}, 2).Schedule.Batches {
			var names []string
			for _, t := range b.Tests {
				names = append(names, t.Group+t.Name)
			}
			batches = append(batches, strings.Join(names, " "))
		}
		if got := strings.Join(batches, " | "); got != c.want {
			t.Errorf("scope %s, in order %t: %s, want %s", c.scope, c.inOrder, got, c.want)
		}
	}
}

// TestDependencies holds that tests wait for those of other groups, that one
// whose need did not pass is skipped and says so, and that a resource is held by
// no more batches at once than it allows.
func TestDependencies(t *testing.T) {
	on := func(rule string, ids ...string) catalog.Rules {
		var m catalog.Rules
		if err := m.Set(rule, strings.Join(ids, " ")); err != nil {
			t.Fatal(err)
		}
		return m
	}
	p := &puppet{}
	tests := []catalog.Test{
		test("a", "first", 1, catalog.Rules{}), test("b", "fail", 9, catalog.Rules{}),
		test("a", "after b", 1, on("after", "s:b#fail")), test("b", "needs a", 1, on("needs", "s:a#first")),
		test("c", "needs_b", 1, on("needs", "s:b#fail")), test("c", "needs more", 1, on("needs", "s:c#needs_b")),
		test("d", "needs nobody here", 1, on("needs", "s:z#z")),
	}
	for i := range 12 {
		tests = append(tests, test(fmt.Sprint("bus", i), "slow", 0.1, on("holds", "bus")))
	}
	ran, events := play(t, context.Background(), p, tests, 4)
	for name, want := range map[string]string{
		"a#first": "passed", "a#after b": "passed", "b#needs a": "passed", "c#needs_b": "skipped needs s:b#fail, which did not pass (failed)",
		"c#needs more": "skipped needs s:c#needs_b, which did not pass (skipped)", "d#needs nobody here": "skipped needs s:z#z, which is not picked",
	} {
		r := ran.Result("s:" + name)
		if got := string(r.Outcome) + " " + r.Message; !strings.HasPrefix(got, want) {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
	at := map[string]int{}
	busy := map[int]bool{}
	for i, e := range events {
		at[string(e.Event)+e.ID] = i
		if strings.Contains(e.ID, "bus") {
			busy[e.Batch] = e.Event == run.Started
		}
		n := 0
		for _, is := range busy {
			if is {
				n++
			}
		}
		if n > 2 {
			t.Fatalf("%d batches hold what two may", n)
		}
	}
	for _, pair := range [][2]string{{"b#fail", "a#after b"}, {"a#first", "b#needs a"}} {
		if at["finisheds:"+pair[0]] > at["starteds:"+pair[1]] {
			t.Errorf("%s began before %s had ended", pair[1], pair[0])
		}
	}
}

// TestPlannedWorkers holds that batches that are planned for a worker are run by
// it and nobody else, also where one waits for what another worker has.
func TestPlannedWorkers(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for range 50 {
		p := &puppet{slots: map[int]string{}}
		adapters := map[string]adapter.Adapter{"s": p}
		var tests []catalog.Test
		worker := map[string]int{}
		for i := range 1 + random.IntN(40) {
			made := test(fmt.Sprint("g", i%5), fmt.Sprint("t", i), random.Float64(), catalog.Rules{})
			if i > 3 && random.IntN(4) == 0 {
				made.AddRules(catalog.Rules{After: []string{tests[random.IntN(i)].ID}}, "")
			}
			if random.IntN(4) == 0 {
				made.AddRules(catalog.Rules{Holds: []string{"bus"}}, "")
			}
			tests = append(tests, made)
			worker[made.ID] = random.IntN(4) // 0 for whichever is free
		}
		r := run.New()
		job := newJob(adapters, tests, schedule.Options{InOrder: true, Worker: worker}, 3)
		if err := Run(context.Background(), job, r.Apply); err != nil {
			t.Fatal(err)
		}
		for _, made := range tests {
			got := r.Result(made.ID)
			if got == nil || got.Outcome != run.Passed || worker[made.ID] > 0 && got.Worker != worker[made.ID] {
				t.Fatalf("%s, planned for worker %d: %+v", made.ID, worker[made.ID], got)
			}
		}
	}
}

// TestStopAfter holds that after so many failures nothing new begins, that what ran
// then came to its end, and that every test has its one outcome.
func TestStopAfter(t *testing.T) {
	for _, workers := range []int{1, 3} {
		p := &puppet{slots: map[int]string{}}
		adapters := map[string]adapter.Adapter{"s": p}
		var tests []catalog.Test
		for i := range 60 {
			name := fmt.Sprint("t", i)
			switch {
			case i%10 == 4:
				name = fmt.Sprint("fail", i)
			case i%3 == 0:
				name = "slow"
			}
			tests = append(tests, test(fmt.Sprint("g", i/10, name == "slow", i), name, 1, catalog.Rules{}))
		}
		ran := run.New()
		job := newJob(adapters, tests, schedule.Options{InOrder: true}, workers)
		job.StopAfter = 2
		if err := Run(context.Background(), job, ran.Apply); err != nil {
			t.Fatal(err)
		}
		if ran.Done() != len(tests) || ran.Counts[run.Lost] > 0 || ran.Counts[run.Failed] < 2 || ran.Counts[run.Failed] > 1+workers || ran.Counts[run.Skipped] < 30 {
			t.Errorf("%d workers: %s of %d", workers, ran.Summary(), len(tests))
		}
		for _, r := range ran.Results {
			if r.Outcome == run.Skipped && !strings.Contains(r.Message, "stopped after 2") {
				t.Errorf("%s is skipped as %q", r.ID, r.Message)
			}
		}
	}
}

// TestDealing holds that every test is dealt once at every level, that no unit is
// parted, that batches shrink, and that on paper, with known times, the queue ends
// within 3 % of a plan of the same tests.
func TestDealing(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 1))
	for _, level := range catalog.Levels {
		for _, workers := range []int{2, 4, 7} {
			var tests []catalog.Test
			for i := range 900 {
				made := test(fmt.Sprint("g", i*i%83), fmt.Sprint("t", i), 0.05+random.ExpFloat64(), catalog.Rules{})
				made.File, made.Setup = fmt.Sprint("f", i*i%83, i%3), 0.02
				if i > 0 && i%17 == 0 {
					made.AddRules(catalog.Rules{After: []string{tests[random.IntN(i)].ID}}, "")
				}
				if i%29 == 0 {
					made.AddRules(catalog.Rules{Holds: []string{"bus"}}, "")
				}
				tests = append(tests, made)
			}
			queue := newJob(nil, tests, schedule.Options{Workers: workers, Together: level, First: map[string]int{tests[500].ID: 1}}, workers).Schedule.Batches
			seen, apart := map[string]int{}, map[string]string{}
			for i, b := range queue {
				if i > 1 && b.Seconds() > queue[i-1].Seconds()+1e-9 {
					t.Errorf("%s: batch %d is longer than the one before", level, i+1)
				}
				for _, made := range b.Tests {
					seen[made.ID]++
					if other, ok := apart[made.Group]; ok && level == catalog.GroupLevel && (other != b.Apart || other == "") {
						t.Errorf("the group %s may run side by side with itself", made.Group)
					}
					apart[made.Group] = b.Apart
				}
			}
			if len(seen) != len(tests) || !slices.ContainsFunc(queue[0].Tests, func(made catalog.Test) bool { return made.ID == tests[500].ID }) {
				t.Errorf("%s on %d workers: %d of %d tests dealt, the first batch %v", level, workers, len(seen), len(tests), queue[0].Tests)
			}
			if level != catalog.TestLevel {
				continue
			}
			free := make([]float64, workers)
			for _, b := range queue {
				free[slices.Index(free, slices.Min(free))] += b.Seconds() + 0.02
			}
			study, err := split.NewStudy(tests, catalog.TestLevel, split.Fleet{Shards: workers})
			if err != nil {
				t.Fatal(err)
			}
			if plan := study.Plan(split.Quick); slices.Max(free) > 1.03*plan.Finish {
				t.Errorf("on %d workers the queue ends at %.1f s, the plan at %.1f s", workers, slices.Max(free), plan.Finish)
			}
		}
	}
}

// TestRetries holds that what passes in a later try is reported as flaky, with its
// tries as steps, that what needs it runs then, and that what fails in every try
// fails.
func TestRetries(t *testing.T) {
	p := &puppet{slots: map[int]string{}, tried: map[string]int{}}
	adapters := map[string]adapter.Adapter{"s": p}
	tests := []catalog.Test{test("a", "pass", 1, catalog.Rules{}), test("a", "twice bad", 1, catalog.Rules{}), test("a", "fail", 1, catalog.Rules{}),
		test("a", "fail as said", 1, catalog.Rules{ExpectFail: "known"}), test("b", "needs it", 1, catalog.Rules{Needs: []string{"s:a#twice bad"}}),
		test("c", "collapse", 1, catalog.Rules{})}
	r := run.New()
	job := newJob(adapters, tests, schedule.Options{Workers: 2}, 2)
	job.Retries = 2
	if err := Run(context.Background(), job, r.Apply); err != nil {
		t.Fatal(err)
	}
	flaky := r.Result("s:a#twice bad")
	if !flaky.Flaky || flaky.Outcome != run.Passed || len(flaky.Steps) != 2 || flaky.Steps[1].Name != "try 2" || !strings.HasPrefix(flaky.Message, "flaky: passed in try 3; try 2 failed") {
		t.Errorf("is %+v", flaky)
	}
	if got := r.Summary(); got != "2 passed, 1 flaky, 1 failed, 1 errored, 1 owed" {
		t.Errorf("the run is %s", got)
	}
	slices.Sort(p.runs)
	if got := strings.Join(p.runs, ", "); got != "collapse, fail, needs it, pass twice bad fail fail as said, twice bad fail" && got != "collapse, needs it, pass twice bad fail fail as said, twice bad fail, twice bad fail" {
		t.Errorf("it ran %s", got)
	}
}

// TestControl holds a run, lets it go on, and asks it to finish what runs.
func TestControl(t *testing.T) {
	p := &puppet{slots: map[int]string{}, signal: make(chan struct{}), proceed: make(chan struct{})}
	adapters := map[string]adapter.Adapter{"s": p}
	tests := []catalog.Test{test("a", "signal", 9, catalog.Rules{}), test("a", "behind", 1, catalog.Rules{}), test("b", "later", 1, catalog.Rules{})}
	control := &Control{}
	control.Hold(true)
	began := time.Now() // before the timer does
	time.AfterFunc(50*time.Millisecond, func() { control.Hold(false) })
	go func() {
		<-p.signal
		control.Finish()
		close(p.proceed)
	}()
	r := run.New()
	job := newJob(adapters, tests, schedule.Options{Workers: 1}, 1)
	job.Control = control
	if err := Run(context.Background(), job, r.Apply); err != nil {
		t.Fatal(err)
	}
	if first := r.Result("s:a#signal"); first.Outcome != run.Passed || first.Started.Sub(began) < 50*time.Millisecond {
		t.Errorf("what ran is %+v", first)
	}
	if later := r.Result("s:b#later"); later.Outcome != run.Lost || !strings.Contains(later.Message, "interrupted") || r.ExitStatus() != 3 {
		t.Errorf("what had not begun is %+v", later)
	}
}

// TestFlood holds that of output without end the head and the tail are reported, and
// that the rest is in a file.
func TestFlood(t *testing.T) {
	p := &puppet{slots: map[int]string{}}
	adapters := map[string]adapter.Adapter{"s": p}
	floods := filepath.Join(t.TempDir(), "floods")
	r, reported := run.New(), 0
	job := newJob(adapters, []catalog.Test{test("a", "flood", 1, catalog.Rules{})}, schedule.Options{}, 1)
	job.Floods = floods
	err := Run(context.Background(), job,
		func(e run.Event) {
			r.Apply(e)
			reported += len(e.Text)
		})
	files, globErr := filepath.Glob(filepath.Join(floods, "*"))
	if err != nil || globErr != nil || len(files) != 1 {
		t.Fatalf("%v, %v, %v", err, globErr, files)
	}
	output := string(r.Result("s:a#flood").Output)
	if !strings.HasPrefix(output, "wet wet") || !strings.Contains(output, "the end\n… it printed") || !strings.Contains(output, files[0]) || reported > 2*(floodHead+floodTail) {
		t.Errorf("%d bytes were reported, which are kept as %q … %q", reported, output[:20], output[len(output)-20:])
	}
	if kept, err := os.Stat(files[0]); err != nil || kept.Size() < 3000*1024 {
		t.Errorf("the file is %v, %v", kept, err)
	}
}

// TestFloodsHaveACap holds that the files of a run's floods take no more room than there is for them, and
// that those of passed tests go first, the oldest of them before others.
func TestFloodsHaveACap(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "floods")
	r := &execution{store: floodStore{dir: dir, room: 3_000_000}, floods: map[string]*flood{}, sink: func(run.Event) {}}
	names := map[string]string{}
	for _, c := range []struct {
		id      string
		outcome run.Outcome
	}{{"passed 1", run.Passed}, {"failed", run.Failed}, {"passed 2", run.Passed}, {"passed 3", run.Passed}, {"passed 4", run.Passed}} {
		for range 10 {
			r.print(run.Event{ID: c.id, Text: strings.Repeat("water\n", 100_000/6)})
		}
		names[c.id] = r.floods[c.id].file.Name()
		r.endFlood(run.Event{ID: c.id, Outcome: c.outcome})
	}
	for id, there := range map[string]bool{"passed 1": false, "failed": true, "passed 2": false, "passed 3": true, "passed 4": true} {
		if _, err := os.Stat(names[id]); (err == nil) != there {
			t.Errorf("the file of %s: %v, want there %t", id, err, there)
		}
	}
	if r.store.room < 0 {
		t.Errorf("%d bytes of room are left", r.store.room)
	}
}

// newJob returns a job of tests that options divide into batches.
func newJob(adapters map[string]adapter.Adapter, tests []catalog.Test, o schedule.Options, workers int) Job {
	o.Lasting = map[string]bool{}
	for suite, a := range adapters {
		o.Lasting[suite] = a.Scope() == catalog.SuiteLevel
	}
	s := schedule.New(tests, o)
	return Job{Adapters: adapters, Schedule: s, Source: Local(s, workers), Workers: workers}
}
