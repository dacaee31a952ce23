package tui

import (
	"context"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/internal/app"
)

// liveMatrix is a run of crossings as the application follows it.
type liveMatrix struct {
	began     time.Time
	steps     inbox[matrixStep]
	run       *app.MatrixRun // nil while it is prepared
	cancel    context.CancelFunc
	finishing context.CancelFunc // lets the running tests end and starts no more, also while the run is prepared
	ended     bool
	stopping  bool
	atOnce    int
	keys      []string  // of the crossings that it runs
	explained time.Time // when the failures were last explained
	changed   bool      // a test ended since
	busy      bool      // they are being explained
}

// matrixStep is one of: the run, prepared; a crossing that begins; a result that changed.
type matrixStep struct {
	run    *app.MatrixRun
	key    string
	live   *liveRun
	result *matrix.Result
}

type (
	// matrixReadMsg brings what the ledger knows of the crossings.
	matrixReadMsg struct {
		results  *matrix.Results
		expected map[string]app.CrossingForecast
		past     map[string][]run.Outcome
		rows     app.Explained
		err      error
	}
	// explainedMsg brings explanations of the run that goes on.
	explainedMsg struct {
		live *liveMatrix
		rows app.Explained
	}
	matrixEndedMsg struct {
		live    *liveMatrix
		results *matrix.Results
		err     error
	}
)

// crossingsPast is how many of the latest runs of a crossing are shown.
const crossingsPast = 12

// visit reads what the ledger knows of the crossings, when they are first looked at.
func (v *matrixView) visit() tea.Cmd {
	if v.read || v.matrix() == nil {
		return nil
	}
	v.read = true
	return v.recall()
}

// recall reads what the ledger knows of the crossings.
func (v *matrixView) recall() tea.Cmd {
	r, text := v.session.app, v.session.picked.text
	return func() tea.Msg {
		msg := matrixReadMsg{expected: map[string]app.CrossingForecast{}, past: map[string][]run.Outcome{}}
		if msg.results, msg.err = r.LatestResults(); msg.err != nil {
			return msg
		}
		msg.rows = r.Explained(msg.results.Explain())
		workers := r.CrossingWorkers(r.Project.Matrix.AtOnce)
		for _, one := range msg.results.Results {
			if one.State == matrix.LeftOut {
				continue
			}
			key := one.Key()
			if msg.expected[key], msg.err = r.ExpectCrossing(context.Background(), one.Crossing, text, workers); msg.err != nil {
				return msg
			}
			records, err := r.Ledger().In(one.Of).List()
			if err != nil {
				msg.err = err
				return msg
			}
			for _, k := range records[max(0, len(records)-crossingsPast):] {
				msg.past[key] = append(msg.past[key], matrix.OutcomeOf(k.Counts))
			}
		}
		return msg
	}
}

// begin clears the crossings that run.
func (v *matrixView) begin(live *liveMatrix, crossings []matrix.Crossing) {
	v.live, v.listing = live, nil
	v.then.Outcome, v.then.Why = "", ""
	for i := range crossings {
		row := v.row(crossings[i].Key())
		if row == nil || row.State == matrix.LeftOut {
			continue
		}
		live.keys = append(live.keys, row.Key())
		*row = matrixRow{Result: matrix.Result{Crossing: row.Crossing, State: matrix.Waiting}, expected: row.expected, past: row.past}
	}
}

// copyResults returns the results of crossings that have ended, which do not change any more.
func (v *matrixView) copyResults() *matrix.Results {
	results := v.results()
	for i, one := range results.Results {
		own := *one
		results.Results[i] = &own
	}
	return results
}

// runs reports whether the run has a crossing, and has not been asked to start no more.
func (l *liveMatrix) runs(key string) bool { return !l.stopping && slices.Contains(l.keys, key) }

// finish lets the running tests end, and starts no more.
func (l *liveMatrix) finish() {
	l.stopping = true
	l.finishing()
}

