package matrix

import (
	"context"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/progress"
)

// Live is a run of crossings.
type Live struct {
	Began     time.Time
	prepared  progress.Inbox[*app.MatrixRun]
	run       *app.MatrixRun // nil while it is prepared
	Cancel    context.CancelFunc
	Finishing context.CancelFunc // lets the running tests end and starts no more, also while the run is prepared
	Ended     bool
	explained time.Time // when the failures were last explained
	changed   bool      // a test ended since
	Busy      bool      // they are being explained
}

type (
	// readMsg brings what the ledger knows of the crossings.
	readMsg struct {
		results  *matrix.Results
		expected map[string]app.CrossingForecast
		past     map[string][]run.Outcome
		rows     app.Explained
		err      error
	}
	// ExplainedMsg brings explanations of the run that goes on.
	ExplainedMsg struct {
		Live *Live
		Rows app.Explained
	}
	EndedMsg struct {
		Live    *Live
		Results *matrix.Results
		Err     error
	}
)

// Visit reads what the ledger knows of the crossings, when they are first looked at.
func (v *View) Visit() tea.Cmd {
	if v.read || v.matrix() == nil {
		return nil
	}
	v.read = true
	return v.recall()
}

// recall reads what the ledger knows of the crossings.
func (v *View) recall() tea.Cmd {
	r, text := v.session.App, v.session.Picked.Text
	return func() tea.Msg {
		msg := readMsg{expected: map[string]app.CrossingForecast{}, past: map[string][]run.Outcome{}}
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
			for _, k := range records[max(0, len(records)-progress.CrossingPast):] {
				msg.past[key] = append(msg.past[key], matrix.OutcomeOf(k.Counts))
			}
		}
		return msg
	}
}

// Begin shows crossings that are about to run.
func (v *View) Begin(live *Live, crossings []matrix.Crossing) {
	v.Live, v.listing = live, nil
	v.Then.Outcome, v.Then.Why = "", ""
	v.Crossings.Begin(crossings, min(v.matrix().AtOnce, len(crossings)))
}

// copyResults returns the results of crossings that have ended, which do not change any more.
func (v *View) copyResults() *matrix.Results {
	results := v.results()
	for i, one := range results.Results {
		own := *one
		results.Results[i] = &own
	}
	return results
}

// Follow takes what happened since the last frame. Now and then it explains what failed so far.
//
// An explanation of many failures takes longer than a frame, so it is worked out beside the interface, one at a time. What ends
// meanwhile is explained by the next one.
func (v *View) Follow(now time.Time) tea.Cmd {
	changed, live := v.Crossings.Follow(now), v.Live
	if live == nil {
		return nil
	}
	for _, prepared := range live.prepared.Take() {
		live.run = prepared
	}
	live.changed = live.changed || changed
	if live.Busy || live.run == nil || !live.changed || now.Sub(live.explained) < explainEvery {
		return nil
	}
	live.Busy, live.changed, live.explained = true, false, now
	r := v.session.App
	return func() tea.Msg { return ExplainedMsg{live, r.Explained(live.run.Explain())} }
}

// explainEvery is how often failures are explained while crossings run.
const explainEvery = 500 * time.Millisecond

// Update takes what the ledger knows, and explanations.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case EndedMsg:
		return v.takeEnd(msg)
	case readMsg:
		v.takeRead(msg)
	case ExplainedMsg:
		if msg.Live == v.Live {
			v.Live.Busy, v.Live.explained = false, time.Now() // however long that took
			v.Explained = msg.Rows
		}
	}
	return nil
}

func (v *View) takeRead(msg readMsg) {
	if msg.err != nil || msg.results == nil {
		return // the command line reports it
	}
	v.forecasts = msg.expected
	for _, row := range v.Rows {
		row.Expected, row.Past = msg.expected[row.Key()].Seconds, msg.past[row.Key()]
	}
	v.Recall(msg.results.Results, time.Now())
	if !v.Busy() {
		v.Explained = msg.rows
	}
}

// HuntInMsg brings the project in the crossing in which a test is hunted.
type HuntInMsg struct {
	At      *app.App
	ID      string
	Workers int
}

// Busy reports whether crossings run.
func (v *View) Busy() bool { return v.Live != nil && !v.Live.Ended }

// Cancel stops the crossings at once.
func (v *View) Cancel() {
	if v.Live != nil {
		v.Live.Cancel()
	}
}

// ClockWords says how long the crossings have run, and how many run now.
func (v *View) ClockWords() string {
	return fmt.Sprintf("%s · %d of %d crossings busy", history.Clock(v.Now.Sub(v.Live.Began).Seconds()), v.Running(), v.AtOnce)
}

// Start runs crossings. The command waits for their end.
func (v *View) Start(ctx context.Context, crossings []matrix.Crossing) tea.Cmd {
	ctx, cancel := context.WithCancel(ctx)
	preparing, finishing := context.WithCancel(ctx)
	live := &Live{Began: time.Now(), Cancel: cancel, Finishing: finishing}
	v.Begin(live, crossings)
	r, text, earlier, steps := v.session.App, v.session.Picked.Text, v.copyResults(), &v.Steps
	return func() tea.Msg {
		defer cancel()
		ended := EndedMsg{Live: live}
		q := app.MatrixRequest{Crossings: crossings, Pick: text, Earlier: earlier,
			Started: func(key string, at *app.App, q app.Request) run.Sink {
				crossing := progress.New(q.Schedule, q.Workers, at.PastOf)
				crossing.Control, crossing.Cancel = q.Control, func(error) { cancel() }
				steps.Put(progress.CrossingStep{Key: key, Live: crossing})
				return crossing.Events.Put
			},
			Changed: func(one matrix.Result) { steps.Put(progress.CrossingStep{Key: one.Key(), Result: &one}) },
		}
		run, err := r.NewMatrixRun(preparing, q)
		if err == nil {
			err = preparing.Err()
		}
		if err != nil {
			ended.Err = err
			return ended
		}
		live.prepared.Put(run)
		defer context.AfterFunc(preparing, run.Finish)()
		ended.Results, ended.Err = run.Run(ctx)
		return ended
	}
}

// takeEnd takes the end of a run of crossings, and explains what failed once more.
func (v *View) takeEnd(msg EndedMsg) tea.Cmd {
	cmd := v.Follow(time.Now())
	msg.Live.Ended = true
	v.End()
	if msg.Results != nil {
		v.Then = msg.Results.Then
	}
	r := v.session.App
	last := func() tea.Msg {
		if msg.Live.run == nil {
			return nil
		}
		return ExplainedMsg{Live: msg.Live, Rows: r.Explained(msg.Live.run.Explain())}
	}
	return tea.Batch(cmd, last)
}

// ShowOnly lets only one crossing's run work out its forecast, because only that is watched.
func (v *View) ShowOnly(live *progress.Run) {
	for _, row := range v.Rows {
		if row.Live != nil {
			row.Live.Quiet = row.Live != live
		}
	}
}
