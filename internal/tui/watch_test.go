package tui

import (
	"math"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/app"
	"fernrelay/internal/progress"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/legtest"
	watchleg "fernrelay/internal/tui/watch"
)

// followed is a run of two workers whose events are reported by hand.
type followed struct {
	t    *testing.T
	app  *App
	live *progress.Run
	at   time.Time // of the next event
}

// followedRun begins one: a group of three tests of 2 s each, planned for worker 1, and one
// of a test of 5 s for worker 2.
func followedRun(t *testing.T) *followed {
	t.Helper()
	a := newApp(t, legtest.Made(3, 4, 2))
	settle(a, tea.WindowSizeMsg{Width: 130, Height: 40})
	a.leg = legWatch
	tests := a.session.Picked.Selected
	var first []catalog.Test
	for _, known := range tests[:3] {
		known.Expected, known.Spread, known.Setup = 2, 0.5, 0
		first = append(first, known)
	}
	second := tests[4]
	second.Expected, second.Spread, second.Setup = 5, 0, 1
	live := progress.New(schedule.Of([]schedule.Batch{{Tests: first, Worker: 1}, {Tests: []catalog.Test{second}, Worker: 2}}, nil), 2, a.session.Picked.PastOf)
	live.Planned, live.Control, live.Cancel = 6, &app.Control{}, func(error) {}
	a.watch.Run = live
	a.watch.Reset()
	return &followed{t, a, live, live.Began.Add(10 * time.Second)} // after ten seconds of building
}

// emit reports an event that many seconds later.
func (f *followed) emit(later float64, e run.Event) {
	f.at = f.at.Add(time.Duration(later * float64(time.Second)))
	e.At = f.at
	f.live.Apply(e)
	f.live.Follow(f.at)
	f.app.fit()
}

func (f *followed) id(i int) string { return f.app.session.Picked.Selected[i].ID }

func (f *followed) screen() string {
	screen, _ := f.app.screen()
	return ansi.Strip(screen)
}

func (f *followed) shows(words ...string) {
	f.t.Helper()
	screen := f.screen()
	for _, w := range words {
		if !strings.Contains(screen, w) {
			f.t.Errorf("%q is not on the screen:\n%s", w, screen)
		}
	}
}

func near(a, b float64) bool { return math.Abs(a-b) < 1e-6 }

// TestOutlook holds when a run should end and how its workers keep to what was
// expected: from the first test on, whatever was built before.
func TestOutlook(t *testing.T) {
	f := followedRun(t)
	f.live.Preparing.Put("building suite s: 1 of 3 test binaries")
	f.live.Follow(f.live.Began.Add(9 * time.Second))
	f.shows("building suite s: 1 of 3 test binaries, 0:09", "no failures yet")
	f.emit(0, run.Event{Event: run.Started, ID: f.id(0), Worker: 1, Batch: 1})
	f.emit(0, run.Event{Event: run.Started, ID: f.id(4), Worker: 2, Batch: 2})
	if ahead := f.live.Ahead; !near(f.live.Now, 0) || !near(ahead.End, 6) || !near(ahead.Doubt, 2*math.Sqrt(0.75)) || !near(ahead.Early[0], 0) || !near(ahead.Early[1], 1) {
		t.Errorf("at the beginning: now %g, %+v", f.live.Now, ahead)
	}
	f.shows("ends in 0:06 ± 2", "on plan", "2 of 2 workers on time", "+0.0 s", "+1.0 s")
	if track := &f.live.Tracks[0]; track.Slow(f.live) {
		t.Error("a test is slow that has just begun")
	}
	f.live.Follow(f.at.Add(3600 * time.Millisecond))
	if first, second := f.live.Tracks[0], f.live.Tracks[1]; !first.Slow(f.live) || second.Slow(f.live) {
		t.Error("after 3.6 s the test of 2 s is slow, and that of 5 s is not")
	}
	f.emit(3, run.Event{Event: run.Finished, ID: f.id(0), Worker: 1, Batch: 1, Outcome: run.Passed, Seconds: run.Took(3)})
	f.emit(0, run.Event{Event: run.Started, ID: f.id(1), Worker: 1, Batch: 1})
	if ahead := f.live.Ahead; !near(ahead.End, 7) || !near(ahead.Early[0], -1) || !near(ahead.Early[1], 1) {
		t.Errorf("after a test that took longer: %+v", ahead)
	}
	f.shows("1.00 s behind the plan", "1 of 2 workers on time", "-1.0 s")
	f.emit(1, run.Event{Event: run.Finished, ID: f.id(1), Worker: 1, Batch: 1, Outcome: run.Passed, Flaky: true, Seconds: run.Took(1)})
	f.emit(0, run.Event{Event: run.Finished, ID: f.id(4), Worker: 2, Batch: 2, Outcome: run.Owed, Seconds: run.Took(4)})
	f.emit(1, run.Event{Event: run.Finished, ID: f.id(2), Worker: 1, Batch: 1, Outcome: run.Failed, Seconds: run.Took(1), Failure: run.Failure{Message: "leaks"}})
	f.emit(0, run.Event{Event: run.RunEnds})
	if !f.live.Ended || !near(f.live.Now, 5) || !near(f.live.Spread(), 1) || f.live.Flaky != 1 {
		t.Errorf("it ended at %g with a spread of %g and %d flaky", f.live.Now, f.live.Spread(), f.live.Flaky)
	}
	f.shows("took 0:05.0", "planned 0:06.0", "alone 0:09 estimated: 1.8 ×", "1 flaky")
	f.emit(0, run.Event{Event: run.Started, ID: "elsewhere", Worker: 9, Batch: 77}) // of a broken journal
}

