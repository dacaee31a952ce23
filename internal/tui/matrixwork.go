package tui

import (
	"context"
	"errors"

	tea "charm.land/bubbletea/v2"

	"fernrelay/internal/progress"
	huntleg "fernrelay/internal/tui/hunt"
	"fernrelay/internal/tui/leg"
	matrixleg "fernrelay/internal/tui/matrix"
)

// startMatrix runs crossings beside the interface.
func (a *App) startMatrix(msg matrixleg.StartMsg) tea.Cmd {
	if a.working() {
		a.message = busyWords
		return nil
	}
	return tea.Batch(a.startTicking(), a.job(a.matrix.Start(a.ctx, msg.Crossings)))
}

// matrixEnded takes the end of a run of crossings, which the leg takes as well.
func (a *App) matrixEnded(msg matrixleg.EndedMsg) tea.Cmd {
	if !errors.Is(msg.Err, context.Canceled) {
		a.complain(msg.Err)
	}
	return tea.Batch(a.readAgain(), a.ledger.ReadAgain())
}

// huntCrossing hunts a test in a crossing.
func (a *App) huntCrossing(msg matrixleg.HuntCrossingMsg) tea.Cmd {
	if a.working() {
		a.message = busyWords
		return nil
	}
	r, ctx, workers := a.session.App, a.ctx, a.split.Workers()
	return func() tea.Msg {
		at, err := r.At(ctx, msg.Crossing)
		if err != nil {
			return leg.SayMsg(err.Error())
		}
		return matrixleg.HuntInMsg{At: at, ID: msg.ID, Workers: workers}
	}
}

func (a *App) huntIn(msg matrixleg.HuntInMsg) tea.Cmd {
	victims := matrixleg.TestsOf(msg.At.Catalog, msg.ID)
	if len(victims) == 0 || a.working() {
		return nil
	}
	hunts, wait := huntleg.Start(a.ctx, msg.At, victims, msg.Workers, false)
	a.leg = legHunt
	a.hunt.Show(hunts)
	return tea.Batch(a.job(wait), a.startTicking())
}

// watchCrossing shows the run of a crossing in Watch.
func (a *App) watchCrossing(live *progress.Run) {
	a.matrix.ShowOnly(live)
	a.watch.Show(live)
	a.leg = legWatch
}