// follow folds what happened since the last frame.
func (v *matrixView) follow(now time.Time) tea.Cmd {
	live := v.live
	if live == nil {
		return nil
	}
	v.now = now
	for _, step := range live.steps.take() {
		v.take(step)
	}
	for _, row := range v.rows {
		if row.State == matrix.Running && row.live != nil {
			row.live.follow(now)
			live.changed = row.bin() || live.changed
		}
	}
	v.place()
	if live.busy || live.run == nil || !live.changed || now.Sub(live.explained) < explainEvery {
		return nil
	}
	live.busy, live.changed, live.explained = true, false, now
	r := v.session.app
	return func() tea.Msg { return explainedMsg{live, r.Explained(live.run.Explain())} }
}

// explainEvery is how often failures are explained while crossings run.
const explainEvery = 500 * time.Millisecond

func (v *matrixView) take(step matrixStep) {
	if step.run != nil {
		v.live.run = step.run
		return
	}
	row := v.row(step.key)
	switch {
	case row == nil:
	case step.live != nil:
		row.live, row.seen, row.bins = step.live, 0, bins{}
		row.live.quiet = true
	case step.result != nil:
		v.live.changed = true
		row.Result = *step.result
		if row.live != nil && row.State == matrix.Ended {
			row.end(v.now)
		}
	}
}

// end notes that the crossing's run has ended.
func (r *matrixRow) end(now time.Time) {
	r.live.follow(now)
	r.bin()
	r.live.ended, r.live.number = true, r.Number
	if r.Number == 0 {
		r.live.cancel = nil // it is not kept, and nobody waits for that
	}
	if r.past = append(r.past, r.Outcome); len(r.past) > crossingsPast {
		r.past = r.past[1:]
	}
}

// bin adds the results that landed since to the bins, and reports whether there are any.
func (r *matrixRow) bin() bool {
	before := r.seen
	for ; r.seen < len(r.live.results); r.seen++ {
		result := r.live.results[r.seen]
		r.bins.add(result.Ended.Sub(r.Began).Seconds(), result.Outcome)
	}
	return r.seen > before
}

// update takes what the ledger knows, and explanations.
func (v *matrixView) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case matrixReadMsg:
		v.takeRead(msg)
	case explainedMsg:
		if msg.live == v.live {
			v.live.busy, v.live.explained = false, time.Now() // however long that took
			v.explained = msg.rows
		}
	}
	return nil
}

func (v *matrixView) takeRead(msg matrixReadMsg) {
	if msg.err != nil || msg.results == nil {
		return // the command line reports it
	}
	for _, one := range msg.results.Results {
		row := v.row(one.Key())
		if row == nil {
			continue
		}
		row.expected, row.past = msg.expected[one.Key()], msg.past[one.Key()]
		if row.live != nil || row.State == matrix.Running {
			continue
		}
		row.Result, row.bins = *one, bins{}
		if one.Run != nil {
			for _, result := range one.Run.Results {
				row.bins.add(result.Ended.Sub(one.Began).Seconds(), result.Outcome)
			}
		}
	}
	if v.live == nil || v.live.ended {
		v.explained = msg.rows
	}
	v.now = time.Now()
	v.place()
}

// huntInMsg brings the project in the crossing in which a test is hunted.
type huntInMsg struct {
	at      *app.App
	id      string
	workers int
}

// running reports whether crossings run.
func (v *matrixView) running() bool { return v.live != nil && !v.live.ended }

// clockWords says how long the crossings have run, and how many run now.
func (v *matrixView) clockWords() string {
	busy := 0
	for _, row := range v.rows {
		if row.State == matrix.Running {
			busy++
		}
	}
	return fmt.Sprintf("%s · %d of %d crossings busy", history.Clock(v.now.Sub(v.live.began).Seconds()), busy, v.live.atOnce)
}
