package tui

import (
	"context"
	"errors"

	tea "charm.land/bubbletea/v2"

	"fernrelay/internal/app"
	huntleg "fernrelay/internal/tui/hunt"
	"fernrelay/internal/tui/leg"
)

// startSearch searches for victims among the picked tests.
func (a *App) startSearch() tea.Cmd {
	if a.working() {
		a.message = busyWords
		return nil
	}
	return tea.Batch(a.startTicking(), a.job(a.hunt.StartSearch(a.ctx, a.split.Workers())))
}

func (a *App) searchEnded(msg huntleg.SearchEndedMsg) tea.Cmd {
	hunts := a.hunt.EndSearch()
	if msg.Err == nil && len(hunts) == 0 {
		a.message = "every test had the same outcome as before"
	}
	a.huntEnded(huntleg.EndedMsg{Hunts: hunts, Err: msg.Err})
	return tea.Batch(a.change(leg.Change{Apply: (*app.App).Recall}), a.hunt.Recall(), a.ledger.ReadAgain())
}

func (a *App) huntEnded(msg huntleg.EndedMsg) {
	a.hunt.End(msg.Hunts, msg.Err)
	if !errors.Is(msg.Err, context.Canceled) {
		a.complain(msg.Err)
	}
}

// mend looks for a patch beside the interface.
func (a *App) mend(msg huntleg.MendMsg) tea.Cmd {
	if a.working() {
		a.message = busyWords
		return nil
	}
	return a.job(a.hunt.Mend(a.ctx, msg.Finding))
}
