package tui

import (
	"context"
	"errors"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/internal/app"
)

// startMatrix runs crossings beside the interface.
func (a *App) startMatrix(msg startMatrixMsg) tea.Cmd {
	if a.working() {
		a.message = "something runs already: x cancels it"
		return nil
	}
	v := a.matrix
	ctx, cancel := context.WithCancel(a.ctx)
	preparing, finishing := context.WithCancel(ctx)
	live := &liveMatrix{began: time.Now(), cancel: cancel, finishing: finishing, atOnce: min(v.matrix().AtOnce, len(msg.crossings))}
	v.begin(live, msg.crossings)
	r, text, earlier := a.session.app, a.session.picked.text, v.copyResults()
	return tea.Batch(a.startTicking(), a.job(func() tea.Msg {
		defer cancel()
		ended := matrixEndedMsg{live: live}
		q := app.MatrixRequest{Crossings: msg.crossings, Pick: text, Earlier: earlier,
			Started: func(key string, at *app.App, q app.Request) run.Sink {
				crossing := newLiveRun(q.Schedule, q.Workers, at.PastOf)
				crossing.control, crossing.cancel = q.Control, func(error) { cancel() }
				live.steps.put(matrixStep{key: key, live: crossing})
				return crossing.events.put
			},
			Changed: func(one matrix.Result) { live.steps.put(matrixStep{key: one.Key(), result: &one}) },
		}
		run, err := r.NewMatrixRun(preparing, q)
		if err == nil {
			err = preparing.Err()
		}
		if err != nil {
			ended.err = err
			return ended
		}
		live.steps.put(matrixStep{run: run})
		defer context.AfterFunc(preparing, run.Finish)()
		ended.results, ended.err = run.Run(ctx)
		return ended
	}))
}

// matrixEnded takes the end of a run of crossings.
func (a *App) matrixEnded(msg matrixEndedMsg) tea.Cmd {
	v := a.matrix
	cmd := v.follow(time.Now())
	msg.live.ended = true
	if msg.results != nil {
		v.then = msg.results.Then
	}
	if !errors.Is(msg.err, context.Canceled) {
		a.complain(msg.err)
	}
	v.place()
	r := a.session.app
	last := func() tea.Msg {
		if msg.live.run == nil {
			return nil
		}
		return explainedMsg{msg.live, r.Explained(msg.live.run.Explain())}
	}
	return tea.Batch(cmd, last, a.readAgain(), a.ledger.readAgain())
}

// huntCrossing hunts a test in a crossing.
func (a *App) huntCrossing(msg huntCrossingMsg) tea.Cmd {
	if a.working() {
		a.message = "something runs already: x cancels it"
		return nil
	}
	r, ctx, workers := a.session.app, a.ctx, a.split.workers()
	return func() tea.Msg {
		at, err := r.At(ctx, msg.crossing)
		if err != nil {
			return sayMsg(err.Error())
		}
		return huntInMsg{at, msg.id, workers}
	}
}

func (a *App) huntIn(msg huntInMsg) tea.Cmd {
	victims := testsOf(msg.at.Catalog, msg.id)
	if len(victims) == 0 || a.working() {
		return nil
	}
	hunts, wait := startHunt(a.ctx, msg.at, victims, msg.workers, false)
	a.showHunts(hunts)
	return tea.Batch(a.job(wait), a.startTicking())
}

// watchCrossing shows the run of a crossing in Watch.
func (a *App) watchCrossing(live *liveRun) {
	for _, row := range a.matrix.rows {
		if row.live != nil {
			row.live.quiet = row.live != live
		}
	}
	a.watch.show(live)
	a.leg = legWatch
}
