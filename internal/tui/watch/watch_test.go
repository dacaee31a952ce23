package watch

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/progress"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/legtest"
)

// TestRunGoesOnOutOfSight shows a crossing's run while another run goes on: that one is followed to its end all the same, the leg is
// busy until it is kept, and what cancels the leg cancels it.
func TestRunGoesOnOutOfSight(t *testing.T) {
	var v *View
	legtest.New(t, legtest.Made(3, 2, 2), func(s *leg.Session) leg.Leg {
		v = New(s)
		return v
	})
	made := func(cancel context.CancelCauseFunc) *progress.Run {
		r := progress.New(schedule.Of(nil, nil), 1, func(string) []run.Outcome { return nil })
		r.Cancel = cancel
		return r
	}
	canceled := false
	goesOn, crossing := made(func(error) { canceled = true }), made(nil)
	v.Show(goesOn)
	crossing.Ended = true
	v.Show(crossing)
	if !v.Busy() {
		t.Error("while a run goes on out of sight the leg is not busy")
	}
	whole := make(chan *run.Run)
	go func() { whole <- goesOn.Whole() }()
	goesOn.Events.Put(run.Event{Event: run.Finished, ID: "u:g#a", Outcome: run.Passed})
	goesOn.Events.Put(run.Event{Event: run.RunEnds})
	v.Follow(time.Now())
	if r := <-whole; r.Done() != 1 {
		t.Errorf("the run that is not shown has %d outcomes", r.Done())
	}
	if v.Cancel(); !canceled || !v.Busy() {
		t.Errorf("before it is kept: canceled %v, busy %v", canceled, v.Busy())
	}
	goesOn.Number = 7
	if v.Follow(time.Now()); v.Busy() || v.Run != crossing {
		t.Errorf("once it is kept the leg is busy: %v", v.Busy())
	}
}

// randomRun is a run of the tests of a project on some workers, whose events come at random.
type randomRun struct {
	live     *progress.Run
	random   *rand.Rand
	at       time.Time
	waiting  [][]catalog.Test // by worker
	running  []*catalog.Test  // by worker; nil for none
	outcomes map[string]run.Outcome
	ended    []string // in order
}

func newRandomRun(seed uint64, tests []catalog.Test, workers int) *randomRun {
	r := &randomRun{random: rand.New(rand.NewPCG(seed, 9)), waiting: make([][]catalog.Test, workers), running: make([]*catalog.Test, workers), outcomes: map[string]run.Outcome{}}
	var batches []schedule.Batch
	for i, t := range tests {
		r.waiting[i%workers] = append(r.waiting[i%workers], t)
	}
	for w := range workers {
		batches = append(batches, schedule.Batch{Tests: r.waiting[w], Worker: w + 1})
	}
	r.live = progress.New(schedule.Of(batches, nil), workers, func(id string) []run.Outcome {
		if len(id)%3 == 0 {
			return []run.Outcome{run.Failed}
		}
		return nil
	})
	r.at = r.live.Began
	return r
}

// step lets one worker begin or end a test, and reports whether any is left.
func (r *randomRun) step() bool {
	var able []int
	for w := range r.running {
		if r.running[w] != nil || len(r.waiting[w]) > 0 {
			able = append(able, w)
		}
	}
	if len(able) == 0 {
		r.live.Events.Put(run.Event{Event: run.RunEnds, At: r.at})
		r.live.Follow(r.at)
		return false
	}
	w := able[r.random.IntN(len(able))]
	r.at = r.at.Add(time.Duration(1+r.random.IntN(900)) * time.Millisecond)
	if t := r.running[w]; t == nil {
		next := r.waiting[w][0]
		r.running[w], r.waiting[w] = &next, r.waiting[w][1:]
		r.live.Events.Put(run.Event{Event: run.Started, ID: next.ID, Worker: w + 1, Batch: w + 1, At: r.at})
	} else {
		o := run.Outcomes[r.random.IntN(len(run.Outcomes))]
		r.outcomes[t.ID], r.running[w] = o, nil
		r.ended = append(r.ended, t.ID)
		r.live.Events.Put(run.Event{Event: run.Finished, ID: t.ID, Worker: w + 1, Batch: w + 1, At: r.at, Outcome: o, Seconds: run.Took(0.1), Failure: run.Failure{Message: "message of " + t.Name}})
	}
	r.live.Follow(r.at)
	return true
}

// TestScreenIsTheRun follows runs whose events come at random, in random sizes, and compares the counts, the list and the tracks on
// the screen with what was reported.
func TestScreenIsTheRun(t *testing.T) {
	for seed := range uint64(6) {
		var v *View
		d := legtest.New(t, legtest.Made(6, 12, 2), func(s *leg.Session) leg.Leg {
			v = New(s)
			return v
		})
		workers := 1 + int(seed)
		r := newRandomRun(seed, d.Session.Picked.Selected, workers)
		v.Show(r.live)
		for more := true; more; {
			for range 1 + r.random.IntN(20) {
				more = more && r.step()
			}
			d.Width, d.Height = 80+r.random.IntN(160), 24+r.random.IntN(40)
			if r.random.IntN(2) == 0 {
				d.Press("f")
			}
			d.Press(strings.Repeat("j", r.random.IntN(3)))
			checkScreen(t, d, v, r)
		}
		if !r.live.Ended || len(v.Run.Results) != len(r.outcomes) {
			t.Errorf("%d workers: the run has %d of %d results", workers, len(v.Run.Results), len(r.outcomes))
		}
	}
}