// TestFilterAndCursor holds what each filter lists, and that the cursor stays on its
// result while others land.
func TestFilterAndCursor(t *testing.T) {
	f := followedRun(t)
	ends := func(i int, o run.Outcome, flaky bool, message string) {
		f.emit(0.1, run.Event{Event: run.Finished, ID: f.id(i), Worker: 1, Batch: 1, Outcome: o, Flaky: flaky, Failure: run.Failure{Message: message}, Seconds: run.Took(0.1)})
	}
	v := f.app.watch
	f.live.Past = func(id string) []run.Outcome {
		return map[string][]run.Outcome{f.id(6): {run.Failed, run.Skipped}, f.id(4): {run.Passed}}[id]
	}
	ends(0, run.Failed, false, "one leaks")
	ends(1, run.Failed, false, "two is dry")
	f.screen()
	press(f.app, "↓") // on the older one
	ends(2, run.TimedOut, false, "three")
	f.screen()
	if got := v.Current(); got.ID != f.id(0) {
		t.Errorf("the cursor went from %s to %s", f.id(0), got.ID)
	}
	ends(4, run.Passed, true, "flaky: passed in try 2")
	ends(5, run.Skipped, false, "rain")
	ends(6, run.Passed, false, "")
	ends(7, run.Surprise, false, "it passed")
	ends(8, run.Lost, false, "interrupted")
	listed := func() (ids []string) {
		f.screen()
		for _, r := range v.List {
			ids = append(ids, r.ID)
		}
		return ids
	}
	of := func(indexes ...int) (ids []string) {
		for _, i := range indexes {
			ids = append(ids, f.id(i))
		}
		return ids
	}
	for _, want := range [][]string{of(0, 1, 2), of(0, 1), of(2), of(6), of(4, 7), of(5, 8), of(0, 1, 2, 4, 5, 6, 7, 8), of(0, 1, 2)} {
		if got := listed(); !slices.Equal(got, want) {
			t.Errorf("%s lists %v, want %v", v.Filter.Words(), got, want)
		}
		press(f.app, "f")
	}
	settle(f.app, watchleg.FilterMsg(watchleg.Filter{Show: watchleg.ShowAll, Text: "dry"}))
	if got := listed(); !slices.Equal(got, of(1)) {
		t.Errorf("%s lists %v", v.Filter.Words(), got)
	}
	group, _ := leg.GroupAndName(f.id(4))
	settle(f.app, watchleg.FilterMsg(watchleg.Filter{Show: watchleg.ShowAll, Group: group}))
	if got := listed(); !slices.Equal(got, of(4, 5, 6, 7)) {
		t.Errorf("%s lists %v", v.Filter.Words(), got)
	}
	settle(f.app, watchleg.FilterMsg(watchleg.Filter{Show: watchleg.ShowFailed, Text: "nowhere"}))
	f.shows(`no results yet: failed with "nowhere"`)
}

