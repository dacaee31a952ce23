package matrix

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
	"fernrelay/internal/progress"
)

// Live is a run of crossings as the application follows it.
type Live struct {
	Began     time.Time
	Steps     progress.Inbox[Step]
	Run       *app.MatrixRun // nil while it is prepared
	Cancel    context.CancelFunc
	Finishing context.CancelFunc // lets the running tests end and starts no more, also while the run is prepared
	Ended     bool
	stopping  bool
	AtOnce    int
	keys      []string  // of the crossings that it runs
	explained time.Time // when the failures were last explained
	changed   bool      // a test ended since
	Busy      bool      // they are being explained
}

// Step is one of: the run, prepared; a crossing that begins; a result that changed.
type Step struct {
	Run    *app.MatrixRun
	Key    string
	Live   *progress.Run
	Result *matrix.Result
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

// crossingsPast is how many of the latest runs of a crossing are shown.
const crossingsPast = 12

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
			for _, k := range records[max(0, len(records)-crossingsPast):] {
				msg.past[key] = append(msg.past[key], matrix.OutcomeOf(k.Counts))
			}
		}
		return msg
	}
}

// Begin clears the crossings that run.
func (v *View) Begin(live *Live, crossings []matrix.Crossing) {
	v.Live, v.listing = live, nil
	v.Then.Outcome, v.Then.Why = "", ""
	for i := range crossings {
		row := v.row(crossings[i].Key())
		if row == nil || row.State == matrix.LeftOut {
			continue
		}
		live.keys = append(live.keys, row.Key())
		*row = Row{Result: matrix.Result{Crossing: row.Crossing, State: matrix.Waiting}, expected: row.expected, past: row.past}
	}
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

// runs reports whether the run has a crossing, and has not been asked to start no more.
func (l *Live) runs(key string) bool { return !l.stopping && slices.Contains(l.keys, key) }

// finish lets the running tests end, and starts no more.
func (l *Live) finish() {
	l.stopping = true
	l.Finishing()
}

// Follow folds what happened since the last frame.
func (v *View) Follow(now time.Time) tea.Cmd {
	live := v.Live
	if live == nil {
		return nil
	}
	v.now = now
	for _, step := range live.Steps.Take() {
		v.take(step)
	}
	for _, row := range v.Rows {
		if row.State == matrix.Running && row.Live != nil {
			row.Live.Follow(now)
			live.changed = row.bin() || live.changed
		}
	}
	v.Place()
	if live.Busy || live.Run == nil || !live.changed || now.Sub(live.explained) < explainEvery {
		return nil
	}
	live.Busy, live.changed, live.explained = true, false, now
	r := v.session.App
	return func() tea.Msg { return ExplainedMsg{live, r.Explained(live.Run.Explain())} }
}

// explainEvery is how often failures are explained while crossings run.
const explainEvery = 500 * time.Millisecond

func (v *View) take(step Step) {
	if step.Run != nil {
		v.Live.Run = step.Run
		return
	}
	row := v.row(step.Key)
	switch {
	case row == nil:
	case step.Live != nil:
		row.Live, row.seen, row.bins = step.Live, 0, Bins{}
		row.Live.Quiet = true
	case step.Result != nil:
		v.Live.changed = true
		row.Result = *step.Result
		if row.Live != nil && row.State == matrix.Ended {
			row.end(v.now)
		}
	}
}

// end notes that the crossing's run has ended.
func (r *Row) end(now time.Time) {
	r.Live.Follow(now)
	r.bin()
	r.Live.Ended, r.Live.Number = true, r.Number
	if r.Number == 0 {
		r.Live.Cancel = nil // it is not kept, and nobody waits for that
	}
	if r.past = append(r.past, r.Outcome); len(r.past) > crossingsPast {
		r.past = r.past[1:]
	}
}

// bin adds the results that landed since to the bins, and reports whether there are any.
func (r *Row) bin() bool {
	before := r.seen
	for ; r.seen < len(r.Live.Results); r.seen++ {
		result := r.Live.Results[r.seen]
		r.bins.Add(result.Ended.Sub(r.Began).Seconds(), result.Outcome)
	}
	return r.seen > before
}

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
	for _, one := range msg.results.Results {
		row := v.row(one.Key())
		if row == nil {
			continue
		}
		row.expected, row.past = msg.expected[one.Key()], msg.past[one.Key()]
		if row.Live != nil || row.State == matrix.Running {
			continue
		}
		row.Result, row.bins = *one, Bins{}
		if one.Run != nil {
			for _, result := range one.Run.Results {
				row.bins.Add(result.Ended.Sub(one.Began).Seconds(), result.Outcome)
			}
		}
	}
	if v.Live == nil || v.Live.Ended {
		v.Explained = msg.rows
	}
	v.now = time.Now()
	v.Place()
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
	busy := 0
	for _, row := range v.Rows {
		if row.State == matrix.Running {
			busy++
		}
	}
	return fmt.Sprintf("%s · %d of %d crossings busy", history.Clock(v.now.Sub(v.Live.Began).Seconds()), busy, v.Live.AtOnce)
}

// Start runs crossings. The command waits for their end.
func (v *View) Start(ctx context.Context, crossings []matrix.Crossing) tea.Cmd {
	ctx, cancel := context.WithCancel(ctx)
	preparing, finishing := context.WithCancel(ctx)
	live := &Live{Began: time.Now(), Cancel: cancel, Finishing: finishing, AtOnce: min(v.matrix().AtOnce, len(crossings))}
	v.Begin(live, crossings)
	r, text, earlier := v.session.App, v.session.Picked.Text, v.copyResults()
	return func() tea.Msg {
		defer cancel()
		ended := EndedMsg{Live: live}
		q := app.MatrixRequest{Crossings: crossings, Pick: text, Earlier: earlier,
			Started: func(key string, at *app.App, q app.Request) run.Sink {
				crossing := progress.New(q.Schedule, q.Workers, at.PastOf)
				crossing.Control, crossing.Cancel = q.Control, func(error) { cancel() }
				live.Steps.Put(Step{Key: key, Live: crossing})
				return crossing.Events.Put
			},
			Changed: func(one matrix.Result) { live.Steps.Put(Step{Key: one.Key(), Result: &one}) },
		}
		run, err := r.NewMatrixRun(preparing, q)
		if err == nil {
			err = preparing.Err()
		}
		if err != nil {
			ended.Err = err
			return ended
		}
		live.Steps.Put(Step{Run: run})
		defer context.AfterFunc(preparing, run.Finish)()
		ended.Results, ended.Err = run.Run(ctx)
		return ended
	}
}

// takeEnd takes the end of a run of crossings, and explains what failed once more.
func (v *View) takeEnd(msg EndedMsg) tea.Cmd {
	cmd := v.Follow(time.Now())
	msg.Live.Ended = true
	if msg.Results != nil {
		v.Then = msg.Results.Then
	}
	v.Place()
	r := v.session.App
	last := func() tea.Msg {
		if msg.Live.Run == nil {
			return nil
		}
		return ExplainedMsg{Live: msg.Live, Rows: r.Explained(msg.Live.Run.Explain())}
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