func checkScreen(t *testing.T, d *legtest.Driver, v *View, r *randomRun) {
	t.Helper()
	shown := d.Screen()
	rows := strings.Split(shown, "\n")
	if words := fmt.Sprintf("%d of %d", len(r.outcomes), r.live.Total); !strings.Contains(rows[1], words) {
		t.Errorf("%q is not in %q", words, rows[1])
	}
	counts := map[run.Outcome]int{}
	var listed []string
	for _, id := range r.ended {
		counts[r.outcomes[id]]++
		if isListed(v.Filter.Show, id, r) {
			listed = append(listed, id)
		}
	}
	for o, n := range counts {
		if words := fmt.Sprintf("%s %d", o.Shape(), n); d.Width > 120 && !strings.Contains(rows[1], words) {
			t.Errorf("%q is not in %q", words, rows[1])
		}
	}
	if len(listed) != len(v.List) || slices.ContainsFunc(v.List, func(res *run.Result) bool { return !slices.Contains(listed, res.ID) }) {
		t.Fatalf("%q lists %d results, want %d", v.Filter.Show, len(v.List), len(listed))
	}
	if res := v.Current(); res != nil && !strings.Contains(shown, res.Outcome.Shape()) {
		t.Errorf("the result under the cursor is not in sight:\n%s", shown)
	}
	p, axis := v.places(d.Width, d.Height), axisOf(r.live, 11, d.Width)
	for w := range p.tracks {
		row := []rune(rows[3+w*(p.rows+p.air)])
		for _, piece := range r.live.Tracks[w].Bad {
			x := axis.At(piece.From)
			if r.live.Ended && x < len(row) && !strings.ContainsRune("▲◆▼", row[x]) && axis.At(piece.To) > x {
				t.Errorf("worker %d: at %.2f s a test ended as %s, and %q is in its column %d:\n%s", w+1, piece.From, piece.Outcome, row[x], x, shown)
			}
		}
	}
}

// isListed says by hand what each filter shows.
func isListed(show, id string, r *randomRun) bool {
	o := r.outcomes[id]
	switch show {
	case showBad:
		return o == run.Failed || o == run.Errored || o == run.TimedOut
	case showRecovered:
		return o == run.Passed && len(id)%3 == 0
	case showOdd:
		return o == run.Owed || o == run.Surprise
	case showSkipped:
		return o == run.Skipped || o == run.Lost
	case ShowAll:
		return true
	}
	return string(o) == show
}

// TestKeysAsk shows what the leg asks of the application before a run, during one, and after it.
func TestKeysAsk(t *testing.T) {
	var v *View
	d := legtest.New(t, legtest.Made(3, 4, 2), func(s *leg.Session) leg.Leg {
		v = New(s)
		return v
	})
	for _, key := range "hex fF⏎d" {
		if words, ok := d.Press(string(key)).(leg.SayMsg); !ok || !strings.Contains(string(words), "nothing has run in this session") {
			t.Errorf("before a run %q says %q", key, words)
		}
	}
	r := newRandomRun(1, d.Session.Picked.Selected, 2)
	v.Show(r.live)
	if words, ok := d.Press("d").(leg.SayMsg); !ok || !strings.Contains(string(words), "once it has ended") {
		t.Errorf("during a run d says %q", words)
	}
	for r.step() {
	}
	d.Do(nil)
	res := v.Current()
	if asked, ok := d.Press("h").(leg.StartHuntMsg); !ok || len(asked.Victims) != 1 || asked.Victims[0].ID != res.ID {
		t.Errorf("h hunts %+v, and the cursor is on %s", asked.Victims, res.ID)
	}
	if asked, ok := d.Press("r").(leg.StartRunMsg); !ok || len(asked.Tests) != 1 || asked.Tests[0].ID != res.ID || !asked.Needs {
		t.Errorf("r runs %+v", asked)
	}
	if asked, ok := d.Press("R").(leg.StartRunMsg); !ok || len(asked.Tests) != len(r.live.Bad) {
		t.Errorf("R runs %d tests of %d", len(asked.Tests), len(r.live.Bad))
	}
	if _, ok := d.Press("F").(leg.OpenSheetMsg); !ok {
		t.Error("F opens no sheet")
	}
	for _, key := range "x " {
		if words, ok := d.Press(string(key)).(leg.SayMsg); !ok || words != "the run has ended" {
			t.Errorf("after a run %q says %q", key, words)
		}
	}
	d.Do(func() tea.Msg { return FilterMsg{Show: ShowAll, Text: "no such test"} })
	if words, ok := d.Press("h").(leg.SayMsg); len(r.live.Recovered) == 0 && (!ok || !strings.Contains(string(words), "f lists others")) {
		t.Errorf("without a result h says %q", words)
	}
}