// TestSteer holds what the keys do with a run, and that one of another process is left
// alone.
func TestSteer(t *testing.T) {
	f := followedRun(t)
	f.emit(0, run.Event{Event: run.Started, ID: f.id(0), Worker: 1, Batch: 1})
	cancelled := 0
	f.live.Cancel = func(error) { cancelled++ }
	settle(f.app, tea.KeyPressMsg{Code: tea.KeySpace})
	f.shows("held: workers finish")
	if !f.live.Held {
		t.Error("space does not hold")
	}
	settle(f.app, tea.KeyPressMsg{Code: tea.KeySpace})
	f.shows("workers take batches again")
	press(f.app, "x")
	f.shows("finishing the running tests", "   finishing")
	if !f.live.Stopping || cancelled != 0 {
		t.Errorf("x once: stopping %t, cancelled %d times", f.live.Stopping, cancelled)
	}
	if press(f.app, "x"); cancelled != 1 {
		t.Errorf("x twice: cancelled %d times", cancelled)
	}
	f.live.Cancel = nil
	press(f.app, "x")
	f.shows("this run belongs to another process")
	press(f.app, "c")
	f.shows("on change: saving a file runs the picked tests")
	press(f.app, "c")
	f.shows("on change is off")
}

// messages returns what a command and those that it consists of say.
func messages(cmd tea.Cmd) (all []tea.Msg) {
	if cmd == nil {
		return nil
	}
	msg := cmd()
	batch, ok := msg.(tea.BatchMsg)
	if !ok {
		return []tea.Msg{msg}
	}
	for _, c := range batch {
		all = append(all, messages(c)...)
	}
	return all
}

// TestOnChangeFromThenOn saves a file before and after it is asked that saving runs tests.
func TestOnChangeFromThenOn(t *testing.T) {
	a, _ := ledgerApp(t, 10, 1)
	file := filepath.Join(a.session.App.Project.Dir, "fern.toml")
	saved := func(meanwhile string) (runs bool) {
		_, cmd := a.Update(filesMsg{file})
		press(a, meanwhile)
		for _, msg := range messages(cmd) {
			_, cmd = a.Update(msg)
			for _, msg := range messages(cmd) {
				_, ready := msg.(runReadyMsg)
				runs = runs || ready
			}
		}
		return runs
	}
	press(a, "3")
	if saved("c") {
		t.Error("what was saved before runs")
	}
	if !saved("") {
		t.Error("what is saved then does not run")
	}
}

// TestEndsInKnowsWhatBinds holds that the end which Watch shows is the schedule's forecast, also if a resource, a
// need or what runs apart keeps workers waiting.
func TestEndsInKnowsWhatBinds(t *testing.T) {
	batch := func(name string, seconds float64, rules catalog.Rules, apart string) schedule.Batch {
		return schedule.Batch{Suite: "s", Apart: apart, Tests: []catalog.Test{{ID: "s:" + name + "#t", Suite: "s", Group: name, Name: "t", Expected: seconds, Ruled: &rules}}}
	}
	bus := catalog.Rules{Holds: []string{"bus"}}
	for name, c := range map[string]struct {
		batches []schedule.Batch
		end     float64
	}{
		"nothing":    {[]schedule.Batch{batch("a", 5, catalog.Rules{}, ""), batch("b", 5, catalog.Rules{}, ""), batch("c", 1, catalog.Rules{}, "")}, 6},
		"a resource": {[]schedule.Batch{batch("a", 5, bus, ""), batch("b", 5, bus, ""), batch("c", 1, catalog.Rules{}, "")}, 10},
		"apart":      {[]schedule.Batch{batch("a", 5, catalog.Rules{}, "x"), batch("b", 4, catalog.Rules{}, "x")}, 9},
		"a need":     {[]schedule.Batch{batch("a", 5, catalog.Rules{}, ""), batch("b", 4, catalog.Rules{Needs: []string{"s:a#t"}}, "")}, 9},
	} {
		live := progress.New(schedule.Of(c.batches, nil), 2, func(string) []run.Outcome { return nil })
		if live.Ahead.End != c.end {
			t.Errorf("%s: it ends in %v s, want %v s", name, live.Ahead.End, c.end)
		}
	}
}
